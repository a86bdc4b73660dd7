"""Guard band: would the same print, measured again, get the same verdict?"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import compare
from greyanchor.core.verification.check import CheckResult, again

#: share of repeated measurements that must agree with a verdict for it to be sure: 19 times of 20
SURE = 0.95
#: mean dE00 between two readings of one sheet that is taken when no second reading said better
USUAL_REPEATABILITY = 0.20
#: mean length of the difference of two readings whose coordinates scatter by 1 each: sqrt(2) * 2 sqrt(2 / pi)
_LENGTH = 4.0 / sqrt(np.pi)
_REPEATS = 200
_MOST_PATCHES = 40_000


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


def repeatability_of(passes: list[ReadingSet]) -> float | None:
    """Mean dE00 between readings of one sheet; None for a single reading."""
    if len(passes) < 2:
        return None
    return float(np.mean([compare(passes[0], other).mean for other in passes[1:]]))


def guard(result: CheckResult, repeatability: float | None = None, readings: int = 1, seed: int = 1) -> Guard:
    """Judge a print again with the scatter of the instrument laid over what was measured.

    `repeatability` is the mean dE00 between two readings (None for the usual one); the mean of `readings`
    of them scatters less by their root. Scatter is Gaussian in Lab and grows with chroma as dE00 does.
    """
    found = USUAL_REPEATABILITY if repeatability is None else max(repeatability, 0.01)
    spread = found / _LENGTH / sqrt(max(readings, 1))
    judged = again(result)
    random = np.random.default_rng(seed)
    count = max(40, min(_REPEATS, _MOST_PATCHES // max(len(result.ids), 1)))
    limited = [(i, f) for i, f in enumerate(result.findings) if f.left is not None]
    if not limited:
        return Guard(1.0, {}, found, repeatability is not None)
    drawn = [judged.figures(_scattered(result.measured, spread, random))[0] for _ in range(count)]
    values = np.array([[row[i] for i, _ in limited] for row in drawn], dtype=float)
    # scatter laid over scatter lengthens differences: only its spread counts, not its bias
    observed = np.array([f.value for _, f in limited], dtype=float)
    values = observed + values - np.median(values, axis=0)
    passed = values <= np.array([f.criterion.limit for _, f in limited], dtype=float)
    same = passed == np.array([f.verdict == "pass" for _, f in limited], dtype=bool)
    whole = passed.all(axis=1) == (result.verdict == "pass")
    shares = {f.criterion.id: float(same[:, j].mean()) for j, (_, f) in enumerate(limited)}
    return Guard(float(whole.mean()), shares, found, repeatability is not None)


def _scattered(lab: Array, spread: float, random: np.random.Generator) -> Array:
    """Lab (n, 3) as another reading would have it."""
    chroma = np.hypot(lab[:, 1], lab[:, 2])[:, None]
    wider = np.hstack([np.ones_like(chroma), 1.0 + 0.025 * chroma, 1.0 + 0.025 * chroma])
    return np.asarray(lab + spread * wider * random.standard_normal(lab.shape))
