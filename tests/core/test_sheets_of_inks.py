"""Sheets of any inks: named planes and colorants, held to the chart by readers of other makers."""

from __future__ import annotations

import io
import subprocess
from pathlib import Path

import numpy as np
import pikepdf
import pytest
import pyvips
import tifffile
from PIL import Image

from greyanchor.core.charts import sheet_pdf, sheets
from greyanchor.core.charts.colorants import NAMES, looks, overprinted
from greyanchor.core.charts.layout import Layout, lay_out, layout_of
from greyanchor.core.charts.patches import design
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

SETS = (tuple("K"), tuple("CMYKO"), (*"CMYK", "LC", "LM"), tuple("CMYKOGV"), (*"CMYKOGV", "R"))


def chart_of(channels: tuple[str, ...], count: int = 90) -> ReadingSet:
    values = np.random.default_rng(len(channels)).random((count, len(channels)))
    values[0] = 0.0
    return lay_out(values, channels, "a4", meta={"DESCRIPTOR": "Inks (odd) \\ chart"})[0]


def middles(chart: ReadingSet, layout: Layout, scale: float) -> list[tuple[int, int]]:
    """Row and column of the pixel in the middle of each patch."""
    assert chart.rows is not None and chart.columns is not None
    found = []
    for row, column in zip(chart.rows.tolist(), chart.columns.tolist()):
        x, y, w, h = layout.rectangle((row - 1) % layout.rows_per_sheet, column - 1)
        found.append((int((y + h / 2) * scale), int((x + w / 2) * scale)))
    return found


@pytest.mark.parametrize("channels", SETS, ids="".join)
def test_a_tiff_has_a_named_sample_for_each_ink(channels: tuple[str, ...], tmp_path: Path) -> None:
    chart = chart_of(channels)
    data = sheets.tiff(chart)
    with tifffile.TiffFile(io.BytesIO(data)) as file:
        page = file.pages[0]
        assert page.samplesperpixel == len(channels) and page.bitspersample == 16
        if len(channels) > 1:
            assert page.photometric == 5 and page.tags["NumberOfInks"].value == len(channels)
            names = page.tags["InkNames"].value.split("\0")
            assert [n for n in names if n] == [NAMES[c] for c in channels]
            assert page.tags["InkSet"].value == 2, "not C M Y K"
    (tmp_path / "sheet.tif").write_bytes(data)
    read = pyvips.Image.new_from_file(str(tmp_path / "sheet.tif")).numpy()  # by libtiff
    read = read.reshape(*read.shape[:2], -1)
    layout = layout_of(chart)
    for place, wanted in zip(middles(chart, layout, read.shape[1] / layout.page[0]), chart.values()):
        np.testing.assert_allclose(_inks(read[place], channels), wanted, atol=2e-5)


def _inks(pixel: np.ndarray, channels: tuple[str, ...]) -> np.ndarray:
    values = pixel / 65535.0
    # one ink alone is a grey picture, which that reader turns so that white is 1
    return 1.0 - values if len(channels) == 1 else values


def test_r_g_b_goes_out_as_pictures_on_white() -> None:
    chart = chart_of(tuple("RGB"))
    layout = layout_of(chart)
    with tifffile.TiffFile(io.BytesIO(sheets.tiff(chart))) as file:
        page = file.pages[0]
        assert page.photometric == 2 and page.samplesperpixel == 3
        picture = page.asarray()
    assert (picture[0, 0] == 65535).all(), "bare paper is full R G B"
    seen = np.asarray(Image.open(io.BytesIO(sheets.png(chart))))
    for place, wanted in zip(middles(chart, layout, picture.shape[1] / layout.page[0]), chart.values()):
        np.testing.assert_allclose(picture[place] / 65535.0, wanted, atol=2e-5)
        np.testing.assert_allclose(seen[place] / 255.0, wanted, atol=0.5 / 255 + 1e-6)
    letters = picture[: int(20 * picture.shape[1] / layout.page[0])]
    assert letters.min() == 0, "letters are black"
    with pytest.raises(BadInput, match="PNG is for R G B charts"):
        sheets.png(chart_of(tuple("CMYK")))
    many = lay_out(design("profile", tuple("RGB"), 1500, 3.0), tuple("RGB"))[0]
    with pytest.raises(BadInput, match="a PNG holds one"):
        sheets.png(many)


@pytest.mark.parametrize("channels", SETS[1:], ids="".join)
def test_ghostscript_separates_the_pdf_into_the_values_of_the_chart(
    channels: tuple[str, ...], tmp_path: Path
) -> None:
    chart = chart_of(channels)
    (tmp_path / "sheet.pdf").write_bytes(sheet_pdf.pdf(chart))
    subprocess.run(
        ["gs", "-q", "-dSAFER", "-sDEVICE=tiffsep", "-r60", "-o", str(tmp_path / "s%d.tif"),
         str(tmp_path / "sheet.pdf")],
        check=True, capture_output=True,
    )  # fmt: skip
    layout = layout_of(chart)
    planes = []
    for channel in channels:
        plane = np.asarray(Image.open(tmp_path / f"s1({NAMES[channel]}).tif").convert("L")).astype(float)
        planes.append(1.0 - plane / 255.0)
    found = np.stack(planes, axis=-1)
    for place, wanted in zip(middles(chart, layout, found.shape[1] / layout.page[0]), chart.values()):
        np.testing.assert_allclose(found[place], wanted, atol=1.5 / 255)


def test_a_reader_without_the_inks_shows_about_what_they_look_like(tmp_path: Path) -> None:
    channels = tuple("CMYKOGV")
    chart, layout = lay_out(np.eye(7), channels, "a4")
    (tmp_path / "sheet.pdf").write_bytes(sheet_pdf.pdf(chart))
    subprocess.run(
        ["gs", "-q", "-dSAFER", "-sDEVICE=png16m", "-r60", "-o", str(tmp_path / "s.png"),
         str(tmp_path / "sheet.pdf")],
        check=True,
    )  # fmt: skip
    seen = np.asarray(Image.open(tmp_path / "s.png")).astype(int)
    colour = {c: seen[p] for c, p in zip(channels, middles(chart, layout, seen.shape[1] / layout.page[0]))}
    red, green, blue = colour["O"]
    assert red > 200 and red > green + 60 > blue + 60, "orange"
    assert colour["G"][1] > colour["G"][0] + 60 and colour["V"][2] > colour["V"][1] + 40
    assert colour["K"].max() < 80


def test_names_of_any_letters_survive(tmp_path: Path) -> None:
    odd = ("C", "M", "Y", "K", "Bleu é/1 (x)")
    chart = lay_out(np.eye(5), odd, "a4")[0]
    with tifffile.TiffFile(io.BytesIO(sheets.tiff(chart))) as file:
        value = file.pages[0].tags["InkNames"].value
        text = value if isinstance(value, str) else value.decode()
    assert (
        "Bleu é/1 (x)" in text.encode("latin-1", "ignore").decode("utf-8", "ignore") or "Bleu é/1 (x)" in text
    )
    with pikepdf.open(io.BytesIO(sheet_pdf.pdf(chart))) as file:
        names = file.pages[0].Resources.ColorSpace.Inks[1]
        assert str(names[4]) == "/Bleu é/1 (x)"


def test_overprints_look_darker_than_each_of_their_inks() -> None:
    seen = overprinted(tuple("CMYKOGV"))
    assert seen.shape == (2,) * 7 + (4,)
    assert (seen[(0,) * 7] == 0).all()
    for i, ink in enumerate(looks(tuple("CMYKOGV"))):
        corner = [0] * 7
        corner[i] = 1
        np.testing.assert_allclose(seen[tuple(corner)], ink)
    assert (
        seen[1, 1, 0, 0, 0, 0, 0] >= np.maximum(seen[1, 0, 0, 0, 0, 0, 0], seen[0, 1, 0, 0, 0, 0, 0])
    ).all()


def test_what_cannot_be_drawn_says_so() -> None:
    with pytest.raises(BadInput, match="for 1 to 8 inks, not for"):
        sheets.tiff(lay_out(np.eye(9), tuple("ABCDEFGHI"), "a4")[0])
