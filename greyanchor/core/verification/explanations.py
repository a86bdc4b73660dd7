"""Single causes of the differences of a check: models with few free amounts, their cost and evidence."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.measurement.repeatability import robust_limit
from greyanchor.core.verification import together
from greyanchor.core.verification.causes import Shapes

#: Lab of a coordinate that print and instrument scatter by, whatever the cause
NOISE = 0.22
#: coordinates of neighbouring patches go together: each counts as this share of an independent one
_INDEPENDENT = 0.6
#: share of the squares that the model of a cause may miss without being wrong
_INEXACT = 0.08
_CHANNELS = "CMYK"
_INKS = {"C": "cyan", "M": "magenta", "Y": "yellow", "K": "black"}
#: patches are swapped, not drifted, when putting them right leaves less than this share of the squares
_PUT_RIGHT = 0.25


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


def conditions_differ(strip: Strip) -> bool:
    aim, seen = strip.conditions
    return bool(aim and seen and aim != seen)


def cost_of(squares: float, whole: float, count: int, amounts: float) -> float:
    """Schwarz's criterion for `count` coordinates that leave `squares` of `whole` unexplained with so many
    `amounts`.
    """
    independent = _INDEPENDENT * count
    blind = NOISE**2 + _INEXACT * whole / count
    return float(independent * np.log(squares / count + blind) + amounts * np.log(independent))


def _fitted(delta: Array, shapes: Array) -> tuple[Array, float]:
    """Amounts (k,) of shapes (k, 3n) that explain `delta` best, and the squares that are left."""
    amounts, left = together.straight(delta, shapes)
    return amounts, float(left @ left)


def _inked(delta: Array, shapes: Shapes, mixing: Array) -> tuple[Array, float]:
    """Amounts (k,) of what `mixing` (k, 12) makes of film, tone and skew, and the squares that are left."""
    found = together.fit(delta, shapes, (together.Fault("", mixing=mixing),))
    return found.amounts, float(found.left @ found.left)


def made(
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
        cost_of(squares, whole, len(delta), amounts),
        channel,
        rows,
    )


# --- what was printed -------------------------------------------------------------------------


def of_print(strip: Strip, delta: Array, shapes: Shapes) -> list[Cause]:
    """Causes that lie in the print, the paper or the instrument."""
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
    return made("paper", "Another paper", seen.capitalize() + ".", delta, squares, 3)


def _condition(strip: Strip, delta: Array, shapes: Shapes) -> list[Cause]:
    amounts, squares = _fitted(delta, shapes.brightener[None])
    aim, seen = strip.conditions
    found = conditions_differ(strip)
    evidence = (
        f"Light patches are {'bluer' if amounts[0] > 0 else 'yellower'}, as brightener in the paper "
        "makes them; "
        "full inks are not."
    )
    if found:
        evidence = f"The aim is {aim}, the print was read as {seen}. " + evidence
    # a header that says so is evidence of its own
    condition = made(
        "condition", "Another measurement condition", evidence, delta, squares, -6 if found else 1.5
    )
    amounts, squares = _fitted(delta, shapes.white[None])
    white = made(
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
    amounts, squares = _inked(delta, shapes, together.ALONE[:, i])
    name = _CHANNELS[i]
    more = amounts[0] + 0.5 * amounts[1] > 0
    evidence = (
        f"Only patches with {_INKS[name]} differ, as a layer {abs(amounts[0]):.0f} % "
        f"{'thicker' if amounts[0] > 0 else 'thinner'} "
        f"with midtones {amounts[1]:+.0f} % would make them."
    )
    title = f"{_INKS[name].capitalize()} prints too {'much' if more else 'little'}"
    return made("channel", title, evidence, delta, squares, 3, channel=name)


def _dot_gain(delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, together.ALONE.sum(axis=1))
    amounts = amounts[[1, 0, 2]]
    full = amounts[0] + 0.3 * amounts[1] > 0
    evidence = (
        f"Midtones of all inks lie {abs(amounts[0]):.1f} % {'higher' if full else 'lower'} alike; solids "
        "and paper "
        "hardly differ."
    )
    return made("dot gain", f"Dot gain {'higher' if full else 'lower'}", evidence, delta, squares, 3)


def _grey_balance(strip: Strip, delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, together.ALONE[1, :3])
    text = ", ".join(f"{c} {a:+.1f} %" for c, a in zip("CMY", amounts))
    evidence = f"Greys have a cast while solids and paper hold: midtones of C, M and Y went apart ({text})."
    return made("grey balance", "Grey balance", evidence, delta, squares, 3)


def _stale(delta: Array, shapes: Shapes) -> Cause:
    amounts, squares = _inked(delta, shapes, np.vstack([together.ALONE[0], together.ALONE[1:].sum(axis=1)]))
    text = ", ".join(f"{c} {a:+.0f} %" for c, a in zip(_CHANNELS, amounts))
    evidence = (
        f"Several inks changed, each by itself ({text}): the printer is no longer as it was calibrated."
    )
    return made("stale", "Stale calibration", evidence, delta, squares, 6)


def of_profile(strip: Strip, delta: Array) -> Cause:
    """Colours moved smoothly with colour, not with ink: a second-order map of Lab explains what inks
    cannot.
    """
    _, as_intent = _fitted(delta, _intent_shapes(strip.expected))
    _, as_profile = _fitted(delta, _map_shapes(strip.expected))
    squares, amounts = min(
        ((as_intent, 9.0), (as_profile, 20.0)),
        key=lambda tried: cost_of(tried[0], float(delta @ delta), len(delta), tried[1]),
    )
    de = delta_e_2000(strip.expected, strip.measured)
    bare = strip.inks.max(axis=1) < 0.0005
    paper = f", while the paper differs by {de[bare].mean():.1f}" if bare.any() else ""
    evidence = (
        f"Colours of all kinds are off, {np.median(de):.1f} dE00 in the middle{paper}; no ink, tone or "
        "paper explains it. "
        "It is as if the strip went through another profile, another rendering intent, or through none."
    )
    return made("profile", "Wrong profile or rendering intent", evidence, delta, squares, amounts)


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


def of_places(strip: Strip, delta: Array) -> list[Cause]:
    return [
        c
        for c in (*_swapped(strip, delta), misread_rows(strip, delta), _single(strip, delta))
        if c is not None
    ]


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
    return made("patches", "Single patches", evidence, delta, squares, 3.0 * len(out))


def misread_rows(strip: Strip, delta: Array) -> Cause | None:
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
        found = made(
            "rows", title, evidence, delta, float((kept**2).sum()), 0.5 * 3.0 * inside.sum(), rows=chosen
        )
        if best is None or found.cost < best.cost:
            best = found
    return best


def _swapped(strip: Strip, delta: Array) -> list[Cause]:
    """Readings that fit other patches: sheets in another order, or read from the other end."""
    whole, out = float(delta @ delta), []
    for order, what in orders(strip):
        left = (strip.measured[order] - strip.expected).ravel()
        squares = float(left @ left)
        if squares < _PUT_RIGHT * whole:
            evidence = (
                f"{what}, the readings fit: {np.sqrt(squares / whole) * 100:.0f} % of the "
                "differences are left."
            )
            out.append(made("sheets", "Sheets mixed up", evidence, delta, squares, 4))
    return sorted(out, key=lambda c: c.cost)[:1]


def orders(strip: Strip) -> list[tuple[Array, str]]:
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
