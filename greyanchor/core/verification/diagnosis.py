"""Diagnosis: which cause explains the differences of a check best, with its evidence.

Every cause is a model of the differences with few free amounts. They are compared by how much they
explain and how many amounts they need for it (Bayesian information criterion, Schwarz 1978); differences
that were there on a good day are taken off first where they are known.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.repeatability import robust_limit
from greyanchor.core.verification import together
from greyanchor.core.verification.causes import Shapes, shapes_of

#: Lab of a coordinate that print and instrument scatter by, whatever the cause
_NOISE = 0.22
#: coordinates of neighbouring patches go together: each counts as this share of an independent one
_INDEPENDENT = 0.6
#: share of the squares that the model of a cause may miss without being wrong
_INEXACT = 0.08
#: share of the squared differences that a cause must explain to be reported
_WORTH_TELLING = 0.12
_CHANNELS = "CMYK"
_INKS = {"C": "cyan", "M": "magenta", "Y": "yellow", "K": "black"}
#: patches are swapped, not drifted, when putting them right leaves less than this share of the squares
_PUT_RIGHT = 0.25
#: the second of two faults counts as so many amounts more, explains at least this share of what the first
#: leaves, and two are named before any one when the criterion falls by this
_SECOND_AMOUNT, _SECOND_EXPLAINS, _SECOND_WINS = 1.0, 0.2, 12.0
#: sheets may be mixed up beside another fault when putting them right leaves less than this of the squares
_MENDED = 0.7
#: what one amount does to film, tone and skew (3, 4 channels, 12)
_ALONE = np.eye(12).reshape(3, 4, 12)


@dataclass(frozen=True)
class Cause:
    """One explanation, ranked among others.

    Attributes
    ----------
    key
        ``paper``, ``channel``, ``dot gain``, ``grey balance``, ``stale``, ``rows``, ``sheets``, ``profile``,
        ``condition``, ``white`` or ``patches``.
    title, evidence
        What people read: the cause, and what speaks for it, with figures.
    explains
        Share of the squared differences that it explains, 0..1.
    cost
        The criterion that causes are ranked by; less is better.
    channel
        The ink, for ``channel``.
    rows
        Rows of the strip, for ``rows``.
    """

    key: str
    title: str
    evidence: str
    explains: float
    cost: float
    channel: str = ""
    rows: tuple[int, ...] = ()


@dataclass(frozen=True)
class Strip:
    """What a diagnosis needs of a check.

    Attributes
    ----------
    inks
        CMYK fractions (n, 4) that the strip was printed with, or else its own device values.
    expected, measured
        Lab (n, 3); `expected` is the aim, or the measurement of a good day.
    rows, sheets
        Places (n,), or None.
    conditions
        Measurement conditions of the aim and of the readings; empty where not known.
    """

    inks: Array
    expected: Array
    measured: Array
    rows: Array | None = None
    sheets: Array | None = None
    conditions: tuple[str, str] = ("", "")


def diagnose(strip: Strip) -> list[Cause]:
    """Causes of the differences of a strip, best explanation first; empty where nothing is worth explaining.

    Raises `BadInput` for fewer than 16 patches, which explain nothing.
    """
    if len(strip.expected) < 16:
        raise BadInput(f"{len(strip.expected)} patches are too few to distinguish one cause from another")
    delta = (strip.measured - strip.expected).ravel()
    whole = float(delta @ delta)
    floor = _cost(whole, whole, len(delta), 0)
    result = _conditions_differ(strip)
    if not result and whole / len(delta) < (2.0 * _NOISE) ** 2:
        return []
    shapes = shapes_of(strip.inks, strip.expected)
    found = [*_of_places(strip, delta), *_of_print(strip, delta, shapes), _of_profile(strip, delta)]
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
        return _cost(float(pair.left @ pair.left), whole, len(delta), pair.amounts + _SECOND_AMOUNT)

    best = min(together.best_pairs(delta, shapes), key=cost)
    out = []
    for fault, other in ((0, 1), (1, 0)):
        rest = delta - best.changes[other]
        seen = replace(strip, measured=strip.measured - best.changes[other].reshape(-1, 3))
        named = best.faults[fault].key, best.faults[fault].channel
        alone = next(c for c in _of_print(seen, rest, shapes) if (c.key, c.channel) == named)
        share = (float(rest @ rest) - float(best.left @ best.left)) / whole
        out.append(_beside(alone, share, cost(best)))
    return _told(out)


def _two_with_reading(strip: Strip, delta: Array, shapes: Shapes) -> list[list[Cause]]:
    """A fault of the reading with the fault of the print that explains the rest best."""
    whole, out = float(delta @ delta), []
    for order, what in _orders(strip):
        mended = replace(strip, measured=strip.measured[order])
        rest = (mended.measured - mended.expected).ravel()
        squares = float(rest @ rest)
        if squares >= _MENDED * whole:
            continue
        alone = min(_of_print(mended, rest, shapes), key=lambda c: c.cost)
        left = (1.0 - alone.explains) * squares
        evidence = f"{what}, the readings fit far better."
        sheets = _made("sheets", "Sheets mixed up", evidence, delta, squares, 4)
        cost = _cost(left, whole, len(delta), 4 + _amounts_of(alone) + _SECOND_AMOUNT)
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
    rows = _rows(replace(strip, measured=strip.measured - change.reshape(-1, 3)), delta - change)
    if rows is None:
        return None
    kept = np.repeat(~np.isin(np.asarray(strip.rows), rows.rows), 3)
    rest, left = delta * kept, fitted.left * kept
    if float(rest @ rest) < (2.0 * _NOISE) ** 2 * float(kept.sum()) or not kept.any():
        return None  # nothing is left for a fault of the print to explain
    squares = float(left @ left)
    alone = next(
        c for c in _of_print(strip, rest, shapes) if (c.key, c.channel) == (fault.key, fault.channel)
    )
    cost = _cost(squares, whole, len(delta), 0.5 * float((~kept).sum()) + fitted.amounts + _SECOND_AMOUNT)
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


def _conditions_differ(strip: Strip) -> bool:
    aim, seen = strip.conditions
    return bool(aim and seen and aim != seen)


def _cost(squares: float, whole: float, count: int, amounts: float) -> float:
    """Schwarz's criterion for `count` coordinates that leave `squares` of `whole` unexplained with so many
    `amounts`.
    """
    independent = _INDEPENDENT * count
    blind = _NOISE**2 + _INEXACT * whole / count
    return float(independent * np.log(squares / count + blind) + amounts * np.log(independent))


def _fitted(delta: Array, shapes: Array) -> tuple[Array, float]:
    """Amounts (k,) of shapes (k, 3n) that explain `delta` best, and the squares that are left."""
    weight = np.ones_like(delta)
    amounts = np.zeros(len(shapes))
    for _ in range(4):
        amounts = np.linalg.lstsq((shapes * weight).T, delta * weight, rcond=1e-6)[0]
        weight = together.weights(delta - amounts @ shapes)
    left = delta - amounts @ shapes
    return amounts, float(left @ left)


def _inked(delta: Array, shapes: Shapes, mixing: Array) -> tuple[Array, float]:
    """Amounts (k,) of what `mixing` (k, 12) makes of film, tone and skew, by Gauss-Newton, and the squares
    left.
    """
    amounts = np.zeros(len(mixing))
    weight = np.ones_like(delta)
    now = np.zeros_like(delta)
    for _ in range(3):
        slopes = np.array([shapes.inked((amounts + e) @ mixing) - now for e in np.eye(len(mixing))])
        step = np.linalg.lstsq((slopes * weight).T, (delta - now) * weight, rcond=1e-6)[0]
        amounts = np.clip(amounts + step, -45.0, 45.0)
        now = shapes.inked(amounts @ mixing)
        weight = together.weights(delta - now)
    left = delta - now
    return amounts, float(left @ left)


def _made(
    key: str,
    title: str,
    evidence: str,
    delta: Array,
    squares: float,
    amounts: float,
    channel: str = "",
    rows: tuple[int, ...] = (),
) -> Cause:
    whole = max(float(delta @ delta), 1e-12)
    return Cause(
        key,
        title,
        evidence,
        max(0.0, 1.0 - squares / whole),
        _cost(squares, whole, len(delta), amounts),
        channel,
        rows,
    )


# --- what was printed -------------------------------------------------------------------------


def _of_print(strip: Strip, delta: Array, shapes: Shapes) -> list[Cause]:
    return [
        _paper(strip, delta, shapes),
        *_condition(strip, delta, shapes),
        *(_channel(delta, shapes, i) for i in range(4)),
        _dot_gain(delta, shapes),
        _grey_balance(strip, delta, shapes),
        _stale(delta, shapes),
    ]


def _paper(strip: Strip, delta: Array, shapes: Shapes) -> Cause:
    _, squares = _fitted(delta, shapes.paper)
    bare = strip.inks.max(axis=1) < 0.0005
    seen = "everything is tinted alike"
    if bare.any():
        d = (strip.measured - strip.expected)[bare].mean(axis=0)
        seen = (
            f"the unprinted media differs by L* {d[0]:+.1f} a* {d[1]:+.1f} b* {d[2]:+.1f}, and all "
            "colours over it alike"
        )
    return _made("paper", "Another paper", seen.capitalize() + ".", delta, squares, 3)


def _condition(strip: Strip, delta: Array, shapes: Shapes) -> list[Cause]:
    amounts, squares = _fitted(delta, shapes.brightener[None])
    aim, seen = strip.conditions
    found = _conditions_differ(strip)
    evidence = (
        f"Light patches are {'bluer' if amounts[0] > 0 else 'yellower'}, as brightener in the paper "
        "makes them; "
        "full inks are not."
    )
    if found:
        evidence = f"The aim is {aim}, the print was read as {seen}. " + evidence
    # a header that says so is evidence of its own
    condition = _made(
        "condition", "Another measurement condition", evidence, delta, squares, -6 if found else 1.5
    )
    amounts, squares = _fitted(delta, shapes.white[None])
    white = _made(
        "white",
        "White calibration of the instrument",
        f"Everything measures {abs(amounts[0]):.1f} % {'lighter' if amounts[0] > 0 else 'darker'}, dark and "
        "light alike, "
        "and nothing turns in colour.",
        delta,
        squares,
        1,
    )
    return [condition, white]


def _channel(delta: Array, shapes: Shapes, i: int) -> Cause:
    amounts, squares = _inked(delta, shapes, _ALONE[:, i])
    name = _CHANNELS[i]
    more = amounts[0] + 0.5 * amounts[1] > 0
    evidence = (
        f"Only patches with {_INKS[name]} differ, as a layer {abs(amounts[0]):.0f} % "
        f"{'thicker' if amounts[0] > 0 else 'thinner'} "
        f"with midtones {amounts[1]:+.0f} % would make them."
    )
    title = f"{_INKS[name].capitalize()} prints too {'much' if more else 'little'}"
    return _made("channel", title, evidence, delta, squares, 3, channel=name)


def _dot_gain(delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, _ALONE.sum(axis=1))
    amounts = amounts[[1, 0, 2]]
    full = amounts[0] + 0.3 * amounts[1] > 0
    evidence = (
        f"Midtones of all inks lie {abs(amounts[0]):.1f} % {'higher' if full else 'lower'} alike; solids "
        "and paper "
        "hardly differ."
    )
    return _made("dot gain", f"Dot gain {'higher' if full else 'lower'}", evidence, delta, squares, 3)


def _grey_balance(strip: Strip, delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, _ALONE[1, :3])
    text = ", ".join(f"{c} {a:+.1f} %" for c, a in zip("CMY", amounts))
    evidence = f"Greys have a cast while solids and paper hold: midtones of C, M and Y went apart ({text})."
    return _made("grey balance", "Grey balance", evidence, delta, squares, 3)


def _stale(delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, np.vstack([_ALONE[0], _ALONE[1:].sum(axis=1)]))
    text = ", ".join(f"{c} {a:+.0f} %" for c, a in zip(_CHANNELS, amounts))
    evidence = (
        f"Several inks changed, each by itself ({text}): the printer is no longer as it was calibrated."
    )
    return _made("stale", "Stale calibration", evidence, delta, squares, 6)


def _of_profile(strip: Strip, delta: Array) -> Cause:
    """Colours moved smoothly with colour, not with ink: a second-order map of Lab explains what inks
    cannot.
    """
    _, as_intent = _fitted(delta, _intent_shapes(strip.expected))
    _, as_profile = _fitted(delta, _map_shapes(strip.expected))
    squares, amounts = min(
        ((as_intent, 9.0), (as_profile, 20.0)),
        key=lambda tried: _cost(tried[0], float(delta @ delta), len(delta), tried[1]),
    )
    de = delta_e_2000(strip.expected, strip.measured)
    bare = strip.inks.max(axis=1) < 0.0005
    paper = f", while the paper differs by {de[bare].mean():.1f}" if bare.any() else ""
    evidence = (
        f"Colours of all kinds are off, {np.median(de):.1f} dE00 in the middle{paper}; no ink, tone or "
        "paper explains it. "
        "It is as if the strip went through another profile, another rendering intent, or through none."
    )
    return _made("profile", "Wrong profile or rendering intent", evidence, delta, squares, amounts)


def _map_shapes(lab: Array) -> Array:
    """Second-order map of Lab to its change (30, 3n)."""
    x = lab / 50.0
    parts = [np.ones(len(x)), *x.T, *(x[:, i] * x[:, j] for i in range(3) for j in range(i, 3))]
    return np.array([np.outer(p, e).ravel() for p in parts for e in np.eye(3)])


def _intent_shapes(lab: Array) -> Array:
    """What another rendering intent does (9, 3n): a bent lightness, chroma scaled by lightness and chroma, a
    tint.
    """
    light, size = lab[:, 0] / 50.0, np.hypot(lab[:, 1], lab[:, 2]) / 50.0
    lifts = [np.outer(p, [1.0, 0.0, 0.0]) for p in (np.ones(len(lab)), light, light**2, size)]
    purer = lab * np.array([0.0, 1.0, 1.0]) / 50.0
    scales = [purer * p[:, None] for p in (np.ones(len(lab)), light, size)]
    tints = [np.outer(np.ones(len(lab)), e) for e in ([0.0, 1.0, 0.0], [0.0, 0.0, 1.0])]
    return np.array([part.ravel() for part in (*lifts, *scales, *tints)])


# --- where it was read -------------------------------------------------------------------------


def _of_places(strip: Strip, delta: Array) -> list[Cause]:
    return [c for c in (*_swapped(strip, delta), _rows(strip, delta), _single(strip, delta)) if c is not None]


def _single(strip: Strip, delta: Array) -> Cause | None:
    """Up to four patches that stand out alone."""
    size = delta_e_2000(strip.expected, strip.measured)
    out = np.flatnonzero(size > max(3.0, robust_limit(size)))
    if not 0 < len(out) <= min(4, len(size) // 12):
        return None
    kept = delta.reshape(-1, 3).copy()
    kept[out] = 0.0
    squares = float((kept**2).sum())
    evidence = (
        f"{len(out)} patch{'es' if len(out) > 1 else ''} of {len(size)} differ by "
        f"{size[out].max():.1f} dE00 at most; all others hold."
    )
    return _made("patches", "Single patches", evidence, delta, squares, 3.0 * len(out))


def _rows(strip: Strip, delta: Array) -> Cause | None:
    """One or two rows that differ while the others agree."""
    if strip.rows is None:
        return None
    size = delta_e_2000(strip.expected, strip.measured)
    numbers = np.unique(strip.rows)
    if len(numbers) < 3:
        return None
    medians = np.array([np.median(size[strip.rows == r]) for r in numbers])
    order = np.argsort(-medians)
    best: Cause | None = None
    for count in (1, 2):
        if len(numbers) < 3 * count:
            break
        chosen = tuple(sorted(int(numbers[i]) for i in order[:count]))
        inside = np.isin(strip.rows, chosen)
        kept = delta.reshape(-1, 3).copy()
        kept[inside] = 0.0
        rest = float(np.median(size[~inside]))
        evidence = (
            f"Row{'s' if count > 1 else ''} {' and '.join(map(str, chosen))} "
            f"differ{'' if count > 1 else 's'} by "
            f"{np.median(size[inside]):.1f} dE00 in the middle, all other rows by {rest:.1f}."
        )
        title = f"Row{'s' if count > 1 else ''} {' and '.join(map(str, chosen))} misread"
        # a misread row has shape enough of its own: half an amount for each coordinate
        found = _made(
            "rows", title, evidence, delta, float((kept**2).sum()), 0.5 * 3.0 * inside.sum(), rows=chosen
        )
        if best is None or found.cost < best.cost:
            best = found
    return best


def _swapped(strip: Strip, delta: Array) -> list[Cause]:
    """Readings that fit other patches: sheets in another order, or read from the other end."""
    whole, out = float(delta @ delta), []
    for order, what in _orders(strip):
        left = (strip.measured[order] - strip.expected).ravel()
        squares = float(left @ left)
        if squares < _PUT_RIGHT * whole:
            evidence = (
                f"{what}, the readings fit: {np.sqrt(squares / whole) * 100:.0f} % of the "
                "differences are left."
            )
            out.append(_made("sheets", "Sheets mixed up", evidence, delta, squares, 4))
    return sorted(out, key=lambda c: c.cost)[:1]


def _orders(strip: Strip) -> list[tuple[Array, str]]:
    n = len(strip.expected)
    orders: list[tuple[Array, str]] = [(np.arange(n)[::-1], "Read from the other end")]
    if strip.sheets is not None:
        numbers = [int(s) for s in np.unique(strip.sheets)]
        for a, b in combinations(numbers, 2):
            first, second = np.flatnonzero(strip.sheets == a), np.flatnonzero(strip.sheets == b)
            count = min(len(first), len(second))
            order = np.arange(n)
            order[first[:count]], order[second[:count]] = second[:count], first[:count]
            orders.append((order, f"With sheets {a} and {b} exchanged"))
        for number in numbers if len(numbers) > 1 else []:
            on = np.flatnonzero(strip.sheets == number)
            order = np.arange(n)
            order[on] = on[::-1]
            orders.append((order, f"With sheet {number} turned around"))
    return orders
