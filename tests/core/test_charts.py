"""Charts: what is on them, where it stands, and what goes to the printer."""

from __future__ import annotations

import io
import re

import numpy as np
import pikepdf
import pytest
import tifffile
from PIL import Image

from greyanchor.core.charts import patches, sheet_pdf, sheets
from greyanchor.core.charts.layout import lay_out, layout_of, parse_page, sheet_places
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.verification.groups import groups
from tests.conftest import CMYK


def test_the_near_neutral_scale_has_its_published_steps() -> None:
    scale = 100 * patches.near_neutral([0.25, 0.50, 0.75])
    np.testing.assert_allclose(scale, [[25, 18.9, 18.9], [50, 40, 40], [75, 66, 66]], atol=0.15)


@pytest.mark.parametrize(("count", "total"), [(300, 2.4), (900, 3.0), (1500, 3.2), (3000, 2.0)])
def test_a_profile_chart_has_its_count_and_keeps_to_total_ink(count: int, total: float) -> None:
    device = patches.profile_patches(count, total)
    assert device.shape == (count, 4)
    assert device.sum(axis=1).max() <= total + 1e-6 and device.min() >= 0 and device.max() <= 1


def test_a_profile_chart_has_paper_solids_greys_and_overprints_and_leaves_no_wide_gap() -> None:
    device = patches.profile_patches(1500, 3.0)
    found = groups(device)
    assert found["substrate"].sum() >= 4 and found["primaries"].sum() >= 8
    assert found["greys"].sum() >= 10 and found["secondaries"].sum() >= 3
    random = np.random.default_rng(0).random((400, 4))
    random = random[random.sum(axis=1) < 2.9]
    nearest = np.sqrt(((random[:, None] - device[None]) ** 2).sum(axis=2)).min(axis=1)
    assert nearest.max() < 0.30


def test_too_small_a_profile_chart_is_refused_with_the_number_needed() -> None:
    with pytest.raises(BadInput, match=r"need \d+"):
        patches.profile_patches(40, 3.0)


def test_the_control_strip_has_patches_for_every_criterion() -> None:
    found = groups(patches.control_strip())
    wanted = (
        "substrate",
        "primaries",
        "chromatic_primaries",
        "k_solid",
        "secondaries",
        "greys",
        "black",
        "outer_gamut",
    )
    assert {name: int(found[name].sum()) for name in wanted if found[name].sum() < 1} == {}
    assert found["primaries"].sum() == 4 and found["greys"].sum() >= 6 and found["outer_gamut"].sum() >= 9


def test_ramps_end_exactly_at_their_limits() -> None:
    device = patches.design("linearization", limits={"C": 0.75, "M": 0.6, "Y": 0.8, "K": 0.9})
    np.testing.assert_allclose(device.max(axis=0), [0.75, 0.6, 0.8, 0.9])
    assert ((device > 0).sum(axis=1) <= 1).all()


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ({"purpose": "poster"}, "no chart for"),
        ({"purpose": "control-strip", "channels": tuple("CMY")}, "needs C, M, Y and K"),
        ({"purpose": "profile", "total_ink": 9.0}, "outside"),
        ({"purpose": "profile", "count": 1}, "cannot be laid out"),
        ({"purpose": "total-ink", "count": 50}, "fixed number"),
    ],
)
def test_impossible_charts_are_refused(arguments: dict, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        patches.design(**arguments)


@pytest.mark.parametrize("page", ["a4", "a3", "610x900", "1600x1200"])
@pytest.mark.parametrize("method", ["strip", "table", "inline"])
def test_every_patch_stands_on_the_page_and_none_on_another(page: str, method: str) -> None:
    chart, layout = lay_out(patches.profile_patches(800, 3.0), CMYK, page, method, shuffle_seed=1)
    boxes = [
        layout.rectangle((r - 1) % layout.rows_per_sheet, c - 1) for r, c in zip(chart.rows, chart.columns)
    ]
    assert (
        max(b[0] + b[2] for b in boxes) <= layout.page[0]
        and max(b[1] + b[3] for b in boxes) <= layout.page[1] - 10
    )
    places = set(zip(chart.sheets.tolist(), boxes))
    assert len(places) == len(chart)
    assert layout_of(chart) == layout and np.abs(sheet_places(chart)).max() <= 0.5


def test_mixing_patches_loses_none() -> None:
    device = patches.profile_patches(300, 3.0)
    chart, _ = lay_out(device, CMYK, shuffle_seed=9)
    np.testing.assert_allclose(
        np.sort(chart.device.view("f8,f8,f8,f8"), axis=0).view(float),
        np.sort(device.view("f8,f8,f8,f8"), axis=0).view(float),
    )


@pytest.mark.parametrize("page", ["", "a9", "10x10", "200", "1e9x1e9", "axb"])
def test_a_page_that_makes_no_sense_is_refused(page: str) -> None:
    with pytest.raises(BadInput, match="page"):
        parse_page(page)


@pytest.fixture(scope="module")
def chart():
    laid_out, layout = lay_out(
        patches.profile_patches(700, 3.0),
        CMYK,
        shuffle_seed=2,
        meta={"DESCRIPTOR": "Quay chart", "PRINT_CONDITIONS": "Petrel 44 · Thrift Bond 90"},
    )
    return laid_out, layout


def test_the_tiff_is_cmyk_with_the_device_values_in_place(chart) -> None:
    laid_out, layout = chart
    data = sheets.tiff(laid_out)
    image = Image.open(io.BytesIO(data))
    assert image.mode == "CMYK" and image.n_frames == layout.sheets == 2
    pages = [page.asarray() for page in tifffile.TiffFile(io.BytesIO(data)).pages]
    scale = image.width / layout.page[0]
    for i in (0, 333, 699):
        page = pages[int(laid_out.sheets[i]) - 1]
        left, top, w, h = layout.rectangle(
            (int(laid_out.rows[i]) - 1) % layout.rows_per_sheet, int(laid_out.columns[i]) - 1
        )
        pixel = page[int((top + h / 2) * scale), int((left + w / 2) * scale)]
        assert pixel.dtype == np.uint16
        # what the file holds is what the chart says, to 0.001 %
        np.testing.assert_allclose(pixel / 65535.0, laid_out.device[i], atol=1e-5)


def test_device_values_lie_on_what_pdf_and_cgats_hold(chart) -> None:
    laid_out, _ = chart
    np.testing.assert_array_equal(laid_out.device, np.round(laid_out.device, 4))
    content = b"".join(_streams(sheet_pdf.pdf(laid_out)))
    filled = np.array([line.split()[:4] for line in re.findall(rb"[\d. ]+ k ", content)], dtype=float)
    printed = {tuple(v) for v in np.round(filled, 4)}
    assert {tuple(v) for v in laid_out.device} <= printed
    again = cgats.loads(cgats.dumps(laid_out), "chart")
    np.testing.assert_allclose(again.device, laid_out.device, atol=1e-12)


def test_unprinted_patches_stand_on_every_sheet() -> None:
    made, layout = lay_out(patches.profile_patches(1500, 3.0), CMYK, shuffle_seed=3)
    bare = made.device.max(axis=1) == 0
    assert bare.sum() == 6 and layout.sheets >= 3
    assert set(made.sheets[bare]) == set(range(1, layout.sheets + 1))


def test_the_pdf_holds_devicecmyk_and_says_that_it_is_raw(chart) -> None:
    laid_out, _ = chart
    data = sheet_pdf.pdf(laid_out)
    content = b"".join(_streams(data))
    assert data.startswith(b"%PDF") and b"DeviceRGB" not in data and b" rg" not in content
    assert content.count(b" re ") >= 700 and content.count(b" k") >= 700
    assert b"raw, no colour management" in content and b"Thrift Bond 90" in content and b"row 1" in content


def _streams(data: bytes) -> list[bytes]:
    with pikepdf.open(io.BytesIO(data)) as file:
        return [page.Contents.read_bytes() for page in file.pages]


def test_strips_and_grey_charts_of_more_inks_hold_those_of_c_m_y_k() -> None:
    channels = ("O", "C", "M", "Y", "K", "V")
    for purpose in ("control-strip", "grey"):
        plain = patches.design(purpose, CMYK)
        made = patches.design(purpose, channels)
        np.testing.assert_array_equal(made[: len(plain), 1:5], plain)
        assert not made[: len(plain), [0, 5]].any()
    strip = patches.design("control-strip", channels)
    further = strip[len(patches.design("control-strip", CMYK)) :]
    assert further.shape == (8, 6) and not further[:, 1:5].any()
    assert sorted(further[:, 0])[-4:] == [0.25, 0.5, 0.75, 1.0]
    with pytest.raises(BadInput, match="a grey chart needs C, M, Y and K, which O\\+C does not have"):
        patches.design("grey", ("O", "C"))


def test_further_inks_are_overprinted_with_their_neighbours_alone() -> None:
    channels = tuple("CMYKOGV")
    made = patches.design("total-ink", channels)
    whole = (made > 0).all(axis=1)
    for row in made[~whole]:
        inks = {c for c, v in zip(channels, row) if v > 0}
        further = inks - set("CMYK")
        assert len(further) <= 1, "no two further inks"
        if further:
            [ink] = further
            assert inks - {ink} <= {*patches.neighbours(ink, channels), "K"}
    pairs = {frozenset(c for c, v in zip(channels, row) if v > 0) for row in made}
    for ink in "OGV":
        for beside in (*patches.neighbours(ink, channels), "K"):
            assert frozenset((ink, beside)) in pairs
    assert len(made) < 250 < len(patches.total_ink_steps(7, 7.0)), "less than half of every combination"
    np.testing.assert_array_equal(patches.design("total-ink", CMYK), patches.total_ink_steps(4, 4.0))
