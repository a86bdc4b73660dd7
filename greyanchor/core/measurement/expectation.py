"""Expectation: what the patches of a chart should measure, how surely, and what may move them all at once."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

#: prior spread of what a row may have in common with no slip at all: shift of L*, a*, b*, and slope of
#: lightness (change at L* 10 against paper)
SHIFT, SLOPE = 0.35, 0.6
#: a patch that lies this many spreads off counts no more than that: robustness against single patches
_SOFT = 2.5
#: fewer patches say nothing of the others
_FEW = 8
#: patches from which on a guess is bent toward what was read
_MANY = 40
#: colours this near one another (Lab) are off alike
_NEAR = 6.0
#: a guess is bent less the less its colours say, and not at all this far (Lab) from what was read
_RIDGE, _FAR = 0.3, 30.0
#: median length of three normal values of standard deviation 1
_MEDIAN = 1.538
#: no spread is taken to be smaller, Lab
_LEAST = 0.28


@dataclass(frozen=True)
class Expectation:
    """What a chart should measure.

    Attributes
    ----------
    lab
        Expected Lab (n, 3).
    spread
        Standard deviation (n,) of one value of Lab around it, beyond what the patches have in common.
    slopes
        How Lab moves (n, 3, m) with what patches may have in common, such as more of one ink.
    scales
        Standard deviation (m,) of each of those.
    source
        Where the expectation comes from, in words: "the ink limit ramps".
    rough
        Whether it is a guess, so that nothing but plain slips can be recognised by it.
    same_media
        Whether it was read of the same media, so that its paper and its lightness are known.
    """

    lab: Array
    spread: Array
    slopes: Array
    scales: Array
    source: str = ""
    rough: bool = False
    same_media: bool = True

    def __post_init__(self) -> None:
        n = len(self.lab)
        shapes = (self.lab.shape, self.spread.shape, self.slopes.shape[:2], self.slopes.shape[2:])
        if shapes != ((n, 3), (n,), (n, 3), self.scales.shape):
            raise BadInput("an expectation needs Lab, spread and slopes for every patch")

    def __len__(self) -> int:
        return len(self.lab)

    def select(self, index: npt.ArrayLike) -> Expectation:
        """The patches that `index` names, in its order."""
        chosen = np.asarray(index)
        return replace(self, lab=self.lab[chosen], spread=self.spread[chosen], slopes=self.slopes[chosen])

    def bent(self, index: npt.ArrayLike, measured: Array) -> Expectation:
        """The same after some of its patches were read: Lab (m, 3) of those that `index` names.

        Taken over is what all of them have in common (lightness, volume of an ink) as far as many patches say
        it, what colours near a patch were off, and how far patches lie from what was expected at all.
        """
        part = self.select(index)
        if self.rough:
            return self._adapted(part.lab, measured, _RIDGE if len(part) < len(self) else 1e-4)
        if len(part) < _FEW:
            return self
        common, left = fit_common(part, measured)
        scales = self.scales / np.sqrt(1.0 + len(part) / 12.0)
        lab = self.lab + self.slopes @ common + _nearby(self.lab, part.lab, left)
        off = np.linalg.norm(left - _nearby(part.lab, part.lab, left, alone=True), axis=1)
        typical = float(np.median(off / part.spread)) / _MEDIAN
        weight = len(part) / (len(part) + 20.0)
        factor = float(np.clip(typical, 0.4, 2.0)) ** weight
        spread = np.maximum(self.spread * factor, np.minimum(self.spread, _LEAST))
        return replace(self, lab=lab, spread=spread, scales=scales)

    def _adapted(self, known: Array, measured: Array, ridge: float) -> Expectation:
        """A guess after patches (m, 3) were read: a quadratic map of Lab from what was guessed of them."""
        if len(known) < _MANY:
            return self
        terms, use = _terms(known), np.ones(len(known), dtype=bool)
        change = measured - known
        way, off = np.zeros((terms.shape[1], 3)), np.zeros(len(known))
        for _ in range(4):
            x = terms[use]
            way = np.linalg.solve(x.T @ x + ridge * np.eye(x.shape[1]), x.T @ change[use])
            off = np.linalg.norm(terms @ way - change, axis=1)
            use = off <= np.median(off) * 2.5 + 1e-9
        # colours far from any that was read stay as unsure as they were
        nearest = np.sqrt(((self.lab[:, None] - known[None, use]) ** 2).sum(axis=2).min(axis=1))
        share = np.exp(-((nearest / _FAR) ** 2))
        spread = np.clip(float(np.median(off)) / _MEDIAN, 1.0, self.spread)
        moved = self.lab + share[:, None] * (_terms(self.lab) @ way)
        return replace(self, lab=moved, spread=share * spread + (1.0 - share) * self.spread)


def guess(lab: Array) -> Expectation:
    """An expectation of Lab (n, 3) of any printer at all: nothing of this one is known."""
    return plain(lab, 6.0, "any printer", True, 6.0)


def _terms(lab: Array) -> Array:
    x = lab / 100.0
    pairs = [x[:, i] * x[:, j] for i in range(3) for j in range(i, 3)]
    return np.column_stack([np.ones(len(x)), x, *pairs])


def _nearby(lab: Array, known: Array, left: Array, alone: bool = False) -> Array:
    """What colours (n, 3) near known ones (m, 3) are off, from what those are off (m, 3): weighted means that
    trust few neighbours little. `alone` leaves each known colour itself out.
    """
    # thousands of patches against hundreds: seven digits are enough for a weight
    a, b = lab.astype(np.float32), known.astype(np.float32)
    squares = (a**2).sum(axis=1)[:, None] + (b**2).sum(axis=1)[None] - 2.0 * (a @ b.T)
    weight = np.exp(np.maximum(squares, 0.0) * np.float32(-0.5 / _NEAR**2))
    weight /= (1.0 + (np.linalg.norm(left, axis=1) / 6.0) ** 2).astype(np.float32)
    if alone:
        np.fill_diagonal(weight, 0.0)
    return np.asarray(weight @ left / (weight.sum(axis=1, keepdims=True) + 0.7))


def plain(
    lab: Array, spread: float | Array, source: str = "", rough: bool = False, shift: float = SHIFT
) -> Expectation:
    """An expectation of Lab (n, 3) with a common shift and a slope of lightness, and nothing about inks."""
    slopes, scales = common_slopes(lab, shift)
    wide = np.broadcast_to(np.asarray(spread, dtype=float), (len(lab),)).copy()
    return Expectation(lab, wide, slopes, scales, source, rough)


def common_slopes(lab: Array, shift: float = SHIFT) -> tuple[Array, Array]:
    """Slopes (n, 3, 4) and scales (4,) of a common shift of L*, a* and b*, and of a slope of lightness."""
    slopes = np.zeros((len(lab), 3, 4))
    slopes[:, [0, 1, 2], [0, 1, 2]] = 1.0
    slopes[:, 0, 3] = (lab[:, 0].max(initial=95.0) - lab[:, 0]) / 85.0
    return slopes, np.array([shift, shift, shift, shift * SLOPE / SHIFT])


def fit_common(expected: Expectation, measured: Array, passes: int = 4) -> tuple[Array, Array]:
    """What patches have in common (m,), and what is left of each (n, 3), in Lab.

    Ridge regression with the scales as prior, patches that do not fit weighing little (iterated weights
    1 / (1 + (d/s)^2), Cauchy's).
    """
    delta = measured - expected.lab
    slopes = expected.slopes.reshape(-1, expected.slopes.shape[2])
    precise = 1.0 / expected.spread**2
    prior = np.diag(1.0 / np.maximum(expected.scales, 1e-6) ** 2)
    weight, common = np.ones(len(delta)), np.zeros(slopes.shape[1])
    left = delta
    for _ in range(passes):
        w = np.repeat(weight * precise, 3)
        weighted = slopes * w[:, None]
        common = np.linalg.solve(weighted.T @ slopes + prior, weighted.T @ delta.ravel())
        left = delta - (slopes @ common).reshape(-1, 3)
        size = (left**2).sum(axis=1) * precise / 3.0
        weight = 1.0 / (1.0 + size / _SOFT**2)
    return common, left
