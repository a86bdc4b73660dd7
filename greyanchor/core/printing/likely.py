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
_LIMIT_FLOOR, _TOTAL_FLOOR, _CURVE_FLOOR, _GAMUT_FLOOR, _DRY_FLOOR = 1.2, 8.0, 1.2, 1e4, 5.0
#: modes that what media of one class usually differ by counts for
_STEADY = 2.0
#: how much farther the variance of classes is taken to be than that within one, where a single one is known
_APART = 4.0
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
    """What modes of the media's class, and of others where it has few, let expect of one more, with how sure
    that is; None where fewer than two are known.
    """
    if len(known) < 2:
        return None
    weights = np.array([_weight(k, traits, passes) for k in known])
    weights = np.maximum(weights, 1e-6)
    like = _Like(weights, [k.traits.media_class for k in known], traits.media_class)
    limits = {
        c: g for c in known[0].limits if (g := like.guess([k.limits.get(c) for k in known], _LIMIT_FLOOR))
    }
    total = like.guess([k.total_ink for k in known], _TOTAL_FLOOR)
    gamut = like.guess([k.gamut for k in known], _GAMUT_FLOOR)
    dry = like.guess([k.dry_minutes for k in known], _DRY_FLOOR)
    counted = {k.name: float(s) for k, s in zip(known, weights / weights.sum())}
    return Likely(limits, total, _curves(known, like), counted, gamut, dry)


def _weight(known: Known, traits: Traits, passes: int | None) -> float:
    share = alike(known.traits, traits)
    if passes and known.passes:
        share *= float(np.exp(-0.5 * (np.log(passes / known.passes) / np.log(_PASSES_APART)) ** 2))
    return share


@dataclass(frozen=True)
class _Like:
    """How much each known mode counts, the class of its media, and that of the new one."""

    weights: Array
    classes: Sequence[str]
    new_class: str

    def guess(self, values: Sequence[float | None], floor: float) -> Guess | None:
        """What is likely of one more media, and how sure that is; None where fewer than two have a value.

        The mean of the class is what its own media say, held to where classes lie at all, by how sure each is
        (a normal mean with a normal prior: Gelman and others, Bayesian Data Analysis, 2.5).
        """
        there = [i for i, v in enumerate(values) if v]
        if len(there) < 2:
            return None
        v, w = np.array([values[i] for i in there], dtype=float), self.weights[there]
        names = np.array([self.classes[i] for i in there])
        usual = _within(v, names) + 1e-9
        places = [np.average(v[names == n], weights=w[names == n]) for n in set(names) - {self.new_class}]
        # one class alone does not say how far classes lie apart: farther than media of one class do
        apart = max(float(np.var(places, ddof=1)), usual) if len(places) > 1 else _APART * usual
        prior, unknown = float(np.mean(places)) if places else 0.0, apart * (1.0 + 1.0 / max(len(places), 1))
        own = names == self.new_class
        if not own.any():
            return Guess(prior, float(np.sqrt(unknown + usual + floor**2)))
        share = w[own] / w[own].sum()
        mean, count = float(share @ v[own]), 1.0 / float((share**2).sum())  # that really count
        # few agree by chance: what media of one class differ by anywhere steadies what these do
        spread = float(share @ (v[own] - mean) ** 2)
        steadied = (count * spread + _STEADY * usual) / (count - 1.0 + _STEADY)
        left = steadied / count
        if places:
            mean = (mean * unknown + prior * left) / (unknown + left)
            left = left * unknown / (unknown + left)
        return Guess(mean, float(np.sqrt(steadied + left + floor**2)))


def _within(values: Array, names: Array) -> float:
    """Variance within classes, of all of them together; of all values where no class has two."""
    groups = [values[names == n] for n in set(names)]
    free = len(values) - len(groups)
    if not free:
        return float(values.var())
    return float(sum(((g - g.mean()) ** 2).sum() for g in groups)) / free


def _curves(known: Sequence[Known], like: _Like) -> dict[str, list[Guess]]:
    shares = [_shares(k.curves) if k.curves else {} for k in known]
    out = {}
    for ink in next((s for s in shares if s), {}):
        rows = [s.get(ink) for s in shares]
        guesses = [like.guess([r[i] if r else None for r in rows], _CURVE_FLOOR) for i in range(len(INPUTS))]
        if all(guesses):
            out[ink] = [g for g in guesses if g is not None]
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
