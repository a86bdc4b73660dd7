"""Spot colours as planes of their own, and pictures on a page apart from the rest."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pikepdf
import pytest
from PIL import Image
from reportlab.lib.colors import CMYKColor, CMYKColorSep
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.artwork.pages import render_page
from greyanchor.core.artwork.pdf_inspection import spots_of_page
from greyanchor.core.artwork.pictures import Picture, layers_text, open_layers
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.light_split import LightSplit
from greyanchor.core.colour.colorimetry import delta_e_2000, lab_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.separation.conversion import Conversion
from greyanchor.core.separation.default_sources import default_source
from greyanchor.core.separation.layers import LayeredConversion, LayeredLink
from greyanchor.core.separation.link import DeviceLink, LinkSettings, ModeInks, Nudge, on_paper
from greyanchor.core.separation.printing import Order, print_to_file
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.separation.spots import SpotInk, nudged, spot_ink
from greyanchor.core.verification.spots import SpotColour
from tests.core.separation.conftest import hostile
from tests.lcms import device_to_lab

RECIPE = np.array([0.05, 0.9, 0.75, 0.02])
FULL = 65535.0


@pytest.fixture(scope="session")
def buoy(mode: ModeInks) -> SpotInk:
    return spot_ink(SpotColour("Buoy red", (46.0, 62.0, 38.0)), RECIPE, ProfileColour(mode.profile))


@pytest.fixture
def page_file(tmp_path: Path) -> Path:
    """A picture, text in R G B black, two spot colours of odd names, black overprinting one of them."""
    Image.fromarray(np.full((40, 40, 3), 90, np.uint8)).save(tmp_path / "grey.png")
    made = Canvas(str(tmp_path / "page.pdf"), pagesize=(300, 100), invariant=1)
    made.drawImage(str(tmp_path / "grey.png"), 0, 0, 60, 100)
    made.setFillColorRGB(0, 0, 0)
    made.rect(70, 0, 30, 100, stroke=0, fill=1)
    for x, name, tint in ((110, "Bo\u00fcée (rouge)", 1.0), (180, "Rose", 0.5)):
        made.setFillColor(CMYKColorSep(0.1, 0.6, 0.3, 0.0, spotName=name, density=tint))
        made.rect(x, 0, 60, 100, stroke=0, fill=1)
    made.setFillOverprint(True)
    made.setFillColor(CMYKColor(0, 0, 0, 0.5))
    made.rect(140, 40, 60, 20, stroke=0, fill=1)
    made.save()
    return tmp_path / "page.pdf"


needs_ghostscript = pytest.mark.skipif(shutil.which("gs") is None, reason="Ghostscript is not installed")


@needs_ghostscript
def test_known_spots_are_planes_and_others_what_stands_in_for_them(page_file: Path, tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    names = spots_of_page(page_file, 1)
    assert names == ["Bo\u00fcée (rouge)", "Rose"], "in any alphabet"
    picture = render_page(page_file, 1, tmp_path / "a", 72.0, spots=names[:1], tagged=True).picture()
    assert (picture.kind, picture.spots, picture.tagged) == ("cmyk", (names[0],), True)
    pixels = picture.pixels().astype(int)
    assert pixels[10, 130].tolist() == [0, 0, 0, 0, 255, 0], "the known one has a plane of its own"
    rest = pixels[10, 230]
    assert np.abs(rest[:4] - 255 * 0.5 * np.array([0.1, 0.6, 0.3, 0.0])).max() <= 2 and rest[4] == 0
    assert np.abs(pixels[50, 150] - [0, 0, 0, 128, 255, 0]).max() <= 1, "what overprints leaves it"
    assert pixels[50, 30, 5] == 255 and pixels[50, 85, 5] == 0, "the picture is tagged, the bar is not"


@needs_ghostscript
def test_a_colour_space_of_several_inks_has_their_planes(tmp_path: Path) -> None:
    path = tmp_path / "n.pdf"
    with pikepdf.new() as pdf:
        pdf.add_blank_page(page_size=(100, 100))
        function = pikepdf.Stream(pdf, b"{ pop pop 0 .5 .5 0 }")
        function.FunctionType, function.Domain = 4, [0, 1, 0, 1]
        function.Range = [0, 1, 0, 1, 0, 1, 0, 1]
        inks = pikepdf.Array([pikepdf.Name("/Rose"), pikepdf.Name("/Slate")])
        space = pikepdf.Array([pikepdf.Name("/DeviceN"), inks, pikepdf.Name("/DeviceCMYK"), function])
        pdf.pages[0].Resources = pikepdf.Dictionary(ColorSpace=pikepdf.Dictionary(N=space))
        pdf.pages[0].Contents = pikepdf.Stream(pdf, b"/N cs 1 .25 scn 0 0 100 100 re f")
        pdf.save(path)
    (tmp_path / "a").mkdir()
    drawn = render_page(path, 1, tmp_path / "a", 72.0, spots=["Rose", "Slate"]).picture().pixels()
    assert np.abs(drawn[50, 50].astype(int) - [0, 0, 0, 0, 255, 64]).max() <= 1


def test_a_layered_file_comes_back(tmp_path: Path) -> None:
    import pyvips

    data = np.random.default_rng(1).integers(0, 256, (50, 60, 6), dtype=np.uint8)
    image = pyvips.Image.new_from_array(data).copy(interpretation="cmyk", xres=10.0, yres=10.0)
    picture = Picture(image, "cmyk", None, 254.0, True, (), ("Rose",), True)
    image.set_type(pyvips.GValue.gstr_type, "image-description", layers_text(picture))
    image.tiffsave(str(tmp_path / "l.tif"), tile=True, pyramid=True, compression="deflate")
    again = open_layers(tmp_path / "l.tif")
    assert (again.kind, again.spots, again.tagged, round(again.ppi)) == ("cmyk", ("Rose",), True, 254)
    assert (again.pixels() == data).all()
    data[0].tofile(tmp_path / "junk.tif")
    with pytest.raises(BadInput, match="junk.tif"):
        open_layers(tmp_path / "junk.tif")


def test_tints_follow_the_standard_s_tone_value(mode: ModeInks, buoy: SpotInk) -> None:
    """ISO 20654 on what lcms2 says that the recipe's tints print."""
    assert np.abs(buoy.device[-1] - RECIPE).max() < 1e-6 and not buoy.device[0].any()
    tints = np.linspace(0.0, 1.0, 11)
    read = device_to_lab(icc.dumps(mode.profile), buoy.device_of(tints), "relative")
    xyz = lab_to_xyz(read) / PCS_WHITE
    f = np.where(xyz > 216 / 24389, np.cbrt(xyz), (24389 / 27 * xyz + 16) / 116)
    value = np.sqrt(((f - f[0]) ** 2).sum(axis=1) / ((f[-1] - f[0]) ** 2).sum())
    assert np.abs(value - tints).max() < 0.01
    absolute = device_to_lab(icc.dumps(mode.profile), RECIPE[None], "absolute")
    assert abs(buoy.difference - delta_e_2000(absolute, np.array([[46.0, 62.0, 38.0]]))[0]) < 0.1


def test_a_nudge_moves_a_spot_colour_s_lightness_and_single_inks(mode: ModeInks, buoy: SpotInk) -> None:
    target = ProfileColour(mode.profile)
    lighter = nudged(buoy, Nudge(lightness=6.0), target, mode.channels)
    before, after = (
        device_to_lab(icc.dumps(mode.profile), i.device[[64, 128, 255]], "relative") for i in (buoy, lighter)
    )
    wanted = Nudge(lightness=6.0).of_lab(before)[:, 0] - before[:, 0]
    assert np.abs(after[:, 0] - before[:, 0] - wanted).max() < 0.3
    more = nudged(buoy, Nudge(inks={"Y": 0.1}), target, mode.channels).device - buoy.device
    assert more[128, 2] > 0.05 and not more[:, [0, 1, 3]].any()


@pytest.mark.parametrize("split", [False, True], ids=["four inks", "with a light ink"])
def test_planes_are_recipe_limit_curves_and_light_inks_in_turn(
    mode: ModeInks, curves: CurveSet, buoy: SpotInk, split: bool
) -> None:
    splits = (LightSplit("C", "LC", 0.35, 0.6, 0.25, 0.6),) if split else ()
    inks = ModeInks(mode.profile, curves, splits, 2.4)
    link = LayeredLink(DeviceLink(default_source("cmyk"), inks), (buoy,))
    random = np.random.default_rng(5)
    pixels = np.hstack([hostile(4), random.integers(0, 65536, (len(hostile(4)), 1)).astype(np.uint16)])
    pixels[::3, 4] = 0
    pixels[1::5, :4] = 0
    got = LayeredConversion(link).convert(pixels) / FULL
    asked = link.exact(pixels / FULL)
    assert np.abs(got - asked).max() < 0.004 and np.abs(got - asked).mean() < 0.0005
    pure = np.array([[0.0, 0.0, 0.0, 0.0, 1.0], [0.0, 0.0, 0.0, 1.0, 1.0]])
    solid, under_black = link.asked_lab(pure)
    assert delta_e_2000(on_paper(solid[None], link.target.white), np.array([[46.0, 62.0, 38.0]]))[0] < 0.05
    assert under_black[0] < 12.0, "black over it is nearly black"
    bare = link.device(pixels / FULL)
    assert bare.sum(axis=1).max() <= 2.4 + 1e-6
    alone = (pixels[:, :4] == 0).all(axis=1)
    wanted = inks.printed(
        np.stack(
            [np.interp(pixels[alone, 4] / FULL, np.linspace(0, 1, 256), buoy.device[:, i]) for i in range(4)],
            axis=1,
        )
    )
    assert np.abs(got[alone] - wanted).max() < 0.004, "a spot that knocks out is its recipe alone"


def test_pictures_have_an_intent_of_their_own(mode: ModeInks) -> None:
    rest, pictures = LinkSettings("relative", keep_black=True), LinkSettings("perceptual")
    link = LayeredLink(DeviceLink(default_source("rgb"), mode, rest), (), pictures)
    colours = (hostile(3) >> 8).astype(np.uint8)
    tag = np.where(np.arange(len(colours)) % 2, 255, 0).astype(np.uint8)[:, None]
    got = LayeredConversion(link).convert(np.hstack([colours, tag]))
    for settings, inside in ((rest, tag[:, 0] == 0), (pictures, tag[:, 0] == 255)):
        plain = Conversion(DeviceLink(default_source("rgb"), mode, settings)).convert(colours[inside])
        assert (got[inside] == plain).all()
    black = np.array([[0, 0, 0, 0], [0, 0, 0, 255]], dtype=np.uint8)
    text, photo = LayeredConversion(link).convert(black)
    assert text[:3].max() == 0 and photo[:3].max() > 0, "black text is black ink, a picture's black is not"


@needs_ghostscript
def test_a_page_is_printed_with_both(page_file: Path, mode: ModeInks, buoy: SpotInk, tmp_path: Path) -> None:
    name = "Bo\u00fcée (rouge)"
    ink = SpotInk(name, buoy.device, buoy.asked, buoy.difference)
    order = Order(
        mode, settings=LinkSettings(keep_black=True), resolution=72.0, bits=16,
        pictures=LinkSettings("perceptual"), spots=(ink,),
    )  # fmt: skip
    done = print_to_file(page_file, order, tmp_path / "out.tif")
    import tifffile

    planes = tifffile.imread(done.path) / FULL
    assert np.abs(planes[10, 130] - RECIPE).max() < 0.004
    over = planes[50, 150]
    assert over[1] >= RECIPE[1] - 0.004 and over[3] > RECIPE[3] + 0.2, "the overprinting black is added"
