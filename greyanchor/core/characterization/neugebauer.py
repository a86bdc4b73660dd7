"""The physical prior: Yule-Nielsen Neugebauer with fitted dot gain.

Works on any set of "bands": reflectance spectra, or XYZ / 100 where there are no spectra.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.optimize import least_squares

from greyanchor.core.colour.colorimetry import Array

KNOTS = np.array([0.0, 0.1, 0.25, 0.45, 0.65, 0.82, 1.0])
_FLOOR = 1e-4
#: patches that the curves are fitted to, with up to four inks and with more, whose overprints are many
_MAX_FIT_PATCHES, _MANY_INKS_PATCHES = 450, 1200


def subsets(channels: int) -> Array:
    """The 2^channels Neugebauer primaries as rows of 0 and 1, shape (2^channels, channels)."""
    return np.array([[(s >> i) & 1 for i in range(channels)] for s in range(2**channels)], dtype=float)


def demichel(area: Array) -> Array:
    """Demichel weights (n, 2^channels) of effective areas (n, channels)."""
    weights = np.ones((len(area), 1))
    for i in range(area.shape[1]):
        a = area[:, i : i + 1]
        weights = np.hstack([weights * (1.0 - a), weights * a])
    return weights


@dataclass(frozen=True)
class NeugebauerModel:
    """Fitted Yule-Nielsen Neugebauer model.

    Attributes
    ----------
    n
        Yule-Nielsen factor.
    gains
        Effective area at `KNOTS`, shape (channels, knots), from 0 to 1.
    roots
        Primaries to the power 1/n, shape (2^channels, bands).
    """

    n: float
    gains: Array
    roots: Array

    def predict(self, device: Array) -> Array:
        """Bands (m, bands) of device values (m, channels), fractions 0..1; Yule-Nielsen n and dot gain
        applied (Yule and Nielsen 1951; Neugebauer 1937).
        """
        area = np.column_stack([curve(device[:, c]) for c, curve in enumerate(self._curves)])
        return np.asarray(np.maximum(demichel(area) @ self.roots, 0.0) ** self.n)

    @cached_property
    def _curves(self) -> list[PchipInterpolator]:
        return _curves(self.gains)


def fit(device: Array, bands: Array, start_n: float = 1.8) -> NeugebauerModel:
    """Fit n, dot gain and primaries to device values (m, channels) and bands (m, k).

    Gain knots and n are found by least squares; for each trial the primaries follow linearly (variable
    projection), drawn gently to the product rule where no patch determines them.

    Device values are fractions 0..1, bands reflectance factors above 0.
    """
    channels = device.shape[1]
    sample = _sample(len(device), _MAX_FIT_PATCHES if channels <= 4 else _MANY_INKS_PATCHES)
    thin = slice(None, None, 3) if bands.shape[1] > 6 else slice(None)
    d, b = device[sample], np.maximum(bands[sample][:, thin], _FLOOR)
    start = np.concatenate(
        [[start_n], *[logits_of(1.0 - np.exp(-2.2 * KNOTS[1:-1])) for _ in range(channels)]]
    )

    def residual(parameters: Array) -> Array:
        n, gains = _unpack(parameters, channels)
        target = b ** (1.0 / n)
        weights = demichel(_areas(d, gains))
        roots = _primaries(weights, target, channels)
        prior = 0.02 * (parameters[1:] - start[1:]) * np.sqrt(len(d)) / 40.0
        # differences in 1/n space, brought to the scale of a cube root so that n cannot cheat
        scale = n * np.maximum(target, 0.02) ** (n / 3.0 - 1.0) / 3.0
        return np.concatenate([((weights @ roots - target) * scale * target**0).ravel(), prior])

    result = least_squares(
        residual,
        start,
        bounds=(np.r_[1.0, np.full(len(start) - 1, -9.0)], np.r_[6.0, np.full(len(start) - 1, 9.0)]),
        max_nfev=12,
        xtol=1e-4,
        ftol=1e-4,
    )
    n, gains = _unpack(result.x, channels)
    roots = _primaries(demichel(_areas(device, gains)), np.maximum(bands, _FLOOR) ** (1.0 / n), channels)
    return NeugebauerModel(float(n), gains, np.maximum(roots, 1e-4))


def _sample(count: int, most: int) -> Array:
    return np.unique(np.linspace(0, count - 1, min(count, most)).astype(int))


def logits_of(rising: Array) -> Array:
    """Rising knots in (0, 1) as free numbers: logits of each step's share of what is left."""
    shares = np.diff(np.concatenate([[0.0], rising])) / (1.0 - np.concatenate([[0.0], rising[:-1]]))
    return np.log(shares / (1.0 - shares))


def _unpack(parameters: Array, channels: int) -> tuple[float, Array]:
    return float(parameters[0]), gains_of(parameters[1:].reshape(channels, len(KNOTS) - 2))


def gains_of(logits: Array) -> Array:
    """Effective area (channels, knots), rising from 0 to 1, of free numbers (channels, knots - 2)."""
    left = np.cumprod(1.0 - 1.0 / (1.0 + np.exp(-logits)), axis=1)
    ends = np.zeros((len(logits), 1)), np.ones((len(logits), 1))
    return np.hstack([ends[0], 1.0 - left, ends[1]])


def _curves(gains: Array) -> list[PchipInterpolator]:
    return [PchipInterpolator(KNOTS, g) for g in gains]


def _areas(device: Array, gains: Array) -> Array:
    return np.column_stack([curve(device[:, c]) for c, curve in enumerate(_curves(gains))])


def _primaries(weights: Array, target: Array, channels: int) -> Array:
    """Ridge solution of weights @ roots = target, drawn to the product of single inks over paper."""
    gram, right = weights.T @ weights, weights.T @ target
    first = np.linalg.solve(gram + 1e-3 * np.eye(len(gram)), right)
    paper = np.maximum(first[0], 0.05)
    product = np.empty_like(first)
    for s, subset in enumerate(subsets(channels)):
        product[s] = paper * np.prod(
            [np.maximum(first[1 << i], 0.01) / paper for i in np.flatnonzero(subset)], axis=0
        )
    ridge = 0.05
    return np.linalg.solve(gram + ridge * np.eye(len(gram)), right + ridge * product)
