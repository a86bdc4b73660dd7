"""Plates: separations kept or made, screens in step, traps, films; read back by other programs."""

from __future__ import annotations

import io
import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms
from reportlab.lib.colors import CMYKColor, CMYKColorSep, Color
from reportlab.pdfgen.canvas import Canvas

from greyanchor.cli import main
from greyanchor.core.artwork.page_plates import BLACK_OVER, KNOCK_OUT
from greyanchor.core.errors import BadInput
from greyanchor.core.separation.halftone.clustered import tile
from greyanchor.core.separation.halftone.rosettes import Asked, beats, drift_over_metre, in_threes, lattices
from greyanchor.core.separation.halftone.screens import Screen, parse_screen
from greyanchor.core.separation.plates.angles import beat_words, default_angles, matched, parse_angles
from greyanchor.core.separation.plates.making import PlateSettings, file_names, make_plates
from greyanchor.core.separation.plates.on_film import film_planes
from greyanchor.core.separation.plates.screening import overlap_of, screens_of
from greyanchor.core.separation.plates.separations import Art, open_separations
from greyanchor.core.separation.plates.trapping import Trap, Trapped
from greyanchor.core.separation.printing import Shape
from greyanchor.demo.artwork import crew_shirt

MM = 72.0 / 25.4
BROWN = (153, 112, 92)
SPOTS = ("Underbase White", "Beacon Yellow", "Buoy Red", "Kelp Green", "Deep Water Blue", "Outline Black")


@pytest.fixture(scope="module")
def shirt(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("art") / "shirt.pdf"
    path.write_bytes(crew_shirt())
    return path


@pytest.fixture(scope="module")
def colours(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """60 x 60 mm: cyan everywhere; black, magenta that overprints, half a spot, and grey that is black on
    it."""
    path = tmp_path_factory.mktemp("art") / "colours.pdf"
    page = Canvas(str(path), pagesize=(60 * MM, 60 * MM))
    for colour, x, y, over, side in (
        (CMYKColor(1, 0, 0, 0), 0, 0, False, 60),
        (CMYKColor(0, 0, 0, 1), 10, 10, False, 20),
        (CMYKColorSep(0, 0.5, 0.9, 0, spotName="Buoy Red", density=0.5), 10, 35, False, 20),
        (CMYKColor(0, 1, 0, 0), 35, 10, True, 20),
    ):
        page.setFillOverprint(over)
        page.setFillColor(colour)
        page.rect(x * MM, y * MM, side * MM, side * MM, fill=1, stroke=0)
    page.setFillOverprint(False)
    page.setFillGray(0)
    page.rect(35 * MM, 35 * MM, 20 * MM, 20 * MM, fill=1, stroke=0)
    page.save()
    return path


@pytest.fixture(scope="module")
def composite(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("art") / "composite.pdf"
    page = Canvas(str(path), pagesize=(60 * MM, 60 * MM))
    for colour, x, y, wide, tall in (
        (Color(0.6, 0.44, 0.36), 0, 0, 30, 60),
        (CMYKColor(0.2, 0.4, 0.6, 0.1), 30, 0, 30, 30),
        (CMYKColorSep(0, 0.5, 0.9, 0, spotName="Buoy Red", density=1), 30, 30, 30, 30),
    ):
        page.setFillColor(colour)
        page.rect(x * MM, y * MM, wide * MM, tall * MM, fill=1, stroke=0)
    page.save()
    return path


def amounts(art: Art, x: float, y: float, size: float = 60.0, dpi: float = 150.0) -> dict[str, float]:
    """Percent of each ink at a place, mm from the left and from the bottom."""
    with open_separations(art, dpi) as found:
        planes = found.planes(0, found.frame.window[3])
    at = planes[:, int((size - y) / 25.4 * dpi), int(x / 25.4 * dpi)] / 655.35
    return dict(zip(found.inks, at.round(1).tolist()))


def by_lcms2(profile: bytes) -> np.ndarray[Any, Any]:
    """Percent of C, M, Y and K of sRGB brown through a profile, relative colorimetric with black point."""
    way = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"),
        ImageCms.ImageCmsProfile(io.BytesIO(profile)),
        "RGB",
        "CMYK",
        ImageCms.Intent.RELATIVE_COLORIMETRIC,
        flags=ImageCms.Flags.BLACKPOINTCOMPENSATION,
    )
    one = ImageCms.applyTransform(Image.new("RGB", (1, 1), BROWN), way)
    assert one is not None
    return np.array(one.getpixel((0, 0))) / 2.55


def flat(tone: float, shape: tuple[int, int] = (1200, 1600)) -> np.ndarray[Any, Any]:
    return np.full(shape, round(tone * 655.35), np.uint16)


# --- screens that keep in step --------------------------------------------------------------------


@pytest.mark.parametrize("dpi", [600, 720, 1200, 1440, 2880])
@pytest.mark.parametrize("lines", [25, 45, 60, 85, 133])
def test_frequency_and_angle_are_true_and_the_rosette_does_not_drift(lines: float, dpi: float) -> None:
    for angles in ((15.0, 75.0, 0.0, 45.0), (7.5, 67.5, 82.5, 37.5)):
        asked = [Asked(lines, a) for a in angles]
        made = lattices(asked, dpi)
        assert max(abs(m.frequency / lines - 1.0) for m in made) < 0.005
        assert max(abs(m.angle - a) for m, a in zip(made, angles)) < 0.3
        [three] = in_threes(asked)
        assert drift_over_metre([made[i] for i in three], dpi) < 0.1
        assert not beats(made, dpi)


def test_a_screen_measured_on_the_plate_has_the_frequency_and_angle_that_it_says() -> None:
    """By the spectrum of its dots, not by the lattice that made them."""
    side, dpi = 2048, 1440.0
    asked = [Asked(60.0, a) for a in (15.0, 75.0, 45.0)]
    for ask, made in zip(asked, lattices(asked, dpi)):
        screen = Screen(parse_screen(f"am:lpi=60,angle={ask.angle:g}"), dpi, side, lattice=made)
        dots = screen.levels(flat(40.0, (side, side))).astype(float)
        window = np.hanning(side)
        power = np.abs(np.fft.rfft2((dots - dots.mean()) * window[:, None] * window[None]))
        y, x = np.unravel_index(int(power.argmax()), power.shape)
        patch = power[max(y - 2, 0) : y + 3, x - 2 : x + 3] ** 2
        rows, columns = np.mgrid[max(y - 2, 0) : y + 3, x - 2 : x + 3]
        fy, fx = (float((v * patch).sum() / patch.sum()) for v in (rows, columns))
        fy = fy - side if fy > side / 2 else fy
        frequency = np.hypot(fx, fy) / side * dpi
        angle = np.degrees(np.arctan2(fy, fx)) % 90.0
        assert abs(frequency / 60.0 - 1.0) < 0.005
        assert min(abs(angle - a) for a in (ask.angle, ask.angle + 90, ask.angle - 90)) < 0.3


@pytest.mark.parametrize(
    "screen",
    [
        *(f"am:lpi=60,angle=22.5,dot={dot}" for dot in ("round", "ellipse", "square", "line")),
        "am:lpi=85,centre=hole",
        "hybrid:lpi=85,smallest=6",
        "blue-noise",
        "blue-noise:smallest=3",
    ],
)
def test_flat_fields_have_the_tone_asked_for(screen: str) -> None:
    made = Screen(parse_screen(screen), 1440.0, 2048)
    for tone in (1.0, 3.0, 25.0, 50.0, 75.0, 97.0, 99.0):
        bits = np.unpackbits(made.packed(flat(tone, (2048, 2048))), axis=1)
        assert abs(100.0 * bits.mean() - tone) < 0.3


def test_a_rosette_has_a_dot_or_a_hole_in_its_middle() -> None:
    asked = [Asked(60.0, a) for a in (15.0, 75.0, 45.0)]
    for centre, most in (("dot", True), ("hole", False)):
        planes = []
        for place, made in enumerate(lattices(asked, 1440.0)):
            spec = parse_screen(f"am:lpi=60,centre={centre}")
            planes.append(Screen(spec, 1440.0, 8, place, lattice=made).levels(flat(40.0, (8, 8))))
        assert bool(np.all(np.array(planes)[:, :4, :4])) is most
        assert tile(lattices(asked, 1440.0)[0], "round", 0, centre == "hole").shape


def test_the_smallest_tone_and_the_highest_shadow_are_kept() -> None:
    made = Screen(parse_screen("am:lpi=60,least=4,most=95,break=1.5"), 1440.0, 1600)
    for tone, there in ((1.0, 0.0), (2.0, 4.0), (30.0, 30.0), (97.0, 95.0), (99.0, 100.0)):
        bits = np.unpackbits(made.packed(flat(tone)), axis=1)
        assert abs(100.0 * bits.mean() - there) < 0.2
    smallest = Screen(parse_screen("blue-noise:smallest=3"), 1440.0, 300).levels(flat(5.0, (300, 300)))
    blocks = smallest.reshape(100, 3, 100, 3).mean(axis=(1, 3))
    assert set(np.unique(blocks)) == {0.0, 1.0}  # no dot is smaller than three places


def test_screens_that_beat_are_named() -> None:
    near = [Asked(60.0, 45.0), Asked(60.0, 41.0)]
    [found] = beats(lattices(near, 1440.0), 1440.0)
    assert 5.0 < found.length_mm < 7.0  # 25.4 / (2 * 60 * sin 2 degrees) = 6.1 mm
    [words] = beat_words(["K", "Kelp"], lattices(near, 1440.0), 1440.0)
    assert words.startswith("K and Kelp beat: a pattern of 6")
    assert not beats(lattices([Asked(60.0, 45.0), Asked(60.0, 45.0)], 1440.0), 1440.0)
    apart = frozenset([frozenset(("K", "Kelp"))])
    assert beat_words(["K", "Kelp"], lattices(near, 1440.0), 1440.0, apart) == []
    other = lattices([Asked(60.0, 45.0), Asked(63.0, 45.0)], 1440.0)
    assert beats(other, 1440.0)[0].length_mm == pytest.approx(25.4 / 3.0, rel=0.1)


def test_angles_of_further_inks_are_those_of_inks_they_do_not_meet() -> None:
    assert default_angles(list("CMYK"), 45.0) == {"C": 15.0, "M": 75.0, "Y": 0.0, "K": 45.0}
    inks = ["A", "B", "D", "E", "F"]
    overlap = np.full((5, 5), 0.2)
    overlap[4, 2] = 0.0
    found = default_angles(inks, 45.0, overlap)
    assert len({found[i] for i in "ABDE"}) == 4 and found["F"] == found["D"]
    assert matched({"cyan": 20.0}, list("CMYK")) == {"C": 20.0}
    with pytest.raises(BadInput, match="no plate of O; there are C, M, Y, K"):
        matched({"O": 1.0}, list("CMYK"))
    with pytest.raises(BadInput, match="C=15,M=75"):
        parse_angles("C:15")


# --- separations --------------------------------------------------------------------------------------


def test_art_in_inks_stays_as_it_is(colours: Path) -> None:
    art = Art(colours)
    assert amounts(art, 5, 5) == {"C": 100.0, "M": 0.0, "Y": 0.0, "K": 0.0, "Buoy Red": 0.0}
    assert amounts(art, 20, 20) == {"C": 0.0, "M": 0.0, "Y": 0.0, "K": 100.0, "Buoy Red": 0.0}
    assert amounts(art, 20, 45)["Buoy Red"] == pytest.approx(50.0, abs=0.4) and amounts(art, 20, 45)["C"] == 0
    assert amounts(art, 45, 45)["K"] == 100.0


def test_overprint_and_knockout_as_asked(colours: Path) -> None:
    over = Art(colours, overprints=BLACK_OVER)
    for x, y in ((20, 20), (45, 45)):
        assert amounts(over, x, y)["C"] == 100.0 and amounts(over, x, y)["K"] == 100.0
    assert amounts(over, 20, 45)["C"] == 0.0  # the spot knocks out as before
    assert amounts(over, 45, 20) == amounts(Art(colours), 45, 20)  # and magenta as the file says
    assert amounts(Art(colours, overprints=KNOCK_OUT), 20, 20)["C"] == 0.0


def test_spot_colours_stay_or_fold(colours: Path) -> None:
    folded = amounts(Art(colours, spots=()), 20, 45)
    assert "Buoy Red" not in folded
    assert folded["M"] == pytest.approx(25.0, abs=0.6) and folded["Y"] == pytest.approx(45.0, abs=0.6)


def test_what_is_r_g_b_goes_through_the_press(composite: Path, printer_profile: bytes) -> None:
    art = Art(composite, profile=printer_profile)
    brown, wanted = amounts(art, 10, 10), by_lcms2(printer_profile)
    for ink, value in zip("CMYK", wanted):
        assert brown[ink] == pytest.approx(float(value), abs=1.5)
    assert amounts(art, 45, 20) == pytest.approx(
        {"C": 20.0, "M": 40.0, "Y": 60.0, "K": 10.0, "Buoy Red": 0.0}, abs=0.4
    )
    assert amounts(art, 45, 45)["Buoy Red"] == 100.0
    with pytest.raises(BadInput, match="composite.pdf.*name the profile of the press"):
        amounts(Art(composite), 10, 10)


def test_a_picture_goes_through_the_press_as_a_page_does(tmp_path: Path, printer_profile: bytes) -> None:
    path = tmp_path / "red.png"
    Image.fromarray(np.full((60, 60, 3), BROWN, np.uint8)).save(path, dpi=(100, 100))
    art = Art(path, profile=printer_profile)
    with open_separations(art, 100.0) as found:
        seen = found.planes(0, 60)[:, 30, 30] / 655.35
    assert np.abs(seen - by_lcms2(printer_profile)).max() < 1.5
    with pytest.raises(BadInput, match="it is RGB"), open_separations(Art(path), 100.0):
        pass


def test_a_tiff_of_named_inks_is_taken_by_name(tmp_path: Path) -> None:
    path = tmp_path / "inks.tif"
    values = np.zeros((40, 40, 6), np.uint16)
    values[..., 4], values[..., 0] = 30_000, 65_535
    names = "Cyan\0Magenta\0Yellow\0Black\0Buoy Red\0Kelp Green"
    tags = [(333, "s", 0, names, True), (334, "H", 1, 6, True)]
    tifffile.imwrite(
        path, values, photometric="separated", extratags=tags, extrasamples=[0, 0], resolution=(200, 200)
    )
    with open_separations(Art(path), 200.0) as found:
        assert found.inks == ("C", "M", "Y", "K", "Buoy Red", "Kelp Green")
        assert found.planes(0, 40)[:, 9, 9].tolist() == [65_535, 0, 0, 0, 30_000, 0]
    unnamed = tmp_path / "unnamed.tif"
    tifffile.imwrite(unnamed, values, photometric="separated", extrasamples=[0, 0], resolution=(200, 200))
    with (
        pytest.raises(BadInput, match="unnamed.tif.*6 inks and names 0"),
        open_separations(Art(unnamed), 200),
    ):
        pass


# --- traps -------------------------------------------------------------------------------------------


def test_a_lighter_ink_reaches_under_a_darker_one_and_nowhere_else() -> None:
    planes = np.zeros((2, 60, 90), np.uint16)
    planes[0, :, 10:40] = 65_535  # yellow, with blue beside it on the right
    planes[1, :, 40:70] = 65_535
    trap = Trap(spread=0.5, lightness={"Yellow": 89.0, "Blue": 30.0})
    made = Trapped(lambda a, b: planes[:, a:b], ["Yellow", "Blue"], 60, trap, 720.0)
    seen = np.concatenate([made(0, 25), made(25, 60)], axis=1)
    assert (seen[1] == planes[1]).all()
    assert (seen[0, :, 10:45] == 65_535).all()  # five dots further
    assert (seen[0, :, 45:] == 0).all() and (seen[0, :, :10] == 0).all()
    photo = np.linspace(0, 65_535, 90).astype(np.uint16)[None, None].repeat(2, 0).repeat(60, 1)
    soft = Trapped(lambda a, b: photo[:, a:b], ["Yellow", "Blue"], 60, trap, 720.0)
    assert (soft(0, 60) == photo).all()  # pictures are left alone


def test_an_underbase_draws_back() -> None:
    planes = np.zeros((1, 60, 60), np.uint16)
    planes[0, 10:50, 10:50] = 65_535
    made = Trapped(lambda a, b: planes[:, a:b], ["White"], 60, Trap(choke={"White": 0.4}), 720.0)
    seen = np.concatenate([made(0, 16), made(16, 60)], axis=1)[0]
    assert (seen[14:46, 14:46] == 65_535).all() and seen.sum() == 65_535 * 32 * 32
    with pytest.raises(BadInput, match="0..5"):
        Trap(spread=9.0)


# --- plates ------------------------------------------------------------------------------------------


def made_plates(art: Art, folder: Path, dpi: float = 360.0, **more: Any) -> Any:
    with open_separations(art, dpi) as found:
        together = overlap_of(art, found.inks)
        screens = screens_of(found.inks, parse_screen("am:lpi=45"), None, together)
        return make_plates(found, PlateSettings(dpi, screens, **more), folder)


def ink_of(path: Path) -> np.ndarray[Any, Any]:
    with tifffile.TiffFile(path) as file:
        page: Any = file.pages[0]
        assert page.photometric == 0 and page.bitspersample == 1  # WhiteIsZero: 1 is ink
        return np.asarray(page.asarray()).astype(bool)


def test_a_six_spot_shirt_is_six_plates_in_register_with_the_composite(shirt: Path, tmp_path: Path) -> None:
    art = Art(shirt)
    done = made_plates(art, tmp_path / "plates")
    assert {p.ink for p in done.plates} == set(SPOTS) and set(done.empty) == set("CMYK")
    assert len({round(p.angle) for p in done.plates}) == 4 and not done.warnings
    with open_separations(art, 360.0) as found:
        asked = found.planes(0, found.frame.window[3]) / 65535.0
    block = 24  # three cells: their dots are the tone
    for plate in done.plates:
        seen = ink_of(plate.path).astype(float)
        want = asked[found.inks.index(plate.ink)]
        assert seen.shape == want.shape
        rows, columns = (n // block * block for n in seen.shape)
        tones = [
            v[:rows, :columns].reshape(rows // block, block, -1, block).mean(axis=(1, 3))
            for v in (seen, want)
        ]
        assert np.abs(tones[0] - tones[1]).mean() < 0.012
        shifted = np.abs(np.roll(tones[0], 1, axis=1) - tones[1]).mean()
        assert shifted > 1.5 * np.abs(tones[0] - tones[1]).mean()  # a block aside is worse: in register


def test_four_colours_are_read_by_libtiff(colours: Path, tmp_path: Path) -> None:
    done = made_plates(Art(colours), tmp_path / "plates")
    tool = shutil.which("tiffinfo")
    for plate in done.plates:
        if tool:
            said = subprocess.run([tool, plate.path], capture_output=True, text=True, check=True)
            assert "min-is-white" in said.stdout and "Bits/Sample: 1" in said.stdout
            assert f"PageName: {plate.ink}" in said.stdout and "360" in said.stdout
        with Image.open(plate.path) as shown:  # any viewer shows ink black
            assert shown.mode == "1" and shown.getpixel((0, 0)) in (0, 255)
    cyan = next(p for p in done.plates if p.ink == "C")
    assert cyan.share == pytest.approx((60 * 60 - 4 * 400) / 3600.0, abs=0.003)


def test_negative_mirrored_and_marked(colours: Path, tmp_path: Path) -> None:
    plain = made_plates(Art(colours), tmp_path / "plain")
    turned = made_plates(Art(colours), tmp_path / "turned", mirrored=True)
    negative = made_plates(Art(colours), tmp_path / "negative", negative=True)
    marked = made_plates(Art(colours), tmp_path / "marked", words="Harbour job")
    for one, other, third, film in zip(plain.plates, turned.plates, negative.plates, marked.plates):
        dots = ink_of(one.path)
        assert (ink_of(other.path) == dots[:, ::-1]).all()
        assert (ink_of(third.path) == ~dots).all()
        seen = ink_of(film.path)
        edge = (seen.shape[1] - dots.shape[1]) // 2
        assert edge == round(14.0 / 25.4 * 360)
        inside = seen[edge:-edge, edge:-edge]
        assert abs(inside.mean() - dots.mean()) < 0.004
        assert seen[:edge].any() and seen[-edge:].any()
    films = [ink_of(p.path) for p in marked.plates]
    middle = films[0].shape[1] // 2
    targets = [f[:edge, middle - 60 : middle + 60] for f in films]
    assert all((t == targets[0]).all() for t in targets) and targets[0].any()


def test_the_step_wedge_has_the_films_dots(colours: Path, tmp_path: Path) -> None:
    half = np.linspace(0, 65_535, 65_536).astype(np.uint16) // 2
    done = made_plates(Art(colours), tmp_path / "a", words="x", film_curve=half)
    seen = ink_of(done.plates[0].path)
    edge = round(14.0 / 25.4 * 360)
    bottom = seen.shape[0] - round(5.5 / 25.4 * 360)
    step = round(5.0 / 25.4 * 360)
    row = seen[bottom - 24 : bottom, edge : edge + 4 * step]  # 0, 20, 60 and 95 % have room
    tones = [float(row[:, i * step : (i + 1) * step].mean()) for i in range(4)]
    assert tones == pytest.approx([0.0, 0.1, 0.3, 0.475], abs=0.05)


def test_nothing_is_left_of_plates_that_could_not_be_made(tmp_path: Path) -> None:
    path = tmp_path / "blank.pdf"
    page = Canvas(str(path), pagesize=(100, 100))
    page.showPage()
    page.save()
    with pytest.raises(BadInput, match="blank.pdf.*the page is empty"):
        made_plates(Art(path), tmp_path / "plates")
    assert not (tmp_path / "plates").exists()
    assert file_names(["Red/1", "Red:1", "red-1"]) == ["Red-1", "Red-1 2", "red-1 3"]


def test_a_plate_on_film_holds_as_much_ink_as_is_opaque(colours: Path, tmp_path: Path) -> None:
    done = made_plates(Art(colours, Shape(1, 40.0)), tmp_path / "plates")
    plate = done.plates[0]
    made = film_planes(plate.path, {"K": 0.8, "Y": 0.2}, 360.0, tmp_path / "film.tif")
    dots = ink_of(plate.path)
    with tifffile.TiffFile(made.path) as file:
        planes = [np.asarray(p.asarray()).astype(bool) for p in file.pages]
    for plane, amount in zip(planes, (0.8, 0.2)):
        assert not (plane & ~dots).any()
        assert plane.sum() / dots.sum() == pytest.approx(amount, abs=0.003)
    assert made.ink_ml["K"] == pytest.approx(4.0 * made.ink_ml["Y"], rel=0.02)
    with pytest.raises(BadInput, match="made for 360 dpi, the film mode prints 1440"):
        film_planes(plate.path, {"K": 1.0}, 1440.0, tmp_path / "other.tif")


# --- the command -----------------------------------------------------------------------------------------


def command(*arguments: str) -> tuple[int, str, str]:
    from click.testing import CliRunner

    found = CliRunner().invoke(main, ["plates", *arguments])
    return found.exit_code, found.stdout, found.stderr


def test_the_command_writes_a_plate_an_ink(tmp_path: Path) -> None:
    path = tmp_path / "flat.tif"
    values = np.zeros((720, 720, 4), np.uint8)
    values[..., :] = [64, 128, 0, 191]
    tifffile.imwrite(path, values, photometric="separated", resolution=(360, 360))
    code, said, _ = command(
        str(path), "-o", str(tmp_path / "out"), "--screen", "am:lpi=60", "--resolution", "720",
        "--angles", "C=20,K=50", "--json",
    )  # fmt: skip
    assert code == 0
    facts = json.loads(said)
    assert [p["file"] for p in facts["plates"]] == ["C.tif", "M.tif", "Y.tif", "K.tif"]
    assert [round(p["angle"]) for p in facts["plates"]] == [20, 75, 0, 50]
    for plate, tone in zip(facts["plates"], (64, 128, 0, 191)):
        dots = ink_of(tmp_path / "out" / plate["file"])
        assert dots.shape == (1440, 1440)
        assert abs(100.0 * dots.mean() - tone / 2.55) < 0.3


def test_the_command_says_what_is_wrong_in_a_line(composite: Path, tmp_path: Path) -> None:
    rest = ("-o", str(tmp_path / "out"), "--screen", "am:lpi=60", "--resolution", "360")
    for arguments, words in (
        ((str(composite), *rest), "name the profile of the press"),
        ((str(tmp_path / "none.pdf"), *rest), "No such file"),
        ((str(composite), *rest[:2], "--screen", "star", "--resolution", "360"), "no screen 'star'"),
        ((str(composite), *rest, "--angles", "C"), "C=15,M=75"),
        ((str(composite), *rest[:4], "--resolution", "1"), "10 to 9600"),
        ((str(composite), *rest, "--fold", "Nothing"), "no spot colour 'Nothing'"),
    ):
        code, _, said = command(*arguments)
        assert code == 2 and words in said and len(said.strip().splitlines()) == 1
    assert not (tmp_path / "out").exists() or not list((tmp_path / "out").iterdir())
