"""The smooth residual: what the physical prior leaves, learned without learning the noise.

Gaussian-process regression (Rasmussen & Williams 2006) with an ANOVA kernel: the product over the
channels of one plus a Matern 5/2 kernel, so that the surface is a sum of curves of single inks, of
pairs, of triples and so on, each as smooth as the others (Stitson and others, "Support vector
regression with ANOVA decomposition kernels", 1999). What a printer leaves unexplained is mostly of one
ink or two, and is learned from far fewer patches than a surface that may turn anywhere. What a media holds
of all inks together is a factor of its own, over their sum. Length and
noise are chosen by leave-one-out cross-validation in closed form (Rasmussen & Williams, 5.4.2).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, reduce

import numpy as np
from scipy.linalg import cho_factor, cho_solve, eigh, lapack

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each

_LENGTHS = (0.4, 0.7, 1.1, 1.7, 2.6, 4.0)
_NOISES = np.geomspace(1e-7, 0.5, 24)
_SEARCH_PATCHES = 650
#: how much a channel's own part weighs against none of it
_SHARE = 20.0
_CHUNK, _BLOCK = 40, 1024
#: sums of all channels this far apart (one over it) are half unlike, where there are more than four channels;
#: polynomials of this degree follow their factor
WHOLE = 0.45
_SUM_DEGREE = 12
_ROOT5 = float(np.sqrt(5.0))
#: most channels whose surface is kept as a table, and its nodes a channel
_TABLE_CHANNELS, _NODES = 4, 12


@dataclass(frozen=True)
class SmoothResidual:
    """A fitted residual surface.

    Attributes
    ----------
    places
        Inputs (m, channels) it was learned at.
    weights
        Kernel weights (m, outputs).
    length, noise
        Length of the kernel in input units, and noise variance relative to signal variance.
    left_out
        Leave-one-out predictions minus values (m, outputs).
    whole
        How far a difference of the sums of all channels counts; 0 for not at all.
    tabled
        Whether a table of up to four channels stands in for the surface; not where it bends along a line that
        is none of the axes.
    """

    places: Array
    weights: Array
    length: float
    noise: float
    left_out: Array
    whole: float = 0.0
    tabled: bool = True

    def predict(self, at: Array) -> Array:
        """Residual (n, outputs) at inputs (n, channels) in 0..1."""
        if self.tabled and self.places.shape[1] <= _TABLE_CHANNELS:
            return self._from_table(at)
        from greyanchor.core.characterization.kernel_loops import mixed  # compiled: takes long to load

        found = mixed(at, self.places, self.weights, self.length, _SHARE, self.whole)
        if found is not None:
            return found
        out = np.empty((len(at), self.weights.shape[1]))
        for start in range(0, len(at), _CHUNK):
            part = kernel(at[start : start + _CHUNK], self.places, self.length, self.whole)
            out[start : start + _CHUNK] = part @ self.weights
        return out

    def on_grid(self, axes: list[Array]) -> Array:
        """Residual (k1, k2, .., outputs) at every combination of the values `axes` (k,) of each channel."""
        factors = [_factor_of(axis, at, self.length) for axis, at in zip(axes, self.places.T)]
        first, second = _halves(factors)
        outputs = [self._over_grid(first, second, w, axes) for w in self.weights.T]
        return np.stack(outputs, axis=-1).reshape(*(len(axis) for axis in axes), -1)

    def _over_grid(self, first: Array, second: Array, weights: Array, axes: list[Array]) -> Array:
        """One output (p, q) at the nodes that the halves of the kernel, (p, m) and (q, m), stand for."""
        if not self.whole:
            return np.asarray(first @ (second * weights).T)
        half, most = (len(axes) + 1) // 2, float(len(axes))
        sums = [
            reduce(np.add.outer, part).ravel() if part else np.zeros(1) for part in (axes[:half], axes[half:])
        ]
        x = 2.0 * np.add.outer(*sums) / most - 1.0
        own = 2.0 * self.places.sum(axis=1) / most - 1.0
        parts = _in_sums(own, self.whole * most / 2.0)
        out, before, now = np.zeros(x.shape), np.ones(x.shape), x
        for k, part in enumerate(parts):  # Chebyshev polynomials of the sum, one after the other
            value = before if k == 0 else now
            out += value * (first @ (second * (weights * part)).T)
            if k:
                before, now = now, 2.0 * x * now - before
        return out

    @cached_property
    def _table(self) -> Array:
        """The surface at Chebyshev nodes, (nodes^(first half), outputs nodes^(second half))."""
        channels = self.places.shape[1]
        rows, outputs = _NODES ** ((channels + 1) // 2), self.weights.shape[1]
        grid = self.on_grid([_nodes()] * channels).reshape(rows, -1, outputs)
        return np.ascontiguousarray(grid.swapaxes(1, 2)).reshape(rows, -1)

    def _from_table(self, at: Array) -> Array:
        """Interpolated by the polynomial through the nodes of each channel, which such smooth curves follow
        to far below what can be measured.
        """
        outputs = self.weights.shape[1]
        out = np.empty((len(at), outputs))
        for start in range(0, len(at), _BLOCK):
            block = at[start : start + _BLOCK]
            first, second = _halves([_shares(column).T for column in block.T])
            mixed = (first.T @ self._table).reshape(len(block), outputs, len(second))
            out[start : start + _BLOCK] = np.einsum("nkq,nq->nk", mixed, np.ascontiguousarray(second.T))
        return out


def _halves(factors: list[Array]) -> tuple[Array, Array]:
    """Products (p, m), (q, m) of the rows of the first and the second half of `factors`, (k, m) each."""
    one, half = np.ones((1, factors[0].shape[1])), (len(factors) + 1) // 2
    return reduce(_combined, factors[:half], one), reduce(_combined, factors[half:], one)


def _combined(a: Array, b: Array) -> Array:
    """Products of every row of `a` (p, m) with every row of `b` (q, m): (p q, m)."""
    return np.asarray((a[:, None] * b[None]).reshape(-1, a.shape[1]))


def _nodes() -> Array:
    """Chebyshev points of the second kind in 0..1, rising."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.arange(_NODES) / (_NODES - 1)))


def _shares(x: Array) -> Array:
    """What each of the nodes counts for at `x` (n,), (n, nodes): barycentric interpolation (Berrut and
    Trefethen 2004).
    """
    weights = (-1.0) ** np.arange(_NODES)
    weights[[0, -1]] *= 0.5
    away = x[:, None] - _nodes()
    at_node = np.abs(away) < 1e-12
    parts = weights / np.where(at_node, 1.0, away)
    parts = np.where(at_node.any(axis=1)[:, None], at_node, parts)
    return np.asarray(parts / parts.sum(axis=1, keepdims=True))


def _factor_of_sums(a: Array, b: Array, scale: float) -> Array:
    """Factor (n, m) of the kernel between sums (n,) and (m,), a squared exponential: `scale` is what the
    difference of two sums counts.
    """
    fall = np.exp(-0.5 * np.subtract.outer(a * scale, b * scale) ** 2)
    return np.asarray((_SHARE * fall + 1.0) / (1.0 + _SHARE))


def _in_sums(own: Array, reach: float) -> Array:
    """Chebyshev coefficients (terms, m) of the factor of the sum, as a function of the other sum, for each of
    `own` (m,); both run over -1..1, which is `reach` either way in input units.
    """
    nodes = np.cos(np.pi * (np.arange(3 * _SUM_DEGREE) + 0.5) / (3 * _SUM_DEGREE))
    values = _factor_of_sums(reach * nodes, reach * own, 1.0)
    return np.asarray(np.polynomial.chebyshev.chebfit(nodes, values, _SUM_DEGREE))


def kernel(a: Array, b: Array, length: float, whole: float = 0.0) -> Array:
    """ANOVA kernel (n, m), 1 at the same place, between inputs (n, channels) and (m, channels)."""
    factors = (_factor_of(a[:, c], b[:, c], length) for c in range(a.shape[1]))
    found = np.asarray(reduce(np.multiply, factors))
    return found * _factor_of_sums(a.sum(axis=1), b.sum(axis=1), whole) if whole else found


def _factor_of(a: Array, b: Array, length: float) -> Array:
    """One channel's factor (n, m) of the kernel between values (n,) and (m,)."""
    r = np.subtract.outer(a * (_ROOT5 / length), b * (_ROOT5 / length))
    np.abs(r, out=r)
    fall = np.exp(-r)
    shape = r / 3.0
    shape += 1.0
    shape *= r
    shape += 1.0
    fall *= shape
    fall *= _SHARE / (1.0 + _SHARE)
    fall += 1.0 / (1.0 + _SHARE)
    return fall


def fit(
    places: Array, values: Array, counts: Array | None = None, noise: float = 0.0, tabled: bool = True
) -> SmoothResidual:
    """Learn `values` (m, outputs) at `places` (m, channels); unseen regions fall back to zero.

    `counts` (m,) says how many readings each value is the mean of. `noise` is the standard deviation of
    one reading in the units of the values, where it is known: fits that claim less are stiffened.

    Places are fractions (m, channels); values may have any units.
    """
    whole = WHOLE if places.shape[1] > _TABLE_CHANNELS else 0.0
    length, ratio = _choose(places, values, whole)
    counts = np.ones(len(places)) if counts is None else counts
    bare = kernel(places, places, length, whole)
    factor = _factor(bare, ratio, counts)
    weights = cho_solve(factor, values)
    amplitude = float((values * weights).sum() / values.size)
    if noise**2 > ratio * amplitude:
        ratio = min(noise**2 / max(amplitude, 1e-12), float(_NOISES[-1]))
        factor = _factor(bare, ratio, counts)
        weights = cho_solve(factor, values)
    left_out = -weights / _inverse_diagonal(factor)[:, None]
    return SmoothResidual(places, weights, length, ratio, left_out, whole, tabled)


def _factor(kernel: Array, noise: float, counts: Array) -> tuple[Array, bool]:
    matrix = kernel.copy()
    matrix[np.diag_indices_from(matrix)] += noise / counts
    return cho_factor(matrix, lower=True, overwrite_a=True)


def _inverse_diagonal(factor: tuple[Array, bool]) -> Array:
    inverse, failed = lapack.dpotri(factor[0], lower=factor[1])
    if failed:
        raise BadInput("the readings cannot be distinguished: many patches are alike")
    return np.asarray(np.diagonal(inverse))


def _choose(places: Array, values: Array, whole: float) -> tuple[float, float]:
    count = len(places)
    pick = np.arange(count)
    if count > _SEARCH_PATCHES:
        pick = np.sort(np.random.default_rng(0).choice(count, _SEARCH_PATCHES, replace=False))
    x, y = places[pick], values[pick]
    scores = each(lambda length: _best_noise(x, y, length, whole), _LENGTHS)
    best = int(np.argmin([score for score, _ in scores]))
    return _LENGTHS[best], scores[best][1]


def _best_noise(x: Array, y: Array, length: float, whole: float) -> tuple[float, float]:
    """Mean leave-one-out miss of the best noise at one length, and that noise."""
    spectrum, vectors = eigh(kernel(x, x, length, whole), driver="evd", overwrite_a=True)
    spectrum = np.maximum(spectrum, 0.0)
    projected, squares = vectors.T @ y, vectors**2
    best = (np.inf, float(_NOISES[-1]))
    for noise in _NOISES:
        inverse = 1.0 / (spectrum + noise)
        error = (vectors @ (inverse[:, None] * projected)) / (squares @ inverse)[:, None]
        best = min(best, (float(np.sqrt((error**2).sum(axis=1)).mean()), float(noise)))
    return best
