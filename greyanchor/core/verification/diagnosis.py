"""Diagnosis: which cause explains the differences of a check best, with its evidence.

Every cause is a model of the differences with few free amounts. They are compared by how much they
explain and how many amounts they need for it (Bayesian information criterion, Schwarz 1978); differences
that were there on a good day are taken off first where they are known. Two causes at once are tried as
well.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.verification import together
from greyanchor.core.verification.causes import Shapes, shapes_of
from greyanchor.core.verification.explanations import (
    NOISE,
    Cause,
    Strip,
    conditions_differ,
    cost_of,
    made,
    misread_rows,
    of_places,
    of_print,
    of_profile,
    orders,
)

#: share of the squared differences that a cause must explain to be reported
_WORTH_TELLING = 0.12
#: the second of two faults counts as so many amounts more, explains at least this share of what the first
#: leaves, and two are named before any one when the criterion falls by this
_SECOND_AMOUNT, _SECOND_EXPLAINS, _SECOND_WINS = 1.0, 0.2, 12.0
#: sheets may be mixed up beside another fault when putting them right leaves less than this of the squares
_MENDED = 0.7


def diagnose(strip: Strip) -> list[Cause]:
    """Causes of the differences of a strip, best explanation first; empty where nothing is worth explaining.

    Raises `BadInput` for fewer than 16 patches, which explain nothing.
    """
    if len(strip.expected) < 16:
        raise BadInput(f"{len(strip.expected)} patches are too few to distinguish one cause from another")
    delta = (strip.measured - strip.expected).ravel()
    whole = float(delta @ delta)
    floor = cost_of(whole, whole, len(delta), 0)
    result = conditions_differ(strip)
    if not result and whole / len(delta) < (2.0 * NOISE) ** 2:
        return []
    shapes = shapes_of(strip.inks, strip.expected)
    found = [*of_places(strip, delta), *of_print(strip, delta, shapes), of_profile(strip, delta)]
    worth = [
        c
        for c in found
        if (c.cost < floor and c.explains >= _WORTH_TELLING) or (result and c.key == "condition")
    ]
    ranked = sorted(worth, key=lambda c: c.cost)
    return _with_two_at_once(strip, delta, shapes, ranked) if ranked else ranked


def _with_two_at_once(strip: Strip, delta: Array, shapes: Shapes, ranked: list[Cause]) -> list[Cause]:
    """Causes `ranked` alone, with the two that explain the print best together, where the best of them is
    one of the two or they do it better: before the others when far better, else right behind the best.
    """
    tried = [_two_of_print(strip, delta, shapes), *_two_with_reading(strip, delta, shapes)]
    tried = [two for two in tried if two[1].explains >= _SECOND_EXPLAINS * (1.0 - two[0].explains)]
    if not tried:
        return ranked
    pair = min(tried, key=lambda causes: causes[0].cost)
    named = {(c.key, c.channel) for c in pair}
    if pair[0].cost >= ranked[0].cost and (ranked[0].key, ranked[0].channel) not in named:
        return ranked
    first = ranked[:1] if pair[0].cost > ranked[0].cost - _SECOND_WINS else []
    first = [c for c in first if (c.key, c.channel) not in named]
    named |= {(c.key, c.channel) for c in first}
    return [*first, *pair, *(c for c in ranked if (c.key, c.channel) not in named)]


def _two_of_print(strip: Strip, delta: Array, shapes: Shapes) -> list[Cause]:
    """The two faults of the print that explain it best together."""
    whole = float(delta @ delta)

    def cost(pair: together.Fit) -> float:
        return cost_of(float(pair.left @ pair.left), whole, len(delta), len(pair.amounts) + _SECOND_AMOUNT)

    best = min(together.best_pairs(delta, shapes), key=cost)
    out = []
    for fault, other in ((0, 1), (1, 0)):
        rest = delta - best.changes[other]
        seen = replace(strip, measured=strip.measured - best.changes[other].reshape(-1, 3))
        named = best.faults[fault].key, best.faults[fault].channel
        alone = next(c for c in of_print(seen, rest, shapes) if (c.key, c.channel) == named)
        share = (float(rest @ rest) - float(best.left @ best.left)) / whole
        out.append(_beside(alone, share, cost(best)))
    return _told(out)


def _two_with_reading(strip: Strip, delta: Array, shapes: Shapes) -> list[list[Cause]]:
    """A fault of the reading with the fault of the print that explains the rest best."""
    whole, out = float(delta @ delta), []
    for order, what in orders(strip):
        mended = replace(strip, measured=strip.measured[order])
        rest = (mended.measured - mended.expected).ravel()
        squares = float(rest @ rest)
        if squares >= _MENDED * whole:
            continue
        alone = min(of_print(mended, rest, shapes), key=lambda c: c.cost)
        left = (1.0 - alone.explains) * squares
        evidence = f"{what}, the readings fit far better."
        sheets = made("sheets", "Sheets mixed up", evidence, delta, squares, 4)
        cost = cost_of(left, whole, len(delta), 4 + _amounts_of(alone) + _SECOND_AMOUNT)
        share = (squares - left) / whole
        out.append(_told([_beside(sheets, sheets.explains, cost), _beside(alone, share, cost)]))
    for fault in together.faults_of(shapes) if strip.rows is not None else ():
        pair = _rows_beside(strip, delta, shapes, fault)
        if pair is not None:
            out.append(pair)
    return out


def _rows_beside(strip: Strip, delta: Array, shapes: Shapes, fault: together.Fault) -> list[Cause] | None:
    """Misread rows with one fault of the print; None where no row stands out of what the fault leaves."""
    whole = float(delta @ delta)
    fitted = together.fit(delta, shapes, (fault,))
    change = fitted.changes[0]
    rows = misread_rows(replace(strip, measured=strip.measured - change.reshape(-1, 3)), delta - change)
    if rows is None:
        return None
    kept = np.repeat(~np.isin(np.asarray(strip.rows), rows.rows), 3)
    rest, left = delta * kept, fitted.left * kept
    if float(rest @ rest) < (2.0 * NOISE) ** 2 * float(kept.sum()) or not kept.any():
        return None  # nothing is left for a fault of the print to explain
    squares = float(left @ left)
    alone = next(c for c in of_print(strip, rest, shapes) if (c.key, c.channel) == (fault.key, fault.channel))
    cost = cost_of(
        squares, whole, len(delta), 0.5 * float((~kept).sum()) + len(fitted.amounts) + _SECOND_AMOUNT
    )
    held = (float(fitted.left @ fitted.left) - squares) / whole
    return _told([_beside(rows, held, cost), _beside(alone, (float(rest @ rest) - squares) / whole, cost)])


def _amounts_of(cause: Cause) -> float:
    return {"stale": 6.0, "condition": 1.5, "white": 1.0}.get(cause.key, 3.0)


def _beside(cause: Cause, share: float, cost: float) -> Cause:
    return replace(cause, explains=max(0.0, share), cost=cost)


def _told(pair: list[Cause]) -> list[Cause]:
    """The two of a pair, what explains more first, each saying that it is one of two."""
    first, second = sorted(pair, key=lambda c: -c.explains)
    return [
        replace(c, evidence=f"{c.evidence} With it: {other.title[0].lower()}{other.title[1:]}.")
        for c, other in ((first, second), (second, first))
    ]
