"""The smooth residual: what the physical prior leaves, learned without learning the noise.

Gaussian-process regression with a Matern 5/2 kernel (Rasmussen & Williams 2006, 4.2); length and
noise are chosen by leave-one-out cross-validation in closed form (ibid., 5.4.2).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.linalg import cho_factor, cho_solve, eigh, lapack

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each

_LENGTHS = (0.3, 0.5, 0.8, 1.2, 1.8, 2.6)
_NOISES = np.geomspace(2e-4, 0.5, 20)
_SEARCH_PATCHES = 650
_CHUNK = 64
_ROOT5 = float(np.sqrt(5.0))


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
    """

    places: Array
    weights: Array
    length: float
    noise: float
    left_out: Array

    def predict(self, at: Array) -> Array:
        """Residual (n, outputs) at inputs (n, channels)."""
        out = np.empty((len(at), self.weights.shape[1]))
        weights = self.weights.astype(np.float32)
        scale = _ROOT5 / self.length
        places = self.places * scale
        for start in range(0, len(at), _CHUNK):
            block = at[start : start + _CHUNK]
            r, fall = _distances(block * scale, places, np.float32)
            fall *= 1.0 + r * (1.0 + r / 3.0)
            out[start : start + _CHUNK] = fall @ weights
        return out


def kernel(a: Array, b: Array, length: float) -> Array:
    """Matern 5/2 kernel (n, m) between inputs (n, channels) and (m, channels)."""
    r, fall = _distances(a * (_ROOT5 / length), b * (_ROOT5 / length), np.float64)
    fall *= 1.0 + r * (1.0 + r / 3.0)
    return fall


def _distances(a: Array, b: Array, precision: type) -> tuple[Array, Array]:
    """Distances (n, m) and exp(-distance); one product gives |a|^2 - 2 a b + |b|^2."""
    left = np.hstack([-2.0 * a, (a * a).sum(1)[:, None], np.ones((len(a), 1))])
    right = np.hstack([b, np.ones((len(b), 1)), (b * b).sum(1)[:, None]])
    r = (left @ right.T).astype(precision, copy=False)
    np.sqrt(np.maximum(r, 0.0, out=r), out=r)
    return r, np.exp(-r)


def fit(places: Array, values: Array, counts: Array | None = None, noise: float = 0.0) -> SmoothResidual:
    """Learn `values` (m, outputs) at `places` (m, channels); unseen regions fall back to zero.

    `counts` (m,) says how many readings each value is the mean of. `noise` is the standard deviation of
    one reading in the units of the values, where it is known: fits that claim less are stiffened.

    Places are fractions (m, channels); values may have any units.
    """
    length, ratio = _choose(places, values)
    counts = np.ones(len(places)) if counts is None else counts
    bare = kernel(places, places, length)
    factor = _factor(bare, ratio, counts)
    weights = cho_solve(factor, values)
    amplitude = float((values * weights).sum() / values.size)
    if noise**2 > ratio * amplitude:
        ratio = min(noise**2 / max(amplitude, 1e-12), float(_NOISES[-1]))
        factor = _factor(bare, ratio, counts)
        weights = cho_solve(factor, values)
    left_out = -weights / _inverse_diagonal(factor)[:, None]
    return SmoothResidual(places, weights, length, ratio, left_out)


def _factor(kernel: Array, noise: float, counts: Array) -> tuple[Array, bool]:
    matrix = kernel.copy()
    matrix[np.diag_indices_from(matrix)] += noise / counts
    return cho_factor(matrix, lower=True, overwrite_a=True)


def _inverse_diagonal(factor: tuple[Array, bool]) -> Array:
    inverse, failed = lapack.dpotri(factor[0], lower=factor[1])
    if failed:
        raise BadInput("the readings cannot be distinguished: many patches are alike")
    return np.asarray(np.diagonal(inverse))


def _choose(places: Array, values: Array) -> tuple[float, float]:
    count = len(places)
    pick = np.arange(count)
    if count > _SEARCH_PATCHES:
        pick = np.sort(np.random.default_rng(0).choice(count, _SEARCH_PATCHES, replace=False))
    x, y = places[pick], values[pick]
    scores = each(lambda length: _best_noise(x, y, length), _LENGTHS)
    best = int(np.argmin([score for score, _ in scores]))
    return _LENGTHS[best], scores[best][1]


def _best_noise(x: Array, y: Array, length: float) -> tuple[float, float]:
    """Mean leave-one-out miss of the best noise at one length, and that noise."""
    spectrum, vectors = eigh(kernel(x, x, length), driver="evd", overwrite_a=True)
    spectrum = np.maximum(spectrum, 0.0)
    projected, squares = vectors.T @ y, vectors**2
    best = (np.inf, float(_NOISES[-1]))
    for noise in _NOISES:
        inverse = 1.0 / (spectrum + noise)
        error = (vectors @ (inverse[:, None] * projected)) / (squares @ inverse)[:, None]
        best = min(best, (float(np.sqrt((error**2).sum(axis=1)).mean()), float(noise)))
    return best
