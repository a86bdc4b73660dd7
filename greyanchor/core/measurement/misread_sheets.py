"""Whole passes and whole sheets that are not what they should be: upside down, another sheet, another chart,
rows that stand for one another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.alignment import cost_of
from greyanchor.core.measurement.expectation import Expectation
from greyanchor.core.measurement.misreads import (
    GAP,
    RowVerdict,
    Surroundings,
    gap_between,
    impossible,
    is_foreign,
    judge_row,
    only_paper,
    rows_of,
)
from greyanchor.core.measurement.readings import ReadingSet

#: times that suspect rows are judged again without one another
_ROUNDS = 3


@dataclass(frozen=True)
class SuspectRow:
    """A row of a pass that is not what it should be, and why."""

    row: int
    sheet: int
    verdict: RowVerdict


def suspect_rows(
    chart: ReadingSet, expected: Expectation, measured: Array, bend: bool = True
) -> list[SuspectRow]:
    """Rows of a whole pass over a laid-out chart, Lab (n, 3), that are not what they should be.

    With `bend` each row is held to what the others say as well.
    """
    members = rows_of(chart)
    if bend and expected.rough:
        expected, bend = expected.bent(np.arange(len(chart)), measured), False
    found: dict[int, RowVerdict] = {}
    trusted = set(members)
    for _ in range(_ROUNDS if bend else 1):
        # rows that were bent by a misread neighbour are judged again without it
        asked = found or dict.fromkeys(members)
        found = {}
        for row in asked:
            near = _by_the_others(expected, measured, members, row, trusted) if bend else expected
            around = Surroundings.of(chart, near)
            verdict = judge_row(near.select(members[row]), measured[members[row]], around, row)
            if not verdict.ok:
                found[row] = verdict
        if trusted == set(members) - set(found):
            break
        trusted = set(members) - set(found)
    sheets = _sheets_of(chart)
    return [SuspectRow(int(row), int(sheets[members[row][0]]), v) for row, v in found.items()]


def _by_the_others(
    expected: Expectation,
    measured: Array,
    members: dict[int, npt.NDArray[np.int64]],
    row: int,
    trusted: set[int],
) -> Expectation:
    """What is expected after the trusted rows around a row: enough to say what a pass has in common, and few
    enough to be quick.
    """
    numbers = np.array(sorted(trusted - {row}))
    near = numbers[np.argsort(np.abs(numbers - row), kind="stable")][:16]
    if not len(near):
        return expected
    places = np.concatenate([members[int(r)] for r in near])
    return expected.bent(places, measured[places])


def judge_pass(chart: ReadingSet, expected: Expectation, readings: ReadingSet, against: str = "") -> None:
    """Refuse a whole pass that cannot be of `chart`: `BadInput` says what it was and what to do.

    `readings` are matched to the chart; `against` names what they are held to. Recognised: impossible
    spectra, bare paper, a sheet upside down, sheets that stand for one another, another chart, several rows
    that are not what they should be. A single such row is left to whoever looks at the pass.
    """
    measured = readings.lab()
    if readings.spectra is not None:
        reason = impossible(readings.spectra)
        if reason:
            worst = int(np.argmax(np.abs(readings.spectra - 0.5).max(axis=1)))
            raise BadInput(f"patch {readings.ids[worst]}: {reason.split(': ')[0]}")
    if only_paper(expected.lab, measured):
        raise BadInput("every patch reads as bare paper: the wrong side or an unprinted sheet was read")
    if chart.rows is not None:
        _named_by_sheets(chart, expected, measured)
    if is_foreign(_bent_to_itself(expected, measured), measured):
        typical = float(np.median(np.linalg.norm(measured - expected.lab, axis=1)))
        against = against or "what this chart should read"
        raise BadInput(
            f"these readings have nothing to do with {against} (typical difference {typical:.0f} in Lab): "
            "another chart was read"
        )
    if chart.rows is not None:
        _named_by_rows(suspect_rows(chart, expected, measured))


def _named_by_rows(wrong: list[SuspectRow]) -> None:
    slipped = [w for w in wrong if not w.verdict.patches]
    if len(slipped) < 2:
        return
    named = [f"row {w.row}: {w.verdict.reason.split(': ')[0]}" for w in slipped[:3]]
    more = f" (and {len(slipped) - 3} rows more)" if len(slipped) > 3 else ""
    raise BadInput("; ".join(named) + more)


def judge_sheet(chart: ReadingSet, expected: Expectation, measured: Array, sheet: int) -> str:
    """What a sheet that was read alone (Lab of its patches) was instead of `sheet`, or nothing.

    For readers that take whole sheets: bare paper, the sheet upside down, another sheet of the set, a sheet
    of another chart, rows that slipped.

    `measured` is Lab (n, 3) of the patches of the sheet, in the order of the chart.
    """
    sheets = _sheets_of(chart)
    places = np.flatnonzero(sheets == sheet)
    mine = expected.select(places)
    if only_paper(mine.lab, measured):
        return "only paper was seen: turn the sheet over, or print it first"
    own = _cost(mine, measured)
    said = [(_cost(_turned(mine), measured), "the sheet lies upside down: turn it round")]
    for other in np.unique(sheets):
        there = expected.select(np.flatnonzero(sheets == other))
        if other != sheet and len(there) == len(measured):
            said.append((_cost(there, measured), f"this is sheet {other}: put sheet {sheet} in its place"))
    best, reason = min(said)
    if gap_between(own, best, len(measured)) > GAP:
        return reason
    if is_foreign(_bent_to_itself(mine, measured), measured):
        return "this is a sheet of another chart"
    part = chart.select(places)
    wrong = suspect_rows(part, expected.select(places), measured)
    return "; ".join(f"row {w.row}: {w.verdict.reason}" for w in wrong[:3])


def _bent_to_itself(expected: Expectation, measured: Array) -> Expectation:
    """A guess bent to the readings as a whole; anything better stays as it is."""
    return expected.bent(np.arange(len(expected)), measured) if expected.rough else expected


def _cost(expected: Expectation, measured: Array) -> float:
    """Cost of measured Lab (n, 3) as readings of `expected`; a guess that bends well counts as surer."""
    bent = _bent_to_itself(expected, measured)
    return cost_of(bent, measured) + 3.0 * float(np.log(bent.spread).sum())


def _turned(expected: Expectation) -> Expectation:
    return expected.select(np.arange(len(expected))[::-1])


def _sheets_of(chart: ReadingSet) -> npt.NDArray[np.int64]:
    return chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)


def _named_by_sheets(chart: ReadingSet, expected: Expectation, measured: Array) -> None:
    """Upside-down sheets, and sheets of a set that stand for one another."""
    sheets = _sheets_of(chart)
    numbers = np.unique(sheets)
    turned = np.arange(len(chart))
    for sheet in numbers:
        members = np.flatnonzero(sheets == sheet)
        turned[members] = members[::-1]

    def cost(order: npt.NDArray[np.int64], part: npt.NDArray[np.int64]) -> float:
        return _cost(expected.select(order[part]), measured[part])

    everything = np.arange(len(chart))
    own = cost(everything, everything)
    if gap_between(own, cost(turned, everything), len(chart)) > GAP:
        raise BadInput("the sheet was read upside down: turn it round and read it again")
    for i, a in enumerate(numbers):
        for b in numbers[i + 1 :]:
            here, there = np.flatnonzero(sheets == a), np.flatnonzero(sheets == b)
            n = min(len(here), len(there))
            if n < 8:
                continue
            swapped = everything.copy()
            swapped[here[:n]] = there[:n]
            part = here[:n]
            if gap_between(cost(everything, part), cost(swapped, part), n) > GAP:
                raise BadInput(f"sheet {b} was read in place of sheet {a}: put the sheets in order")
