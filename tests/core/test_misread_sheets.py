"""Sheets and rows that are not what the chart says are recognised and named; sheets and hands are
distinguished.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import METHODS, check_corners, check_travel, lay_out, plan
from greyanchor.core.colour.colorimetry import delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.expectation import Expectation, guess
from greyanchor.core.measurement.misread_sheets import judge_pass, judge_sheet
from greyanchor.core.measurement.misreads import Surroundings, impossible, judge_row
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import average, compare_passes, from_pass
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import Condition, print_and_read, printed_spectra
from greyanchor.core.verification.generic_aims import aim_lab
from tests.conftest import CMYK


@pytest.fixture(scope="module")
def chart() -> ReadingSet:
    made, _ = lay_out(patches.profile_patches(900, 3.0), CMYK, shuffle_seed=3)
    assert made.sheets.max() >= 2
    return made


@pytest.fixture(scope="module")
def passes(chart: ReadingSet) -> list[ReadingSet]:
    press = press_by_name("petrel-44")
    return [print_and_read(chart, press, 1, n) for n in (1, 2, 3)]


def swapped(readings: ReadingSet, order: np.ndarray) -> ReadingSet:
    return replace(readings, spectra=readings.spectra[order])


def judged(chart: ReadingSet, readings: ReadingSet, rough: bool) -> str:
    try:
        judge_pass(chart, expected_of(chart, rough), readings)
    except BadInput as error:
        return error.reason
    return ""


def expected_of(chart: ReadingSet, rough: bool) -> Expectation:
    return guess(aim_lab(chart.device)) if rough else from_pass(passes_lab(chart), 1)


def passes_lab(chart: ReadingSet) -> np.ndarray:
    return print_and_read(chart, press_by_name("petrel-44"), 1, 1).lab()


@pytest.mark.parametrize("rough", [True, False])
def test_a_good_pass_is_taken(chart: ReadingSet, passes: list[ReadingSet], rough: bool) -> None:
    assert judged(chart, passes[1], rough) == ""


@pytest.mark.parametrize("rough", [True, False])
def test_a_sheet_upside_down_is_named(chart: ReadingSet, passes: list[ReadingSet], rough: bool) -> None:
    order = np.arange(len(chart))
    for sheet in np.unique(chart.sheets):
        members = np.flatnonzero(chart.sheets == sheet)
        order[members] = members[::-1]
    assert "upside down" in judged(chart, swapped(passes[1], order), rough)


@pytest.mark.parametrize("rough", [True, False])
def test_two_rows_that_were_swapped_are_named(
    chart: ReadingSet, passes: list[ReadingSet], rough: bool
) -> None:
    order = np.arange(len(chart))
    four, nine = np.flatnonzero(chart.rows == 4), np.flatnonzero(chart.rows == 9)
    order[four], order[nine] = nine, four
    found = judged(chart, swapped(passes[1], order), rough)
    assert "row 4: this looks like row 9" in found and "row 9: this looks like row 4" in found


@pytest.mark.parametrize("rough", [True, False])
def test_many_swapped_rows_refuse_the_pass_by_name(
    chart: ReadingSet, passes: list[ReadingSet], rough: bool
) -> None:
    order = np.arange(len(chart))
    rows = np.unique(chart.rows)
    for a, b in zip(rows[0:12:2], rows[1:12:2]):
        here, there = np.flatnonzero(chart.rows == a), np.flatnonzero(chart.rows == b)
        order[here], order[there] = there, here
    found = judged(chart, swapped(passes[1], order), rough)
    assert "row 1" in found and "row 2" in found


@pytest.mark.parametrize("rough", [True, False])
def test_the_wrong_sheet_of_a_set_is_named(chart: ReadingSet, passes: list[ReadingSet], rough: bool) -> None:
    one, two = np.flatnonzero(chart.sheets == 1), np.flatnonzero(chart.sheets == 2)
    order = np.arange(len(chart))
    n = min(len(one), len(two))
    order[one[:n]], order[two[:n]] = two[:n], one[:n]
    assert "sheet 2 was read in place of sheet 1" in judged(chart, swapped(passes[1], order), rough)


def test_another_chart_bare_paper_and_impossible_spectra_are_named(
    chart: ReadingSet, passes: list[ReadingSet]
) -> None:
    other, _ = lay_out(patches.profile_patches(900, 2.0, seed=9), CMYK, shuffle_seed=8)
    foreign = print_and_read(other, press_by_name("petrel-44"), 1)
    assert "another chart" in judged(chart, replace(passes[0], spectra=foreign.spectra), True)
    paper = np.repeat(passes[0].spectra[chart.device.max(axis=1) == 0][:1], len(chart), axis=0)
    assert "bare paper" in judged(chart, replace(passes[0], spectra=paper), True)
    bright = passes[0].spectra.copy()
    bright[7] = 1.9
    found = judged(chart, replace(passes[0], spectra=bright), True)
    assert "saturated" in found and chart.ids[7] in found


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda lab: lab[::-1], "backwards"),
        (lambda lab: np.vstack([lab[1:], lab[-1:]]), "missed"),
        (lambda lab: lab[:-1], "expected"),
        (lambda lab: np.repeat([[94.0, 0.5, -2.0]], len(lab), axis=0), "only paper"),
    ],
)
def test_a_slip_on_one_row_is_reported_at_once(
    chart: ReadingSet, passes: list[ReadingSet], make, words: str
) -> None:  # type: ignore[no-untyped-def]
    members = chart.rows == 6
    verdict = judge_row(from_pass(passes[0].lab()[members], 1), make(passes[1].lab()[members]))
    assert not verdict.ok and words in verdict.reason


def test_a_row_of_the_other_sheet_and_a_turned_sheet_are_text(
    chart: ReadingSet, passes: list[ReadingSet]
) -> None:
    expected = from_pass(passes[0].lab(), 1)
    around = Surroundings.of(chart, expected)
    last_of_first = int(chart.rows[chart.sheets == 1].max())
    lab = passes[1].lab()
    mine = expected.select(chart.rows == 2)
    verdict = judge_row(mine, lab[chart.rows == last_of_first + 2], around, 2)
    assert f"row {last_of_first + 2} of sheet 2" in verdict.reason
    mine = expected.select(chart.rows == 1)
    turned = judge_row(mine, lab[chart.rows == last_of_first][::-1], around, 1)
    assert "upside down" in turned.reason


def test_impossible_spectra_are_named() -> None:
    good = np.full((3, 36), 0.5)
    assert impossible(good) == ""
    assert "saturated" in impossible(np.where(np.eye(3, 36) > 0, 2.5, good))
    assert "negative" in impossible(np.where(np.eye(3, 36) > 0, -0.2, good))
    assert "not numbers" in impossible(np.where(np.eye(3, 36) > 0, np.nan, good))


def test_three_passes_name_the_one_that_stands_alone(passes: list[ReadingSet]) -> None:
    spectra = passes[1].spectra.copy()
    row = passes[1].rows == 7
    spectra[row] = spectra[row][::-1]
    spectra[200] *= 0.6
    found = compare_passes([passes[0], replace(passes[1], spectra=spectra), passes[2]])
    assert (
        found.moved < 0.2
        and found.suspect_rows == (7,)
        and found.worst_pass["row 7"] == 2
        and found.passes == 3
    )
    assert passes[0].ids[200] in found.stray_patches and found.worst_pass[passes[0].ids[200]] == 2
    text = " ".join(found.advice())
    assert "Row 7 differs as a whole; pass 2 stands alone" in text
    assert f"Patch {passes[0].ids[200]} differs alone, in pass 2" in text


def test_the_average_of_three_leaves_a_wild_reading_out(passes: list[ReadingSet]) -> None:
    wild = passes[1].spectra.copy()
    wild[50] *= 0.3
    mean = average([passes[0], replace(passes[1], spectra=wild), passes[2]])
    np.testing.assert_allclose(mean.spectra[50], (passes[0].spectra[50] + passes[2].spectra[50]) / 2)
    plain = np.mean([p.spectra for p in passes], axis=0)
    np.testing.assert_allclose(mean.spectra[51], plain[51])


def test_an_uneven_sheet_differs_from_misread_rows(chart: ReadingSet) -> None:
    press = press_by_name("petrel-44")
    device = np.tile(np.vstack([np.eye(4), np.full((1, 4), 0.5)]), (40, 1))
    sheet, _ = lay_out(device, CMYK, shuffle_seed=1)
    even = [print_and_read(sheet, press, 1, n) for n in (1, 2)]
    assert compare_passes(even).uneven < 1.2
    light = 1.0 + 0.35 * (sheet.rows / sheet.rows.max() - 0.5)
    tilted = [replace(p, spectra=p.spectra * light[:, None]) for p in even]
    found = compare_passes(tilted)
    assert found.uneven > 2.0 and found.suspect_rows == () and found.acceptable()
    assert any("sheet is uneven" in line for line in found.advice())


def test_a_sheet_that_was_wet_moves_all_patches_alike(chart: ReadingSet) -> None:
    press = press_by_name("petrel-44")
    wet = print_and_read(chart, press, 1, 1, Condition(wet=1.0))
    dry = print_and_read(chart, press, 1, 2)
    found = compare_passes([wet, dry])
    assert found.moved > 0.8 and any("still drying" in line for line in found.advice())
    dark = chart.device.sum(axis=1) > 1.5
    assert wet.lab()[dark, 0].mean() < dry.lab()[dark, 0].mean()


def test_passes_that_differ_wholly_are_called_another_chart(passes: list[ReadingSet]) -> None:
    other = swapped(passes[1], np.random.default_rng(2).permutation(len(passes[1])))
    found = compare_passes([passes[0], other])
    assert found.unlike and "nothing to do with each other" in found.advice()[0]


def test_several_readings_a_patch_quieten_grainy_output() -> None:
    usual = press_by_name("petrel-44/thrift-bond-90")
    press = replace(usual, environment=replace(usual.environment, passes=4))
    off = []
    for dots in (1, 4):
        chart, _ = lay_out(patches.profile_patches(400, 2.4), CMYK, shuffle_seed=1, dots=dots)
        truth = spectra_to_lab(printed_spectra(chart, press, 1))
        off.append(float(delta_e_2000(print_and_read(chart, press, 1).lab(), truth).mean()))
    assert off[1] < 0.9 * off[0]


@pytest.mark.parametrize("method", METHODS)
def test_the_plan_before_printing_is_what_is_laid_out(method: str) -> None:
    for patch in (None, 12.0):
        planned = plan(500, "a3", method, patch, 2)
        chart, layout = lay_out(np.zeros((500, 4)), CMYK, "a3", method, patch=patch, dots=2)
        assert planned == layout and chart.rows.max() == planned.rows and chart.sheets.max() == planned.sheets
        assert planned.minutes > plan(500, "a3", method, patch, 1).minutes


def test_a_roll_takes_fewer_sheets_and_large_patches_more() -> None:
    assert plan(1000, "1000x1200").sheets < plan(1000, "a4").sheets
    assert plan(1000, "a4", "strip", 16.0).rows > plan(1000, "a4").rows
    with pytest.raises(BadInput, match="cannot be read with a hand-held"):
        plan(100, "a4", "strip", 3.0)


def test_media_that_cannot_travel_back_are_refused_for_the_reader_inside() -> None:
    with pytest.raises(BadInput, match="hand-held strip reader or the measuring table"):
        check_travel("inline", "Thrift Bond 90", False)
    check_travel("inline", "Kelp Synthetic 190", True)
    check_travel("table", "Thrift Bond 90", False)
    with pytest.raises(BadInput, match="by eye"):
        check_travel("strip", "Gangway Mesh", True, readable=False)


def test_three_corners_are_held_to_the_sheet() -> None:
    layout = plan(300, "a4", "table")
    turn = np.radians(7.0)
    rotation = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    check_corners(layout, layout.corners() @ rotation.T + [40.0, 12.0])
    beside = layout.corners()
    beside[1, 0] -= 6.0
    with pytest.raises(BadInput, match="corners span"):
        check_corners(layout, beside)
    with pytest.raises(BadInput, match="wrong way round"):
        check_corners(layout, layout.corners() * [-1.0, 1.0])
    leaning = layout.corners()
    leaning[2] += [8.0, 0.0]
    with pytest.raises(BadInput, match="off the square|corners span"):
        check_corners(layout, leaning)


@pytest.mark.parametrize("rough", [True, False])
def test_a_sheet_read_alone_is_held_to_the_set(
    chart: ReadingSet, passes: list[ReadingSet], rough: bool
) -> None:
    expected = expected_of(chart, rough)
    seen = {int(s): passes[1].lab()[chart.sheets == s] for s in np.unique(chart.sheets)}
    assert judge_sheet(chart, expected, seen[1], 1) == ""
    assert "this is sheet 2" in judge_sheet(chart, expected, seen[2], 1)
    assert "upside down" in judge_sheet(chart, expected, seen[1][::-1], 1)
    paper = np.repeat([[95.0, 0.5, -1.0]], len(seen[1]), axis=0)
    assert "only paper" in judge_sheet(chart, expected, paper, 1)
    other = np.random.default_rng(5).permutation(len(seen[1]))
    assert "another chart" in judge_sheet(chart, expected, seen[1][other], 1)
