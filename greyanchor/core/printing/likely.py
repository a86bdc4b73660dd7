"""What a new media is likely to be given, from what media like it were given: before anything of it was
read.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from greyanchor.core.colour.colorimetry import Array

#: how much media of another class count, and how far weights (as a factor) and passes may lie apart
_OTHER_CLASS, _WEIGHT_APART, _PASSES_APART, _OTHER_BRIGHTENER = 0.15, 1.6, 2.0, 0.7
#: what is not known of any media even where all like it agree: percent of a limit, of total ink, of a curve,
#: cubic Lab of a gamut, minutes
_LIMIT_FLOOR, _TOTAL_FLOOR, _CURVE_FLOOR, _GAMUT_FLOOR, _DRY_FLOOR = 2.0, 8.0, 1.2, 1e4, 5.0
#: standard deviations from which on a curve surprises
_SURPRISING = 3.0
#: inputs that curves are given at, percent
INPUTS = tuple(range(10, 101, 10))


@dataclass(frozen=True)
class Traits:
    """What is known of a media before it is printed on: class, weight in g/m² (0 where it is not known),
    and its brightener in words.
    """

    media_class: str
    weight: float = 0.0
    brightener: str = ""


@dataclass(frozen=True)
class Known:
    """What a mode of a shop was given: limits and total ink in percent, passes, curves as CSV text; its
    gamut's volume (cubic Lab), and how long its media dries.
    """

    name: str
    traits: Traits
    limits: Mapping[str, float]
    total_ink: float | None = None
    passes: int | None = None
    curves: str = ""
    gamut: float | None = None
    dry_minutes: float | None = None


@dataclass(frozen=True)
class Guess:
    """A value and its standard deviation."""

    value: float
    unsure: float


@dataclass(frozen=True)
class Likely:
    """What a new media is likely to be given: limits by ink and total ink, percent; curves by ink at
    `INPUTS`, as shares of the limit, percent; and how much each known mode counted.
    """

    limits: dict[str, Guess]
    total_ink: Guess | None
    curves: dict[str, list[Guess]] = field(default_factory=dict)
    weights: dict[str, float] = field(default_factory=dict)
    gamut: Guess | None = None
    dry_minutes: Guess | None = None

    @property
    def midtones(self) -> dict[str, Guess]:
        """Curves at 50 %, by ink."""
        return {c: rows[INPUTS.index(50)] for c, rows in self.curves.items()}


@dataclass(frozen=True)
class Surprise:
    """A curve that runs where none like it was expected: by how many percent of its limit, at which input."""

    ink: str
    at: int
    off: float


def surprises(curves: Mapping[str, Sequence[float]], expected: Likely) -> list[Surprise]:
    """Inks whose curves (outputs over even inputs) lie more than three standard deviations from what was
    expected, the place where each does so most.
    """
    found = []
    for ink, guesses in expected.curves.items():
        if ink not in curves:
            continue
        outputs = np.asarray(curves[ink], dtype=float)
        shares = 100.0 * np.interp(INPUTS, np.linspace(0.0, 100.0, len(outputs)), outputs) / outputs[-1]
        off = shares - np.array([g.value for g in guesses])
        sure = np.abs(off) / np.array([g.unsure for g in guesses])
        worst = int(sure.argmax())
        if sure[worst] > _SURPRISING:
            found.append(Surprise(ink, INPUTS[worst], float(off[worst])))
    return found


def alike(one: Traits, other: Traits) -> float:
    """How much one media says of another, 0..1."""
    share = 1.0 if one.media_class == other.media_class else _OTHER_CLASS
    if one.weight > 0 and other.weight > 0:
        share *= float(np.exp(-0.5 * (np.log(one.weight / other.weight) / np.log(_WEIGHT_APART)) ** 2))
    return share * (1.0 if one.brightener == other.brightener else _OTHER_BRIGHTENER)


def likely(known: Sequence[Known], traits: Traits, passes: int | None = None) -> Likely | None:
    """Weighted means over known modes with how sure they are; None where fewer than two are known.

    The spread is that of the modes themselves, widened for how few they are (a prediction of one more, with a
    t-like factor for the number that count).
    """
    if len(known) < 2:
        return None
    weights = np.array([_weight(k, traits, passes) for k in known])
    weights = np.maximum(weights, 1e-6)
    limits = {c: g for c in known[0].limits if (g := _limit(known, weights, c)) is not None}
    total = _of([k.total_ink for k in known], weights, _TOTAL_FLOOR)
    gamut = _of([k.gamut for k in known], weights, _GAMUT_FLOOR)
    dry = _of([k.dry_minutes for k in known], weights, _DRY_FLOOR)
    shares = weights / weights.sum()
    counted = {k.name: float(s) for k, s in zip(known, shares)}
    return Likely(limits, total, _curves(known, weights), counted, gamut, dry)


def _weight(known: Known, traits: Traits, passes: int | None) -> float:
    share = alike(known.traits, traits)
    if passes and known.passes:
        share *= float(np.exp(-0.5 * (np.log(passes / known.passes) / np.log(_PASSES_APART)) ** 2))
    return share


def _limit(known: Sequence[Known], weights: Array, ink: str) -> Guess | None:
    there = [(float(k.limits[ink]), w) for k, w in zip(known, weights) if ink in k.limits]
    if len(there) < 2:
        return None
    return _guess([v for v, _ in there], [w for _, w in there], _LIMIT_FLOOR)


def _of(values: Sequence[float | None], weights: Array, floor: float) -> Guess | None:
    there = [(float(v), float(w)) for v, w in zip(values, weights) if v]
    return _guess([v for v, _ in there], [w for _, w in there], floor) if len(there) > 1 else None


def _guess(values: Sequence[float], weights: Sequence[float], floor: float) -> Guess:
    v, w = np.array(values, dtype=float), np.array(weights, dtype=float)
    w = w / w.sum()
    mean = float(w @ v)
    count = 1.0 / float((w**2).sum())  # that really count
    spread = float(w @ (v - mean) ** 2)
    # few agree by chance: the spread of all of them steadies that of those that count
    steadied = (count * spread + 2.0 * float(v.var())) / (count + 2.0) if len(v) > 2 else float(v.var())
    return Guess(mean, float(np.sqrt(steadied * (1.0 + 1.0 / count) + floor**2)))


def _curves(known: Sequence[Known], weights: Array) -> dict[str, list[Guess]]:
    parsed = [(_shares(k.curves), w) for k, w in zip(known, weights) if k.curves]
    if len(parsed) < 2:
        return {}
    out = {}
    for ink in parsed[0][0]:
        rows = [(p[ink], w) for p, w in parsed if ink in p]
        if len(rows) > 1:
            out[ink] = [
                _guess([r[i] for r, _ in rows], [w for _, w in rows], _CURVE_FLOOR)
                for i in range(len(INPUTS))
            ]
    return out


def _shares(text: str) -> dict[str, list[float]]:
    """Curves as CSV text (channel, input, output, percent) at `INPUTS`, in percent of where each ends."""
    points: dict[str, list[tuple[float, float]]] = {}
    for line in text.splitlines()[1:]:
        ink, _, rest = line.partition(",")
        given, _, output = rest.partition(",")
        points.setdefault(ink, []).append((float(given), float(output)))
    found = {}
    for ink, pairs in points.items():
        x, y = np.array(sorted(pairs)).T
        found[ink] = [float(v) for v in 100.0 * np.interp(INPUTS, x, y) / max(float(y[-1]), 1e-9)]
    return found
