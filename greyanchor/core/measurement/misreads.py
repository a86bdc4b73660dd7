"""Slips of the hand: what a row was, when it is not what the chart says.

A row is held to what is expected of it. The cost of *as asked* is compared with that of every slip:
backwards, patches missed or read twice, other rows of any sheet both ways, rows of other charts. A gap of
costs refuses the row and names the slip; a row that nothing explains is refused as such; a patch that stands
out alone is named.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.transmission import HIGHEST, LOWEST
from greyanchor.core.measurement.alignment import best_slip, cost_of
from greyanchor.core.measurement.expectation import Expectation, fit_common, plain
from greyanchor.core.measurement.readings import ReadingSet

#: reflectance factors outside this are no paper and no ink
_DARKEST, _BRIGHTEST = -0.03, 1.60
#: another explanation must cost less by this much; more where it explains the row poorly itself
GAP = 9.0
#: rows shorter than this have too little in them to be recognised
_SHORTEST = 4
#: a patch stands out when it lies this many spreads, and this much in Lab, from what the row says of it
_ALONE_SPREADS, _ALONE_LAB = 6.5, 2.0
#: typical misfit, in spreads, from which on nothing explains a row
_NOTHING, _NOTHING_LAB = 4.5, 3.0
#: the same of a whole sheet of which nothing but a guess is known, Lab
_GUESS_LAB = 11.0
#: other rows that are looked at closely
_CLOSELY = 3

KINDS = ("backwards", "shifted", "short", "other row", "other")


@dataclass(frozen=True)
class RowVerdict:
    """Whether a row that was just read can be what the chart says; `reason` is reported to the hands.

    `kind` is one of `KINDS`, empty where the row is right; `confidence` 0..1 that it is wrong; `patches` the
    places, counted from 0, of patches that stand out alone. `never` says that no number of alike readings
    makes it right: it has another number of patches, or none of ink.
    """

    ok: bool
    reason: str = ""
    kind: str = ""
    confidence: float = 0.0
    patches: tuple[int, ...] = ()
    never: bool = False


@dataclass(frozen=True)
class Surroundings:
    """What else a row could be: the places of every row of the chart (by number), the sheet of each, and Lab
    of rows of other charts by their names.
    """

    rows: Mapping[int, npt.NDArray[np.int64]]
    sheets: Mapping[int, int]
    expected: Expectation
    others: Sequence[tuple[str, Sequence[Array]]] = ()

    @classmethod
    def of(
        cls,
        chart: ReadingSet,
        expected: Expectation,
        others: Sequence[tuple[str, Sequence[Array]]] = (),
    ) -> Surroundings:
        """Rows of a laid-out chart with its expectation."""
        assert chart.rows is not None
        sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
        members = rows_of(chart)
        return cls(members, {r: int(sheets[m[0]]) for r, m in members.items()}, expected, others)


def rows_of(chart: ReadingSet) -> dict[int, npt.NDArray[np.int64]]:
    """Places of the patches of each row of a laid-out chart, in their order."""
    assert chart.rows is not None
    order = np.argsort(chart.rows, kind="stable")
    numbers, first = np.unique(chart.rows[order], return_index=True)
    return dict(zip(numbers.tolist(), np.split(order, first[1:])))


def impossible(spectra: Array) -> str:
    """Why spectra (n, 36) cannot be of a print, or transmission densities (n, 2) of a film; or nothing."""
    if spectra.ndim == 2 and spectra.shape[1] == 2:
        return _impossible_film(spectra)
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


def _impossible_film(densities: Array) -> str:
    if not np.isfinite(densities).all():
        return "a density is no number: read the row again"
    if densities.min() < LOWEST or densities.max() > HIGHEST:
        worst = densities.min() if densities.min() < LOWEST else densities.max()
        return f"a density of {worst:.2f} is not possible: set the instrument to zero on nothing, then read"
    return ""


def judge_row(
    expected: Expectation, measured: Array, around: Surroundings | None = None, row: int = 0
) -> RowVerdict:
    """Hold a row's Lab (n, 3) to what is expected of it, and to every likely slip.

    `around` is what else `row` could be; without it only the row's own slips are looked for.
    """
    if len(measured) != len(expected):
        reason = f"{len(measured)} patches seen, {len(expected)} expected: move at an even pace"
        return RowVerdict(False, reason, "short", 1.0, never=True)
    if only_paper(expected.lab, measured):
        reason = "only paper was seen: place the ruler on the patches"
        return RowVerdict(False, reason, "other", 1.0, never=True)
    own = cost_of(expected, measured)
    slips = _own_slips(expected, measured) if len(expected) >= _SHORTEST else []
    if around is not None and len(expected) >= _SHORTEST and own > GAP:
        slips += _other_rows(expected, measured, around, row)
    if slips:
        best, kind, reason = min(slips)
        gap = gap_between(own, best, len(expected))
        if gap > GAP:
            return RowVerdict(False, reason, kind, _confidence(gap))
    return _without_a_name(expected, measured)


def gap_between(own: float, best: float, patches: int) -> float:
    """By how much another explanation costs less, in costs of an expectation as far off as it is itself."""
    return (own - best) / max(1.0, best / (1.5 * patches))


def is_foreign(expected: Expectation, measured: Array) -> bool:
    """Whether Lab (n, 3) has so little to do with what is expected that it must be of something else."""
    _, left = fit_common(expected, measured)
    off = np.linalg.norm(left, axis=1)
    typical, lab = float(np.median(off / expected.spread)) / np.sqrt(3.0), float(np.median(off))
    return lab > _GUESS_LAB if expected.rough else typical > _NOTHING and lab > _NOTHING_LAB


def _confidence(gap: float) -> float:
    """Chance that the better explanation is right, both being as likely before."""
    return float(1.0 / (1.0 + np.exp(-min(gap, 40.0) / 2.0)))


def _own_slips(expected: Expectation, measured: Array) -> list[tuple[float, str, str]]:
    turned = expected.select(np.arange(len(expected))[::-1])
    found = [(cost_of(turned, measured), "backwards", "it was read backwards: start at the label")]
    if not expected.rough:  # a guess is farther off than a patch is from its neighbour
        slip = best_slip(expected, measured)
        found.append((slip.cost, "shifted", _slip_in_words(slip.offsets)))
    return found


def _slip_in_words(offsets: npt.NDArray[np.int64]) -> str:
    """What the hand did: patches by which each reading is late, in words."""
    if not offsets.any():
        return ""
    # a reader that runs over the end of a row repeats its last patch, which then lies right again
    first, last = int(offsets[0]), int(offsets[-2] if len(offsets) > 2 else offsets[-1])
    most = int(offsets[np.argmax(np.abs(offsets))])
    if first == 0 and last == 0:
        return "one patch was read as two and another was skipped: move at an even pace"
    count = {1: "a patch was", 2: "two patches were"}[min(abs(most), 2)]
    if most > 0 and first == most:
        named = {1: "the first patch was", 2: "the first two patches were"}[min(most, 2)]
        return f"{named} missed: start on the white before it"
    if most > 0:
        return f"{count} missed: move at an even pace"
    return f"{count} read twice: move at an even pace"


def _other_rows(
    expected: Expectation, measured: Array, around: Surroundings, row: int
) -> list[tuple[float, str, str]]:
    """The likeliest other rows of the chart and of other charts, forwards and, for a sheet that lies upside
    down, backwards.
    """
    found: list[tuple[float, str, str]] = []
    sheet = around.sheets.get(row, 1)
    same = [(r, m) for r, m in around.rows.items() if r != row and len(m) == len(measured)]
    if same:
        places = np.stack([m for _, m in same])
        for turned in (False, True):
            tried = places[:, ::-1] if turned else places
            for i in _nearest(around.expected.lab[tried], measured):
                cost = cost_of(around.expected.select(tried[i]), measured)
                found.append((cost, "other row", _row_in_words(same[i][0], sheet, around, turned)))
    for name, rows in around.others:
        fitting = [lab for lab in rows if len(lab) == len(measured)]
        if not fitting:
            continue
        labs = np.stack([*fitting, *(lab[::-1] for lab in fitting)])
        spread = float(np.median(expected.spread))
        for i in _nearest(labs, measured)[:1]:
            cost = cost_of(plain(labs[i], spread), measured)
            found.append((cost, "other", f"this looks like a row of another chart, {name}"))
    return found


def _nearest(labs: Array, measured: Array) -> list[int]:
    """Which few of rows (r, n, 3) lie nearest to what was measured, a common shift taken out."""
    delta = measured - labs
    delta = delta - np.median(delta, axis=1, keepdims=True)
    off = np.median(np.linalg.norm(delta, axis=2), axis=1)
    return [int(i) for i in np.argsort(off)[:_CLOSELY]]


def _row_in_words(number: int, sheet: int, around: Surroundings, turned: bool) -> str:
    there = around.sheets[number]
    if turned and there == sheet:
        return f"this looks like row {number} from its end: the sheet lies upside down, turn it round"
    if turned:
        return f"this looks like sheet {there} upside down: put sheet {sheet} in its place"
    if there == sheet:
        return f"this looks like row {number}: place the ruler again"
    return f"this looks like row {number} of sheet {there}: put sheet {sheet} in its place"


def _without_a_name(expected: Expectation, measured: Array) -> RowVerdict:
    """A row that is nothing else: patches that stand out alone, or nothing that explains it."""
    _, left = fit_common(expected, measured)
    off = np.linalg.norm(left, axis=1)
    spreads = off / (expected.spread * np.sqrt(3.0))
    typical = float(np.median(spreads))
    if not expected.rough and is_foreign(expected, measured):
        return RowVerdict(
            False,
            f"it is not what was expected (typically {np.median(off):.0f} off in Lab): "
            "see that this is the right chart and row",
            "other",
            0.9,
        )
    if expected.rough:
        return RowVerdict(True)
    alone = np.flatnonzero((spreads > _ALONE_SPREADS * max(typical, 1.0)) & (off > _ALONE_LAB))
    if 0 < len(alone) <= max(1, len(measured) // 6):
        which = ", ".join(str(i + 1) for i in alone)
        many = len(alone) > 1
        return RowVerdict(
            False,
            f"patch{'es' * many} {which} of the row stand{'s' * (not many)} out alone: look for a speck or a "
            "scratch there",
            "other",
            float(min(0.99, 1.0 - np.exp(-off[alone].max() / 2.0))),
            tuple(int(i) for i in alone),
        )
    return RowVerdict(True)


def only_paper(expected: Array, measured: Array) -> bool:
    """Whether Lab (n, 3) that should vary is one flat light colour."""
    varied = np.linalg.norm(expected - np.median(expected, axis=0), axis=1).mean() > 6.0
    flat = np.linalg.norm(measured - np.median(measured, axis=0), axis=1).max() < 2.5
    return bool(varied and flat and np.median(measured[:, 0]) > 75.0)
