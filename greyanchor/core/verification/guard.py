"""Guard band: would the same print, measured again, get the same verdict?"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
from scipy.optimize import nnls

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import compare
from greyanchor.core.verification.check import CheckResult, again

#: share of repeated measurements that must agree with a verdict for it to be sure: 19 times of 20
SURE = 0.95
#: mean dE00 between two readings of one sheet that is taken when no second reading said better
USUAL_REPEATABILITY = 0.20
#: the usual instrument at `USUAL_REPEATABILITY`: variance of L*, a* and b*
_USUAL = ((0.001, 0.050, 0.0), (0.004, 0.007, 0.018), (0.004, 0.024, 0.018))
_REPEATS = 400
_MOST_PATCHES = 60_000


@dataclass(frozen=True)
class Guard:
    """How firmly a verdict stands.

    Attributes
    ----------
    share
        Share of repeated measurements with the same verdict, 0..1.
    criteria
        The same for each criterion by id; those without a limit or a value are left out.
    repeatability
        Mean dE00 between two readings that was assumed or found.
    measured
        Whether it was found, from two readings of this sheet.
    """

    share: float
    criteria: dict[str, float]
    repeatability: float
    measured: bool

    @property
    def sure(self) -> bool:
        """Whether the verdict would be the same 19 times of 20."""
        return self.share >= SURE


@dataclass(frozen=True)
class Scatter:
    """How readings of one patch scatter from pass to pass.

    The variance of each value of Lab is a constant, and what grows with ((L* + 16) / 116)^2 and with
    (C* / 100)^2, as instruments are: their errors are shares of the light they see.

    Attributes
    ----------
    repeatability
        Mean dE00 between two passes.
    lines
        Constant and the two slopes (3, 3) of the variance of L*, a* and b*.
    common
        Standard deviation (3,) of what all patches of a pass have in common.
    measured
        Whether it was found from several passes.
    """

    repeatability: float
    lines: Array
    common: tuple[float, float, float] = (0.0, 0.0, 0.0)
    measured: bool = False

    def drawn(self, lab: Array, random: np.random.Generator, times: int) -> Array:
        """Errors (times, n, 3) of readings of Lab (n, 3), of one pass each."""
        wide = np.sqrt(_terms(lab) @ self.lines.T)
        shared = np.array(self.common) * random.standard_normal((times, 1, 3))
        return np.asarray(random.standard_normal((times, *lab.shape)) * wide + shared)


def _terms(lab: Array) -> Array:
    light = ((lab[:, 0] + 16.0) / 116.0) ** 2
    return np.column_stack([np.ones(len(lab)), light, (lab[:, 1] ** 2 + lab[:, 2] ** 2) / 1e4])


def usual_scatter(repeatability: float = USUAL_REPEATABILITY) -> Scatter:
    """The scatter of an instrument of which only the mean dE00 between two readings is known."""
    share = (repeatability / USUAL_REPEATABILITY) ** 2
    return Scatter(repeatability, share * np.array(_USUAL))


def scatter_of(passes: list[ReadingSet]) -> Scatter | None:
    """How readings scatter, from two passes or more over one sheet; None for a single one.

    Few patches say little, so the usual instrument of the same repeatability counts as forty more.
    """
    found = repeatability_of(passes)
    if found is None:
        return None
    usual = usual_scatter(max(found, 0.01))
    first = passes[0]
    order = [{name: i for i, name in enumerate(p.ids)} for p in passes]
    labs = np.stack([p.lab()[[o[name] for name in first.ids]] for p, o in zip(passes, order)])
    off = (labs - labs.mean(axis=0)) * np.sqrt(len(labs) / (len(labs) - 1.0))
    common = off.mean(axis=1)
    off = off - np.median(off, axis=1, keepdims=True)
    # a speck or a slip is no scatter
    size = np.minimum(np.abs(off), 5.0 * np.median(np.abs(off), axis=1, keepdims=True) + 1e-9)
    variance = (size**2).mean(axis=0)
    terms = _terms(labs.mean(axis=0))
    lines = np.array([_line(terms, variance[:, k], usual.lines[k]) for k in range(3)])
    alone = variance.mean(axis=0) / len(first)
    shared = np.sqrt(np.maximum((common**2).mean(axis=0) - alone, 0.0))
    return Scatter(found, lines, (float(shared[0]), float(shared[1]), float(shared[2])), True)


def _line(terms: Array, variance: Array, usual: Array) -> Array:
    """Coefficients (3,) of variances (n,) over terms (n, 3), none below nought, drawn to the usual ones."""
    extra = terms[np.linspace(0, len(terms) - 1, 40).astype(int)]
    x, y = np.vstack([terms, extra]), np.concatenate([variance, extra @ usual])
    weight = 1.0 / np.maximum(x @ usual, 1e-6)
    return np.asarray(nnls(x * weight[:, None], y * weight)[0])


def repeatability_of(passes: list[ReadingSet]) -> float | None:
    """Mean dE00 between readings of one sheet; None for a single reading."""
    if len(passes) < 2:
        return None
    return float(np.mean([compare(passes[0], other).mean for other in passes[1:]]))


def guard(
    result: CheckResult, scatter: Scatter | float | None = None, readings: int = 1, seed: int = 1
) -> Guard:
    """Judge a print again as one more reading of it would be judged.

    What is known is the mean of `readings` noisy readings, so the next one differs from it by the scatter of
    both: sigma * sqrt(1 + 1/readings). Maxima, percentiles and mean differences grow with noise; the figures
    drawn are centred where one more reading would lie, which noise of sigma * sqrt(1 - 1/readings) laid over
    what was measured says. `scatter` may be the mean dE00 between two readings alone, or None for the usual
    one.
    """
    known = usual_scatter(scatter) if isinstance(scatter, float) else scatter or usual_scatter()
    judged = again(result)
    random = np.random.default_rng(seed)
    limited = [(i, f) for i, f in enumerate(result.findings) if f.left is not None]
    if not limited:
        return Guard(1.0, {}, known.repeatability, known.measured)
    most = _REPEATS if not judged.weighs_greys else _REPEATS // 3
    count = max(60, min(most, _MOST_PATCHES // max(len(result.ids), 1)))
    errors = known.drawn(result.measured, random, count)

    def figures(factor: float) -> Array:
        rows, _ = judged.figures_of_many(result.measured + factor * errors)
        return np.array([[row[i] for i, _ in limited] for row in rows], dtype=float)

    observed = np.array([f.value for _, f in limited], dtype=float)
    values = figures(sqrt(1.0 + 1.0 / max(readings, 1)))
    centre = figures(sqrt(1.0 - 1.0 / readings)).mean(axis=0) if readings > 1 else observed
    values = values - values.mean(axis=0) + centre
    passed = values <= np.array([f.criterion.limit for _, f in limited], dtype=float)
    same = passed == np.array([f.verdict == "pass" for _, f in limited], dtype=bool)
    whole = passed.all(axis=1) == (result.verdict == "pass")
    shares = {f.criterion.id: _share(same[:, j]) for j, (_, f) in enumerate(limited)}
    return Guard(_share(whole), shares, known.repeatability, known.measured)


def _share(same: Array) -> float:
    """Share of draws that agree, never quite certain: so many draws cannot say more."""
    return float((same.sum() + 0.5) / (len(same) + 0.5))
