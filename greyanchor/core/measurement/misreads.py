"""Slips of the hand: what a row or a sheet was, when it is not what the chart says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: reflectance factors outside this are no paper and no ink
_DARKEST, _BRIGHTEST = -0.03, 1.60


@dataclass(frozen=True)
class RowVerdict:
    """Whether a row that was just read can be what the chart says; `reason` is reported to the hands."""

    ok: bool
    reason: str = ""


@dataclass(frozen=True)
class Surroundings:
    """What else a row could be: the Lab of every row of the chart (by number) and the sheet of each."""

    rows: Mapping[int, Array]
    sheets: Mapping[int, int]

    @classmethod
    def of(cls, chart: ReadingSet, expected: Array) -> Surroundings:
        """Rows of a laid-out chart with its expected Lab (n, 3)."""
        assert chart.rows is not None
        sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
        order = np.argsort(chart.rows, kind="stable")
        numbers, first = np.unique(chart.rows[order], return_index=True)
        members = dict(zip(numbers.tolist(), np.split(order, first[1:])))
        return cls(
            {r: expected[m] for r, m in members.items()}, {r: int(sheets[m[0]]) for r, m in members.items()}
        )


def impossible(spectra: Array) -> str:
    """Why spectra (n, 36) cannot be of a print, or nothing."""
    if not np.isfinite(spectra).all():
        return "a spectrum holds values that are not numbers: read the row again"
    if spectra.max() > _BRIGHTEST:
        return (
            f"a spectrum is saturated (reflectance factor {spectra.max():.2f}): "
            "keep the instrument flat on the sheet and calibrate white again"
        )
    if spectra.min() < _DARKEST:
        return (
            f"a spectrum is negative (reflectance factor {spectra.min():.2f}): "
            "calibrate white again, then read the row"
        )
    return ""


def looks_right(expected: Array, measured: Array, rough: bool = True) -> bool:
    """Whether a row's Lab (n, 3) is so near to what is expected that no slip need be looked for."""
    if len(measured) != len(expected) or _only_paper(expected, measured):
        return False
    return _pattern_error(expected, measured) <= (3.0 if rough else 1.0)


def judge_row(
    expected: Array,
    measured: Array,
    rough: bool = True,
    around: Surroundings | None = None,
    row: int = 0,
) -> RowVerdict:
    """Hold a row's Lab (n, 3) against what is expected of it, and against likely slips.

    What counts is whether reading the row backwards, shifted by a patch, or another row `around` it explains
    it far better. `rough` says that the expectation is only
    a model; an earlier reading of the same row is held to much less.
    """
    if len(measured) != len(expected):
        return RowVerdict(
            False, f"{len(measured)} patches seen, {len(expected)} expected: move at an even pace"
        )
    if _only_paper(expected, measured):
        return RowVerdict(False, "only paper was seen: place the ruler on the patches")
    own = _pattern_error(expected, measured)
    slips = _own_slips(expected, measured)
    if around is not None and own > (3.0 if rough else 1.0):
        slips += _other_rows(measured, around, row)
    if slips:
        best, reason = min(slips)
        if best < 0.5 * own and own > (3.0 if rough else 1.0):
            return RowVerdict(False, reason)
    return RowVerdict(True)


def _own_slips(expected: Array, measured: Array) -> list[tuple[float, str]]:
    if len(expected) <= 3:
        return []
    return [
        (_pattern_error(expected[::-1], measured), "it was read backwards: start at the label"),
        (
            _pattern_error(expected[1:], measured[:-1]),
            "the first patch was missed: start on the white before it",
        ),
        (_pattern_error(expected[:-1], measured[1:]), "a patch was read twice: move at an even pace"),
    ]


def _other_rows(measured: Array, around: Surroundings, row: int) -> list[tuple[float, str]]:
    """The likeliest other row of the chart, forwards and, for a sheet that lies upside down, backwards."""
    sheet = around.sheets.get(row, 1)
    others = [r for r, lab in around.rows.items() if r != row and len(lab) == len(measured) >= 4]
    if not others:
        return []
    labs = np.stack([around.rows[r] for r in others])
    forwards, backwards = _pattern_errors(labs, measured), _pattern_errors(labs[:, ::-1], measured)
    number, turned = others[int(forwards.argmin())], others[int(backwards.argmin())]
    there = around.sheets[number]
    if there == sheet:
        text = f"this looks like row {number}: place the ruler again"
    else:
        text = f"this looks like row {number} of sheet {there}: put sheet {sheet} in its place"
    if around.sheets[turned] == sheet:
        end = f"this looks like row {turned} from its end: the sheet lies upside down, turn it round"
    else:
        end = f"this looks like sheet {around.sheets[turned]} upside down: put sheet {sheet} in its place"
    return [(float(forwards.min()), text), (float(backwards.min()), end)]


def _only_paper(expected: Array, measured: Array) -> bool:
    """Whether a row that should vary is one flat light colour."""
    varied = np.linalg.norm(expected - np.median(expected, axis=0), axis=1).mean() > 6.0
    flat = np.linalg.norm(measured - np.median(measured, axis=0), axis=1).max() < 2.5
    return bool(varied and flat and np.median(measured[:, 0]) > 75.0)


def _pattern_error(expected: Array, measured: Array) -> float:
    """Median Lab distance after a common offset is taken out, so that a rough model still says rows."""
    return float(_pattern_errors(expected[None], measured)[0])


def _pattern_errors(rows: Array, measured: Array) -> Array:
    """The same for many rows (r, n, 3) at once."""
    delta = measured - rows
    return np.asarray(
        np.median(np.linalg.norm(delta - np.median(delta, axis=1, keepdims=True), axis=2), axis=1)
    )


def adapted(expected: Array, seen_expected: Array, seen: Array) -> Array:
    """A rough expectation bent toward what was read so far: Lab (n, 3).

    A quadratic map of Lab is fitted from `seen_expected` to `seen` (m, 3), patches that lie far from it
    left out. With fewer than 40 patches the expectation is handed back as it is.
    """
    if len(seen) < 40:
        return expected
    terms, use = _terms(seen_expected), np.ones(len(seen), dtype=bool)
    map_ = np.zeros((terms.shape[1], 3))
    for _ in range(4):
        map_ = np.linalg.lstsq(terms[use], seen[use], rcond=None)[0]
        off = np.linalg.norm(terms @ map_ - seen, axis=1)
        use = off <= np.median(off) * 2.5 + 1e-9
    return np.asarray(_terms(expected) @ map_)


def _terms(lab: Array) -> Array:
    x = lab / 100.0
    pairs = [x[:, i] * x[:, j] for i in range(3) for j in range(i, 3)]
    return np.column_stack([np.ones(len(x)), x, *pairs])


def judge_pass(chart: ReadingSet, expected: Array, readings: ReadingSet, rough: bool = True) -> None:
    """Refuse a whole pass that cannot be of `chart`: `BadInput` says what it was and what to do.

    `readings` are matched to the chart; `expected` is Lab (n, 3), a model (`rough`) or an earlier pass.
    Recognised: impossible spectra, bare paper, a sheet upside down, sheets or rows that stand for one
    another, another chart.
    """
    measured = readings.lab()
    if readings.spectra is not None:
        reason = impossible(readings.spectra)
        if reason:
            worst = int(np.argmax(np.abs(readings.spectra - 0.5).max(axis=1)))
            raise BadInput(f"patch {readings.ids[worst]}: {reason.split(': ')[0]}")
    if _only_paper(expected, measured):
        raise BadInput("every patch reads as bare paper: the wrong side or an unprinted sheet was read")
    whole = _misfit(expected, measured, rough)
    suspicious = whole > (5.0 if rough else 1.5)
    if chart.rows is not None and suspicious:
        _told_by_sheets(chart, expected, measured, whole, rough)
    if whole > (11.0 if rough else 8.0):
        against = "what this chart should read" if rough else "the first pass"
        raise BadInput(
            f"these readings have nothing to do with {against} (typical difference {whole:.0f} in Lab): "
            "another chart was read"
        )
    if chart.rows is not None:
        bent = adapted(expected, expected, measured) if rough else expected
        _told_by_rows(chart, bent, measured, rough)


def judge_sheet(chart: ReadingSet, expected: Array, measured: Array, sheet: int, rough: bool = True) -> str:
    """What a sheet that was read alone (Lab of its patches) was instead of `sheet`, or nothing.

    For readers that take whole sheets: bare paper, the sheet upside down, another sheet of the set, or a
    sheet of another chart.

    `expected` and `measured` are Lab (n, 3) of all patches and of those of the sheet.
    """
    sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
    mine = expected[sheets == sheet]
    if _only_paper(mine, measured):
        return "only paper was seen: turn the sheet over, or print it first"
    own = _misfit(mine, measured, rough)
    if own <= (5.0 if rough else 1.5):
        return ""
    if _misfit(mine[::-1], measured, rough) < 0.5 * own:
        return "the sheet lies upside down: turn it round"
    for other in np.unique(sheets):
        there = expected[sheets == other]
        if other != sheet and len(there) == len(measured) and _misfit(there, measured, rough) < 0.5 * own:
            return f"this is sheet {other}: put sheet {sheet} in its place"
    return "this is a sheet of another chart" if own > (11.0 if rough else 8.0) else ""


def _misfit(expected: Array, measured: Array, rough: bool) -> float:
    """Median Lab distance, of a rough expectation after it was bent toward the readings."""
    if rough:
        expected = adapted(expected, expected, measured)
    return float(np.median(np.linalg.norm(measured - expected, axis=1)))


def _told_by_sheets(chart: ReadingSet, expected: Array, measured: Array, whole: float, rough: bool) -> None:
    """Upside-down sheets, and sheets of a set that stand for one another."""
    sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
    numbers = np.unique(sheets)
    turned = expected.copy()
    for sheet in numbers:
        members = np.flatnonzero(sheets == sheet)
        turned[members] = expected[members[::-1]]
    if _misfit(turned, measured, rough) < 0.5 * whole:
        raise BadInput("the sheet was read upside down: turn it round and read it again")
    for i, a in enumerate(numbers):
        for b in numbers[i + 1 :]:
            here, there = np.flatnonzero(sheets == a), np.flatnonzero(sheets == b)
            n = min(len(here), len(there))
            if n < 8:
                continue
            swapped = expected.copy()
            swapped[here[:n]], swapped[there[:n]] = expected[there[:n]], expected[here[:n]]
            part = here[:n]
            own = _misfit(expected[part], measured[part], rough)
            if own > 5.0 and _misfit(swapped[part], measured[part], rough) < 0.5 * own:
                raise BadInput(f"sheet {b} was read in place of sheet {a}: put the sheets in order")


def _told_by_rows(chart: ReadingSet, expected: Array, measured: Array, rough: bool) -> None:
    """Rows that stand for one another: refused when several do; a single one shows in the double reading."""
    assert chart.rows is not None
    around = Surroundings.of(chart, expected)
    wrong = []
    for number, lab in around.rows.items():
        seen = measured[chart.rows == number]
        verdict = judge_row(lab, seen, rough, around, number)
        if not verdict.ok:
            wrong.append(f"row {number}: {verdict.reason.split(': ')[0]}")
    if len(wrong) >= 2:
        more = f" (and {len(wrong) - 3} rows more)" if len(wrong) > 3 else ""
        raise BadInput("; ".join(wrong[:3]) + more)
