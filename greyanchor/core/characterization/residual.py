"""The smooth residual: what the physical prior leaves, learned without learning the noise.

Gaussian-process regression with a Matern 5/2 kernel (Rasmussen & Williams 2006, 4.2); length and
noise are chosen by leave-one-out cross-validation in closed form (ibid., 5.4.2).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.linalg import cho_factor, cho_solve, eigh

from greyanchor.core.colorimetry import Array

_LENGTHS = (0.4, 0.6, 0.9, 1.4, 2.0)
_NOISES = np.geomspace(2e-4, 0.5, 20)
_SEARCH_PATCHES = 900
_CHUNK = 512
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
        for start in range(0, len(at), _CHUNK):
            block = at[start : start + _CHUNK]
            out[start : start + _CHUNK] = _kernel(block, self.places, self.length, np.float32)[0] @ weights
        return out

    def predict_with_gradient(self, at: Array) -> tuple[Array, Array]:
        """Residual (n, outputs) and its gradient (n, channels, outputs)."""
        n, channels = at.shape
        outputs = self.weights.shape[1]
        spread = (self.places[:, :, None] * self.weights[:, None, :]).reshape(len(self.places), -1)
        stacked = np.hstack([self.weights, spread]).astype(np.float32)
        weights = stacked[:, :outputs]
        values, gradient = np.empty((n, outputs)), np.empty((n, channels, outputs))
        for start in range(0, n, _CHUNK):
            block = at[start : start + _CHUNK]
            kernel, slope = _kernel(block, self.places, self.length, np.float32)
            values[start : start + _CHUNK] = kernel @ weights
            both = (slope @ stacked).astype(float)
            pull = both[:, outputs:].reshape(-1, channels, outputs)
            gradient[start : start + _CHUNK] = pull - block[:, :, None] * both[:, None, :outputs]
        return values, gradient


def _kernel(a: Array, b: Array, length: float, precision: type = np.float64) -> tuple[Array, Array]:
    """Matern 5/2 kernel (n, m) and s with d k / d a = s (b - a).

    Distances are always taken in double precision; `precision` is that of the rest.
    """
    scale = _ROOT5 / length
    a, b = a * scale, b * scale
    r = (-2.0 * a) @ b.T
    r += (a * a).sum(1)[:, None]
    r += (b * b).sum(1)[None]
    r = np.sqrt(np.maximum(r, 0.0, out=r).astype(precision, copy=False))
    fall = np.exp(-r)
    slope = (1.0 + r) * fall
    r *= r
    r *= fall
    r /= 3.0
    r += slope
    slope *= scale * scale / 3.0
    return r, slope


def fit(places: Array, values: Array) -> SmoothResidual:
    """Learn `values` (m, outputs) at `places` (m, channels); unseen regions fall back to zero."""
    length, noise = _choose(places, values)
    matrix = _kernel(places, places, length)[0]
    matrix[np.diag_indices_from(matrix)] += noise
    factor = cho_factor(matrix, lower=True, overwrite_a=True)
    weights = cho_solve(factor, values)
    inverse_diagonal = np.diagonal(cho_solve(factor, np.eye(len(places))))
    left_out = -weights / inverse_diagonal[:, None]
    return SmoothResidual(places, weights, length, noise, left_out)


def _choose(places: Array, values: Array) -> tuple[float, float]:
    count = len(places)
    pick = np.arange(count)
    if count > _SEARCH_PATCHES:
        pick = np.sort(np.random.default_rng(0).choice(count, _SEARCH_PATCHES, replace=False))
    x, y = places[pick], values[pick]
    best = (np.inf, _LENGTHS[-1], float(_NOISES[-1]))
    for length in _LENGTHS:
        spectrum, vectors = eigh(_kernel(x, x, length)[0], driver="evd", overwrite_a=True)
        spectrum = np.maximum(spectrum, 0.0)
        projected, squares = vectors.T @ y, vectors**2
        for noise in _NOISES:
            inverse = 1.0 / (spectrum + noise)
            error = (vectors @ (inverse[:, None] * projected)) / (squares @ inverse)[:, None]
            score = float(np.sqrt((error**2).sum(axis=1)).mean())
            if score < best[0]:
                best = (score, length, float(noise))
    return best[1], best[2]
