"""Whether a row or a sheet that was just read can be what the chart says."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.measurement.alignment import cost_of
from greyanchor.core.measurement.expectation import Expectation
from greyanchor.core.measurement.misread_sheets import judge_sheet
from greyanchor.core.measurement.misreads import (
    GAP,
    RowVerdict,
    Surroundings,
    gap_between,
    judge_row,
    rows_of,
)
from greyanchor.core.measurement.readings import is_additive, lab_of
from greyanchor.core.measurement.row_by_row import learn_rows
from greyanchor.measuring.expectations import expectation_of, pass_expectation
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.waiting import open_prints

#: two readings of a refused row that lie this near each other (median dE00) are what is on the sheet
ALIKE = 0.8
#: rows kept last that the next one is held to as well, and other prints whose rows are looked through
_LATELY, _OTHER_PRINTS = 12, 5


def refusal_of_row(current: ReadingPass, row: int, lab: Array, first: ReadingPass | None) -> str:
    """Why a row's Lab (n, 3) is not kept, or nothing.

    Two alike readings of a refused row are kept with a mark: then it is what is on the sheet.
    """
    verdict = _judged(current, row, lab, first)
    if verdict.ok:
        current.marks.pop(str(row), None)
        return ""
    before = current.attempts.get(f"refused {row}")
    alike = (
        not verdict.never
        and before is not None
        and len(before) == len(lab)
        and np.median(delta_e_2000(np.array(before), lab)) < ALIKE
    )
    if alike:
        current.marks[str(row)] = verdict.reason[:300]
        current.save(update_fields=["marks"])
        return ""
    current.attempts[f"refused {row}"] = np.round(lab, 3).tolist()
    current.save(update_fields=["attempts"])
    if verdict.kind == "other" and not verdict.patches:
        return _another_chart(current, row, lab) or verdict.reason
    return verdict.reason


def _judged(current: ReadingPass, row: int, lab: Array, first: ReadingPass | None) -> RowVerdict:
    chart = current.sheet_print.chart.patches
    model = _bent(current, expectation_of(current.sheet_print))
    if first is None:
        return _row_verdict(chart, model, row, lab)
    verdict = _row_verdict(chart, _bent(current, pass_expectation(first)), row, lab)
    if verdict.ok or model.rough:
        return verdict
    places = rows_of(chart)[row]
    part = model.select(places)
    if len(lab) != len(places):
        return verdict
    better = gap_between(cost_of(part, first.lab()[places]), cost_of(part, lab), len(lab))
    if better > GAP and _row_verdict(chart, model, row, lab).ok:
        return RowVerdict(True)  # the first pass is the wrong one; the comparison names it
    return verdict


def _row_verdict(chart: Any, expected: Expectation, row: int, lab: Array) -> RowVerdict:
    around = Surroundings.of(chart, expected)
    return judge_row(expected.select(around.rows[row]), lab, around, row)


def _bent(current: ReadingPass, expected: Expectation) -> Expectation:
    """An expectation that knows the rows of this pass that were kept last.

    A printer that separates by itself prints no ramps first: its rows are held to one another.
    """
    chart = current.sheet_print.chart.patches
    members = rows_of(chart)
    kept = [r for r in current.rows.order_by("-read_at")[:_LATELY] if r.row in members]
    seen = [(members[r.row], lab_of(r.values())) for r in kept]
    seen = [(places, lab) for places, lab in seen if len(places) == len(lab)]
    if not seen:
        return expected
    if expected.rough and is_additive(chart.channels):
        return learn_rows(expected, chart.values(), seen)
    return expected.bent(np.concatenate([p for p, _ in seen]), np.vstack([lab for _, lab in seen]))


def _another_chart(current: ReadingPass, row: int, lab: Array) -> str:
    """The row of another chart that waits for readings, where it is that; else nothing."""
    own = current.sheet_print
    model = _bent(current, expectation_of(own))
    here = rows_of(own.chart.patches)[row]
    others = []
    for job in open_prints().exclude(pk=own.pk)[:_OTHER_PRINTS]:
        expected = expectation_of(job)
        rows = [expected.lab[places] for places in rows_of(job.chart.patches).values()]
        others.append((job.chart.title, rows))
    around = Surroundings({row: here}, {row: 1}, model, others)
    verdict = judge_row(model.select(here), lab, around, row)
    return verdict.reason if "another chart" in verdict.reason else ""


def refusal_of_sheet(job: SheetPrint, sheet: int, lab: Array, first: ReadingPass | None) -> str:
    """Why a whole sheet's Lab (n, 3) is not kept, or nothing."""
    expected = pass_expectation(first) if first is not None else expectation_of(job)
    refused = judge_sheet(job.chart.patches, expected, lab, sheet)
    if not refused or first is None:
        return refused
    model = expectation_of(job)
    if model.rough:
        return refused
    places = np.flatnonzero(job.chart.patches.sheets == sheet)
    part = model.select(places)
    better = gap_between(cost_of(part, first.lab()[places]), cost_of(part, lab), len(lab))
    return "" if better > GAP and not judge_sheet(job.chart.patches, model, lab, sheet) else refused
