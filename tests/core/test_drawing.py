"""Drawings: valid SVG, the values in their places, texts escaped, colour for data alone."""

from __future__ import annotations

import json
import re
from xml.etree import ElementTree

import numpy as np
import pytest

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000, lab_to_srgb
from greyanchor.core.profiling.gamut import gamut_from_lab, share_inside
from greyanchor.drawing.calibration import (
    curve_plot,
    deviation_plot,
    drift_plot,
    limit_plot,
    path_plot,
    split_plot,
    tone_plot,
    total_ink_plot,
    trend_plot,
)
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.gamuts import neutral_plot, slice_picture
from greyanchor.drawing.patches import difference_map, patch_map, sheet_picture, strip_css
from greyanchor.drawing.plots import Axis, Mark, Series, line_plot
from tests.conftest import CMYK


def parse(svg: str) -> ElementTree.Element:
    return ElementTree.fromstring(re.sub(r'\sxmlns="[^"]+"', "", svg))


def cylinder(radius: float, low: float = 10, high: float = 90) -> np.ndarray:
    random = np.random.default_rng(4)
    lightness, hue = random.uniform(low, high, 9000), random.uniform(0, 2 * np.pi, 9000)
    chroma = np.full(9000, float(radius))
    lightness[:3000] = np.where(random.random(3000) < 0.5, low, high)  # lid and bottom
    chroma[:3000] *= np.sqrt(random.random(3000))
    return np.column_stack([lightness, chroma * np.cos(hue), chroma * np.sin(hue)])


@pytest.mark.parametrize(("low", "high"), [(0, 100), (0, 2.1), (100, 400), (-5, 5), (0, 0.013)])
def test_ticks_are_round_and_inside(low: float, high: float) -> None:
    ticks = Axis("x", low, high).ticks()
    assert 3 <= len(ticks) <= 13 and ticks[0] >= low and ticks[-1] <= high + 1e-9
    steps = np.diff(ticks)
    assert np.allclose(steps, steps[0]) and all(str(t) != "-0.0" for t in ticks)


def test_a_plot_carries_its_values_for_the_pointer_and_draws_them_where_they_belong() -> None:
    svg = line_plot(
        [Series("a", [0, 50, 100], [0, 20, 100])], Axis("x, %", 0, 100), Axis("y", 0, 100), "Title"
    )
    root = parse(svg)
    data = json.loads(root.get("data-series"))
    assert data == [{"name": "a", "colour": "#111111", "x": [0, 50, 100], "y": [0, 20, 100]}]
    left, top, width, height, *_ = json.loads(root.get("data-frame"))
    line = next(p.get("d") for p in root.iter("path") if p.get("fill") == "none" and "L" in p.get("d"))
    points = [tuple(map(float, pair.split())) for pair in line[1:].split("L")]
    assert points[0] == (left, top + height) and points[-1] == (left + width, top)
    assert points[1] == pytest.approx((left + width / 2, top + height * 0.8), abs=0.1)


def test_a_plot_escapes_its_text_and_leaves_nameless_lines_to_the_eye() -> None:
    svg = line_plot(
        [Series("<b>", [0, 1], [0, 1]), Series("", [0, 1], [1, 0], style="dots")],
        Axis('"x"', 0, 1),
        Axis("y<", 0, 1),
        'T"&<',
        [Mark(0.5, "<i>")],
    )
    root = parse(svg)
    assert root.get("aria-label") == 'T"&<' and [s["name"] for s in json.loads(root.get("data-series"))] == [
        "<b>"
    ]
    assert len(list(root.iter("circle"))) == 2
    assert "<b>" not in svg and "<i>" not in svg


def test_names_at_the_ends_of_lines_stand_in_their_order_and_clear_of_one_another() -> None:
    lines = [Series(n, [0, 100], [0, y]) for n, y in (("C", 79), ("M", 40), ("Y", 81), ("K", 80.5))]
    drawn = ElementTree.fromstring(line_plot(lines, Axis("x", 0, 100), Axis("y", 0, 100), "t", ends=True))
    at = {e.text: float(e.attrib["y"]) for e in drawn.iter("text") if e.attrib.get("class") == "plot-end"}
    assert sorted(at, key=at.get) == ["Y", "K", "C", "M"]  # type: ignore[arg-type]
    heights = sorted(at.values())
    assert min(np.diff(heights)) > 10.9
    assert abs(at["M"] - 4 - (12 + 268 * 0.6)) < 0.2, "a name with room stands where its line ends"


def test_display_colours_are_those_of_the_core() -> None:
    lab = np.array([[50.0, 60.0, 30.0], [100.0, 0.0, 0.0], [0.0, 0.0, 0.0]])
    expected = ["#" + "".join(f"{round(255 * v):02x}" for v in rgb) for rgb in lab_to_srgb(lab)]
    assert hex_colours(lab) == expected and hex_colours(lab)[2] == "#000000"


def test_a_patch_map_has_measurement_as_cell_aim_as_disc_and_figures_to_point_at() -> None:
    aim = np.array([[50.0, 10.0, 10.0], [70.0, 0.0, 0.0], [30.0, -20.0, 5.0]])
    measured = aim + [[1.0, 0, 0], [0, 3.0, 0], [0, 0, 0.5]]
    root = parse(patch_map(("a", "b", "c"), aim, measured, marked=frozenset("b")))
    groups = list(root.iter("g"))
    assert [g.find("rect").get("fill") for g in groups] == hex_colours(measured)
    assert [g.find("circle").get("fill") for g in groups] == hex_colours(aim)
    assert [len(g.findall("rect")) for g in groups] == [1, 3, 1]
    for group, difference in zip(groups, delta_e_2000(aim, measured)):
        assert f"dE {difference:.2f}" in group.find("title").text


def test_a_difference_map_darkens_with_the_difference_and_crosses_what_is_too_far() -> None:
    rows = np.array([1, 1, 2])
    svg = difference_map(("a", "b", "c"), np.array([0.0, 1.0, 2.5]), rows, np.array([1, 2, 1]), 2.0)
    root = parse(svg)
    greys = [[int(v) for v in re.findall(r"\d+", g.find("rect").get("fill"))] for g in root.iter("g")]
    assert all(r == g == b for r, g, b in greys), "a map of differences has no colour of its own"
    assert greys[0][0] > greys[1][0] > greys[2][0]
    assert [g.find("path") is not None for g in root.iter("g")] == [False, False, True]


def test_a_sheet_shows_its_own_patches_with_row_labels_and_the_raw_notice() -> None:
    meta = {"DESCRIPTOR": "Quay <chart>", "PRINT_CONDITIONS": "Petrel 44"}
    chart, layout = lay_out(patches.profile_patches(700, 3.0), CMYK, shuffle_seed=2, meta=meta)
    for sheet in range(1, layout.sheets + 1):
        root = parse(sheet_picture(chart, sheet))
        on_sheet = int((chart.sheets == sheet).sum())
        texts = [t.text for t in root.iter("text")]
        assert len(list(root.iter("rect"))) == on_sheet + 1
        assert "Quay <chart>" in texts and any("raw, no colour management" in t for t in texts)
        numbers = {int(t.removeprefix("row ")) for t in texts if t.startswith("row ")}
        assert numbers == set(chart.rows[chart.sheets == sheet].tolist())


def test_a_sheet_that_stands_alone_is_an_svg_document() -> None:
    chart, _ = lay_out(patches.ink_limit_ramps(), CMYK)
    assert 'xmlns="http://www.w3.org/2000/svg"' in sheet_picture(chart)


def test_a_gamut_slice_reaches_as_far_as_the_gamut() -> None:
    gamut = gamut_from_lab(cylinder(50))
    outline = gamut.slice(50)
    np.testing.assert_allclose(np.hypot(outline[:, 0], outline[:, 1]), 50, atol=1.5)
    root = parse(slice_picture(gamut, gamut_from_lab(cylinder(30)), 50))
    assert "aim as a line" in root.get("aria-label") and len(list(root.iter("path"))) > 100


def test_the_share_of_an_aim_inside_follows_the_volumes() -> None:
    small, large = gamut_from_lab(cylinder(30)), gamut_from_lab(cylinder(60))
    assert share_inside(large, small) == pytest.approx(100, abs=0.5)
    assert share_inside(small, large) == pytest.approx(25, abs=2)


def test_curve_views_name_every_channel_and_mark_its_limit() -> None:
    line = {"inputs": [0, 50, 100], "work": [0, 80, 100], "density": [0, 1.0, 1.5]}
    svg = limit_plot({"C": line, "K": line}, {"C": 80.0, "K": 90.0}, "density")
    assert {s["name"] for s in json.loads(parse(svg).get("data-series"))} == {"C", "K"}
    assert {p.get("data-mark") for p in parse(svg).iter() if p.get("data-mark")} == {"C", "K"}
    scale = {"inputs": [0, 50, 100], "before": [0, 70, 100], "aim": [0, 50, 100], "after": [0, 50.5, 100]}
    names = [s["name"] for s in json.loads(parse(tone_plot({"C": scale, "M": scale})).get("data-series"))]
    assert names == ["C before", "C after", "M before", "M after", "aim"]
    assert [
        s["name"] for s in json.loads(parse(tone_plot({"C": scale, "M": scale}, "M")).get("data-series"))
    ][:2] == names[2:4]
    curve = json.loads(parse(curve_plot({"C": [0.0, 30.0, 75.0]})).get("data-series"))[0]
    assert curve["x"] == [0, 50, 100] and curve["y"] == [0, 30, 75]
    total = total_ink_plot({"sums": [100, 200, 300], "lightness": [60, 30, 12]}, 250)
    assert "250 %" in total


def test_the_neutral_plot_draws_the_inks_of_the_axis() -> None:
    neutral = np.column_stack(
        [np.linspace(100, 0, 5), *[np.full(5, v) for v in (10, 20, 30, 40)], np.zeros((5, 3))]
    )
    data = json.loads(parse(neutral_plot(neutral)).get("data-series"))
    assert {s["name"]: s["y"][0] for s in data} == {"C": 10, "M": 20, "Y": 30, "K": 40}


INKS = {
    "C": {
        "inputs": [0.0, 25.0, 50.0, 75.0, 100.0],
        "neutral": False,
        "chroma": [1.0, 20.0, 40.0, 55.0, 52.0],
        "density": [0.0, 0.4, 0.8, 1.2, 1.3],
        "hue": [-8.0, -6.0, -3.0, 0.5, 4.0],
        "lab": [[95, 0, -1], [80, -15, -15], [68, -28, -30], [55, -34, -44], [52, -30, -44]],
    },
    "K": {
        "inputs": [0.0, 25.0, 50.0, 75.0, 100.0],
        "neutral": True,
        "chroma": [1.0, 1.0, 1.0, 1.0, 1.0],
        "density": [0.0, 0.4, 0.9, 1.4, 1.7],
        "hue": [0.0, 90.0, -90.0, 10.0, 0.0],
        "lab": [[95, 0, -1], [70, 0, 0], [45, 0, 0], [25, 0, 0], [15, 0, 0]],
    },
}


def test_the_hue_view_leaves_neutrals_out_and_begins_where_hue_means_something() -> None:
    svg = limit_plot(INKS, {"C": 80.0, "K": 90.0}, "hue")
    series = json.loads(parse(svg).get("data-series"))
    assert [s["name"] for s in series] == ["C"] and min(series[0]["x"]) >= 30
    assert [p.get("data-mark") for p in parse(svg).iter() if p.get("data-mark")] == ["C"]


def test_older_limits_are_dashed_and_cannot_be_taken_hold_of() -> None:
    plain, ghosted = (limit_plot(INKS, {"C": 80.0}, "chroma", g) for g in (None, {"C": 70.0, "K": 60.0}))
    dashed = [p for p in parse(ghosted).iter() if p.get("stroke-dasharray") == "2 4"]
    assert len(dashed) == 2 and all(p.get("data-mark") is None for p in dashed)
    assert not [p for p in parse(plain).iter() if p.get("stroke-dasharray") == "2 4"]


def test_rings_stand_at_the_limit_on_the_way_across_the_plane() -> None:
    root = parse(path_plot(INKS, {"C": 75.0, "K": 50.0}, size=300))
    found = json.loads(root.get("data-paths"))
    rings = {
        c.get("data-dot"): (float(c.get("cx")), float(c.get("cy"))) for c in root.iter() if c.get("data-dot")
    }
    assert rings["C"] == pytest.approx((found["C"]["x"][3], found["C"]["y"][3]), abs=0.1)
    assert rings["C"][0] < 150 < rings["C"][1], "cyan lies left of the middle, and below it"
    assert all(12 <= v <= 288 for t in found.values() for v in (*t["x"], *t["y"]))


def test_handles_stand_on_the_curve_they_move() -> None:
    values = [60.0 * (i / 33) ** 1.5 for i in range(34)]
    root = parse(curve_plot({"M": values}, {"M": [[50, 60 * 0.5**1.5], [100, 60.0]]}))
    left, top, width, height, low, high = json.loads(root.get("data-frame"))
    for dot in (c for c in root.iter() if c.get("class") == "handle"):
        x = left + (float(dot.get("data-input")) - low) / (high - low) * width
        y = top + height - float(dot.get("aria-valuenow")) / 100.0 * height
        assert float(dot.get("cx")) == pytest.approx(x, abs=0.6) and float(dot.get("cy")) == pytest.approx(
            y, abs=0.6
        )
        assert dot.get("role") == "slider" and dot.get("tabindex") == "0"


def test_where_a_curve_is_expected_stands_behind_it() -> None:
    points = [(0.0, 0.0, 0.0), (50.0, 20.0, 5.0), (100.0, 70.0, 0.0)]
    root = parse(curve_plot({"M": [0.0, 30.0, 70.0]}, None, {"M": points, "Y": points}))
    left, top, width, height, *_ = json.loads(root.get("data-frame"))
    (band,) = [e for e in root.iter() if e.get("class") == "plot-band"]
    corners = [tuple(map(float, c.split())) for c in band.get("d")[1:-1].split("L")]
    x = left + width / 2
    heights = sorted(
        100.0 * (top + height - y) / height for at, y in corners if at == pytest.approx(x, abs=0.1)
    )
    assert heights == pytest.approx([15.0, 25.0], abs=0.1)


def test_drift_and_deviation_axes_hold_what_they_show() -> None:
    drift = {"C": {"inputs": [0, 50, 100], "tone": [0.0, -9.0, -2.0]}}
    scales = {"C": {"inputs": [0, 50, 100], "after": [0, 51.0, 100], "aim": [0, 50.0, 100]}}
    assert json.loads(parse(drift_plot(drift)).get("data-series"))[0]["y"] == [0.0, -9.0, -2.0]
    assert json.loads(parse(deviation_plot(scales)).get("data-series"))[0]["y"] == [0.0, 1.0, 0.0]
    for svg in (drift_plot(drift), deviation_plot(scales)):
        heights = [float(n) for n in re.findall(r"[ML][\d.]+ ([\d.-]+)", svg)]
        assert min(heights) >= 0 and max(heights) <= 260


def test_a_trend_shows_what_was_found_and_what_was_brought_back() -> None:
    series = json.loads(
        parse(trend_plot([10, 40, 70], [0.4, 0.8, 1.1], [0.2, None, 0.3], 0.5)).get("data-series")
    )
    by_name = {s["name"]: s for s in series}
    assert by_name["as found"]["y"] == [0.4, 0.8, 1.1]
    assert by_name["restored"]["x"] == [10, 70] and by_name["restored under"]["y"] == [0.5, 0.5]
    alone = json.loads(parse(trend_plot([3], [0.4], [None], 0.5)).get("data-series"))
    assert "restored" not in {s["name"] for s in alone}


def test_a_split_is_drawn_with_both_inks() -> None:
    svg = split_plot({"light": "LC", "parent": "C"}, [0, 50, 0], [0, 20, 100], [0, 50, 100])
    assert [s["name"] for s in json.loads(parse(svg).get("data-series"))] == ["LC", "C"]


def test_a_row_of_patches_is_one_background() -> None:
    css = strip_css(["#111111", "#222222", "#333333", "#444444"])
    assert css == "linear-gradient(90deg,#111111 0 25%,#222222 0 50%,#333333 0 75%,#444444 0 100%)"
