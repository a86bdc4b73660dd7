"""The first chart of a printer that separates by itself: its rows are held to one another."""

from __future__ import annotations

import numpy as np
import pytest

from benchmarks.misreads import Stage, further_of, slips
from greyanchor.core.colour.colorimetry import Array, spectra_to_lab
from greyanchor.core.measurement.expectation import Expectation
from greyanchor.core.measurement.misreads import Surroundings, judge_row, rows_of
from greyanchor.core.measurement.row_by_row import learn_rows

SLIPS = ("one missed", "one twice", "two missed", "split, skipped", "backwards", "another row")


@pytest.fixture(scope="module")
def stage() -> Stage:
    return further_of(9007)[-1]


def _learned(stage: Stage, members: dict[int, Array], rows: list[int], lab: dict[int, Array]) -> Expectation:
    return learn_rows(stage.expected, stage.chart.values(), [(members[r], lab[r]) for r in rows])


def test_slips_are_caught_from_the_fourth_row_and_clean_rows_are_kept(stage: Stage) -> None:
    members = rows_of(stage.chart)
    whole = [r for r, m in members.items() if len(m) > 11]
    spectra = {r: stage.passes[0].spectra[m] for r, m in members.items()}
    lab = {r: spectra_to_lab(s) for r, s in spectra.items()}
    random = np.random.default_rng(3)
    caught = tried = refused = 0
    for n, row in enumerate(whole[3:12], 3):
        expected = _learned(stage, members, whole[:n], lab)
        assert not expected.rough and expected.source == "the rows of this pass"
        around = Surroundings.of(stage.chart, expected)
        part = expected.select(members[row])
        refused += not judge_row(part, lab[row], around, row).ok
        planted = slips(random, spectra, row, [])
        for kind in SLIPS:
            tried += 1
            caught += not judge_row(part, spectra_to_lab(planted[kind]), around, row).ok
    assert refused == 0 and caught >= 0.96 * tried


def test_a_slip_in_the_first_row_does_not_spoil_the_rows_after_it(stage: Stage) -> None:
    members = rows_of(stage.chart)
    whole = [r for r, m in members.items() if len(m) > 11]
    spectra = {r: stage.passes[0].spectra[m] for r, m in members.items()}
    lab = {r: spectra_to_lab(s) for r, s in spectra.items()}
    lab[whole[0]] = spectra_to_lab(slips(np.random.default_rng(5), spectra, whole[0], [])["one missed"])
    for n in range(5, 10):
        expected = _learned(stage, members, whole[:n], lab)
        around = Surroundings.of(stage.chart, expected)
        assert judge_row(expected.select(members[whole[n]]), lab[whole[n]], around, whole[n]).ok


def test_little_is_still_a_guess(stage: Stage) -> None:
    members = rows_of(stage.chart)
    lab = {r: spectra_to_lab(stage.passes[0].spectra[m]) for r, m in members.items()}
    assert learn_rows(stage.expected, stage.chart.values(), []) is stage.expected
    assert _learned(stage, members, list(members)[:2], lab).rough
