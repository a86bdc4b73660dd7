"""Artwork to print files: exact to the pixel, whole or not at all, in bounded memory."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import pyvips
import tifffile
from click.testing import CliRunner
from PIL import Image

from greyanchor.cli import main
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.halftone.screens import parse_screen
from greyanchor.core.separation.link import ModeInks
from greyanchor.core.separation.printing import Order, Shape, pixels_of, print_to_file
from tests import lcms

RUN = CliRunner()


@pytest.fixture(scope="session")
def profile_file(printer_profile: bytes, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("profile") / "press.icc"
    path.write_bytes(printer_profile)
    return path


def planes(path: Path) -> np.ndarray:
    """Dots (inks, rows, columns) of a print file, read by libtiff through Pillow; 1 is ink."""
    with Image.open(path) as file:
        pages = []
        for i in range(file.n_frames):
            file.seek(i)
            assert file.tag_v2[262] == 0, "white is zero"
            pages.append(np.array(file.convert("L")) < 128)
    return np.array(pages)


def test_planes_before_halftoning_are_those_of_a_colour_engine(photo, profile_file, printer_profile) -> None:
    out = photo.with_name("planes.tif")
    done = RUN.invoke(
        main, ["prepare", str(photo), "-o", str(out), "--profile", str(profile_file), "--contone", "--bits",
               "16", "--intent", "perceptual", "--json"]
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    facts = json.loads(done.output)
    assert {"width", "height", "resolution", "inks", "ink_ml", "area_within_1", "area_within_3",
            "area_beyond_3", "seconds", "peak_mb", "megapixels_per_second"} <= set(facts)  # fmt: skip
    assert (facts["width"], facts["height"], facts["inks"]) == (400, 300, list("CMYK"))
    got = pyvips.Image.new_from_file(str(out)).numpy()
    asked = np.array(Image.open(photo)).reshape(-1, 3).astype(np.uint16) * 257
    through = lcms.Link(None, printer_profile, (3, 4), "perceptual", True)(asked).reshape(300, 400, 4)
    off = np.abs(got.astype(float) - through) / 655.35
    assert off.max() <= 0.4 and off.mean() <= 0.05
    assert facts["area_within_3"] + facts["area_beyond_3"] == pytest.approx(1.0, abs=2e-4)
    share = got.reshape(-1, 4).mean(axis=0) / 65535
    area = 400 * 300 * (0.0254 / 100) ** 2
    assert facts["ink_ml"]["C"] == pytest.approx(9.0 * area * share[0], rel=1e-3)


def test_a_print_file_has_a_page_for_each_ink(photo, profile_file) -> None:
    out = photo.with_name("print.tif")
    done = RUN.invoke(
        main, ["prepare", str(photo), "-o", str(out), "--profile", str(profile_file), "--resolution", "300",
               "--width", "50.8"]
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    with tifffile.TiffFile(out) as file:
        assert [p.tags["PageName"].value for p in file.pages] == list("CMYK")
        first = file.pages[0]
        assert (first.shape, first.bitspersample) == ((450, 600), 1)
        assert first.tags["PhotometricInterpretation"].value == 0
        assert first.tags["XResolution"].value == (300000, 1000) and first.tags["ResolutionUnit"].value == 2
        ticket = json.loads(first.tags["ImageDescription"].value)
    ink_ml = ticket.pop("ink_ml")
    assert ticket == {"screen": "blue-noise", "inks": list("CMYK")}
    dots = planes(out)
    counted = {c: 9.0 * 0.0508 * 0.0381 * float(dots[i].mean()) for i, c in enumerate("CMYK")}
    assert ink_ml == pytest.approx(counted, rel=0.02, abs=1e-4)
    assert dots.shape == (4, 450, 600)
    contone = photo.with_name("c.tif")
    RUN.invoke(main, ["prepare", str(photo), "-o", str(contone), "--profile", str(profile_file), "--contone"])
    amounts = pyvips.Image.new_from_file(str(contone)).numpy().reshape(-1, 4).mean(axis=0) / 255
    assert np.abs(dots.mean(axis=(1, 2)) - amounts).max() < 0.004


def order(profile: bytes, **changes) -> Order:
    facts = {"screen": parse_screen("blue-noise"), "resolution": 360.0, "shape": Shape(width_mm=60.0)}
    return Order(ModeInks(icc.loads(profile)), **{**facts, **changes})


def tones(path: Path, art: Path, asked: Order) -> np.ndarray:
    print_to_file(art, asked, path)
    return pyvips.Image.new_from_file(str(path)).numpy()


@pytest.mark.parametrize("resolution", [90.0, 150.0, 360.0, 720.0])
def test_panels_and_test_pieces_are_the_whole_cut_up(photo, printer_profile, resolution) -> None:
    """Exact to the pixel: what is cut from the whole before halftoning is what is prepared alone."""
    base = {"screen": None, "bits": 16, "resolution": resolution}
    whole = tones(photo.with_name("w.tif"), photo, order(printer_profile, **base))
    for crop in ((0.0, 0.0, 0.5, 1.0), (0.5, 0.0, 0.5, 1.0), (0.31, 0.27, 0.13, 0.4)):
        shape = Shape(width_mm=60.0, crop=crop)
        part = tones(photo.with_name("p.tif"), photo, order(printer_profile, **{**base, "shape": shape}))
        left, top, columns, rows = pixels_of(crop, whole.shape[1], whole.shape[0])
        asked = whole[top : top + rows, left : left + columns]
        assert part.shape == asked.shape
        assert np.abs(part.astype(int) - asked.astype(int)).max() <= 30, "rounding of 16 bits alone"


def test_panels_meet_without_a_gap() -> None:
    edges = [pixels_of((i / 7, 0.0, 1 / 7, 1.0), 1003, 50) for i in range(7)]
    assert [e[0] for e in edges[1:]] == [e[0] + e[2] for e in edges[:-1]]
    assert edges[0][0] == 0 and edges[-1][0] + edges[-1][2] == 1003


def test_turned_and_mirrored(photo, printer_profile) -> None:
    base = {"screen": None, "bits": 16, "resolution": None}
    plain = tones(photo.with_name("a.tif"), photo, order(printer_profile, **base, shape=Shape()))
    for quarters, mirrored in ((1, False), (2, True), (3, True)):
        shape = Shape(quarters=quarters, mirrored=mirrored)
        turned = tones(photo.with_name("b.tif"), photo, order(printer_profile, **base, shape=shape))
        asked = np.rot90(plain, -quarters)
        assert np.array_equal(turned, asked[:, ::-1] if mirrored else asked)
    crop = Shape(quarters=1, mirrored=True, crop=(0.25, 0.5, 0.5, 0.25))
    part = tones(photo.with_name("c.tif"), photo, order(printer_profile, **base, shape=crop))
    assert np.array_equal(part, np.rot90(plain[150:225, 100:300], -1)[:, ::-1])


def test_a_killed_run_goes_on_and_ends_the_same(photo, printer_profile) -> None:
    for screen in ("blue-noise", "diffusion", "am:lpi=50,angle=30"):
        asked = order(printer_profile, screen=parse_screen(screen), resolution=1200.0)
        whole, broken = photo.with_name("whole.tif"), photo.with_name("broken.tif")
        print_to_file(photo, asked, whole, {"job": 7})
        broken.unlink(missing_ok=True)

        def stop(share: float) -> None:
            if share > 0.4:
                raise KeyboardInterrupt

        with pytest.raises(KeyboardInterrupt):
            print_to_file(photo, asked, broken, {"job": 7}, stop)
        assert not broken.exists() and broken.with_name("broken.tif.part").exists()
        done = print_to_file(photo, asked, broken, {"job": 7}, resume=True)
        assert done.pixels < done.width * done.height, "it did not begin again"
        assert np.array_equal(planes(broken), planes(whole))
        assert not list(photo.parent.glob("broken.tif.*"))


def test_another_job_does_not_go_on_with_it(photo, printer_profile) -> None:
    asked, out = order(printer_profile, resolution=1200.0), photo.with_name("x.tif")

    def stop(share: float) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        print_to_file(photo, asked, out, {"job": 1}, stop)
    done = print_to_file(photo, asked, out, {"job": 2}, resume=True)
    assert done.pixels == done.width * done.height


def test_a_file_that_cannot_be_read_to_its_end_leaves_nothing(photo, printer_profile) -> None:
    cut = photo.with_name("cut.png")
    cut.write_bytes(photo.read_bytes()[:20000])
    with pytest.raises(BadInput, match=r"cut\.png"):
        print_to_file(cut, order(printer_profile), photo.with_name("y.tif"))
    assert not list(photo.parent.glob("y.tif*"))


def test_a_large_file_has_large_offsets(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("greyanchor.core.printing.plane_file._CLASSIC", 1000)
    rows = np.random.default_rng(1).integers(0, 256, (64, 20)).astype(np.uint8)
    writer = PlaneWriter(tmp_path / "big.tif", PlaneLayout(160, 64, ("C", "M"), 1, 600.0), 16, {"a": 1})
    for top in range(0, 64, 16):
        writer.write([rows[top : top + 16], ~rows[top : top + 16]])
    writer.close()
    with tifffile.TiffFile(tmp_path / "big.tif") as file:
        assert file.is_bigtiff
        assert np.array_equal(np.packbits(file.pages[1].asarray() > 0, axis=1), ~rows)


def test_memory_is_bounded_whatever_the_length(tmp_path: Path, profile_file: Path) -> None:
    """A banner in a process of its own: 0.4 x 3 m at 300 dpi, from a file that is small; one of 1.5 x 20 m is
    for the bench.
    """
    import pyvips as vips

    art = tmp_path / "banner.tif"
    base = vips.Image.gaussnoise(600, 4500, mean=128, sigma=40).cast("uchar")
    base.bandjoin([base.flip("horizontal"), base.flip("vertical")]).copy(
        interpretation="srgb", xres=38 / 25.4, yres=38 / 25.4
    ).tiffsave(str(art), compression="deflate", tile=False)
    program = (
        "from greyanchor.cli import main; "
        f"main(['prepare', {str(art)!r}, '-o', {str(tmp_path / 'b.tif')!r},"
        f" '--profile', {str(profile_file)!r},"
        " '--resolution', '300', '--json'], standalone_mode=False)"
    )
    # loops that are compiled on the way would count as well
    subprocess.run([sys.executable, "-m", "greyanchor.core.separation.warm"], check=True)
    said = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    facts = json.loads(said.stdout)
    assert facts["width"] * facts["height"] > 150_000_000
    assert facts["peak_mb"] < 600


def test_halftone_makes_a_plane_pixel_for_pixel(tmp_path: Path) -> None:
    grey = np.tile(np.linspace(255, 0, 512).astype(np.uint8), (256, 1))
    Image.fromarray(grey).save(tmp_path / "g.tif")
    for screen in ("blue-noise", "diffusion", "am:lpi=60,angle=45,dot=round", "hybrid:lpi=60"):
        done = RUN.invoke(
            main, ["halftone", str(tmp_path / "g.tif"), "-o", str(tmp_path / "h.tif"), "--screen", screen,
                   "--resolution", "600"]
        )  # fmt: skip
        assert done.exit_code == 0, done.output
        dots = planes(tmp_path / "h.tif")
        assert dots.shape == (1, 256, 512)
        assert abs(dots.mean() - (1 - grey.mean() / 255)) < 0.003


@pytest.mark.parametrize(
    ("options", "says"),
    [
        ([], "name what it is printed with"),
        (["--profile", "P", "--halftone", "fancy"], "no screen 'fancy'"),
        (["--profile", "P", "--contone", "--halftone", "diffusion"], "before halftoning"),
        (["--profile", "P", "--resolution", "1"], "1 dpi cannot be printed"),
        (["--profile", "P", "--width", "0"], "0 mm cannot be printed"),
        (["--profile", "P", "--page", "2"], "one page"),
        (["--profile", "nowhere.icc"], "nowhere.icc"),
        (["--mode", "nowhere.zip"], "nowhere.zip"),
        (["--profile", "P", "--source", "P"], "the source profile is of CMYK, the picture is RGB"),
    ],
)
def test_what_cannot_be_prepared_is_said_in_one_line(photo, profile_file, options, says) -> None:
    given = [str(profile_file) if o == "P" else o for o in options]
    done = RUN.invoke(main, ["prepare", str(photo), "-o", str(photo.with_name("z.tif")), *given])
    assert done.exit_code == 2 and says in done.output
    assert done.output.count("\n") == 1
    assert not photo.with_name("z.tif").exists()


def test_a_margin_is_bare_and_moves_nothing_but_the_picture(photo, printer_profile) -> None:
    for screen in ("am:lpi=50,angle=30", "blue-noise"):
        spec = parse_screen(screen)
        plain, framed = photo.with_name("plain.tif"), photo.with_name("framed.tif")
        print_to_file(photo, order(printer_profile, screen=spec), plain)
        shape = Shape(width_mm=60.0, margin_mm=5.0)
        done = print_to_file(photo, order(printer_profile, screen=spec, shape=shape), framed)
        inner, whole, edge = planes(plain), planes(framed), round(5.0 / 25.4 * 360)
        assert whole.shape[1:] == tuple(n + 2 * edge for n in inner.shape[1:])
        assert (done.width, done.height) == whole.shape[:0:-1]
        middle = whole[:, edge:-edge, edge:-edge]
        assert whole.sum() == middle.sum(), "the margin is bare"
        assert np.abs(middle.mean(axis=(1, 2)) - inner.mean(axis=(1, 2))).max() < 0.003
