"""ForwardModel: device values -> Lab (D50, absolute) of one print environment."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.interpolate import PchipInterpolator
from threadpoolctl import threadpool_limits

from greyanchor.core.characterization import neugebauer, residual
from greyanchor.core.colorimetry import (
    D50_WHITE,
    Array,
    bradford_matrix,
    delta_e_2000,
    weights,
    white_point,
    xyz_to_lab,
)
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet

MIN_PATCHES = 60
_EPSILON = (6.0 / 29.0) ** 3
_SLOPE = (29.0 / 6.0) ** 2 / 3.0
_CURVE_POINTS = 513
_BLOCK = 2048


@dataclass(frozen=True)
class FitReport:
    """dE00 of a model against readings: mean, 95th percentile, largest."""

    mean: float
    p95: float
    max: float

    @classmethod
    def of(cls, differences: Array) -> FitReport:
        return cls(float(differences.mean()), float(np.percentile(differences, 95)), float(differences.max()))

    def as_dict(self) -> dict[str, float]:
        return {"mean": self.mean, "p95": self.p95, "max": self.max}


@dataclass(frozen=True)
class ForwardModel:
    """Physical prior plus smooth residual.

    Attributes
    ----------
    channels
        Ink names.
    prior
        The Neugebauer model of the bands.
    to_xyz
        Matrix (bands, 3) from bands to XYZ adapted to D50.
    remainder
        Residual in Lab over even coordinates.
    even
        Even coordinate at `_CURVE_POINTS` device values, shape (channels, points): the share of the
        channel's colour path from paper to solid, so that equal steps look about equal.
    fit, held_out
        Differences on the readings, and leave-one-out.
    """

    channels: tuple[str, ...]
    prior: neugebauer.NeugebauerModel
    to_xyz: Array
    remainder: residual.SmoothResidual | None
    even: Array
    fit: FitReport
    held_out: FitReport

    def to_even(self, device: Array) -> Array:
        """Even coordinates (n, channels) of device values (n, channels)."""
        grid = np.linspace(0.0, 1.0, _CURVE_POINTS)
        return np.column_stack([np.interp(device[:, c], grid, e) for c, e in enumerate(self.even)])

    def to_device(self, even: Array) -> Array:
        """Device values (n, channels) of even coordinates."""
        grid = np.linspace(0.0, 1.0, _CURVE_POINTS)
        return np.column_stack([np.interp(even[:, c], e, grid) for c, e in enumerate(self.even)])

    def lab(self, device: Array) -> Array:
        """Lab (n, 3), D50 absolute, of device values (n, channels) in fractions."""
        values = np.clip(np.asarray(device, dtype=float), 0.0, 1.0)
        return np.concatenate(_in_parallel(self._lab, values)) if len(values) else np.zeros((0, 3))

    def _lab(self, device: Array) -> Array:
        lab = xyz_to_lab(self.prior.predict(device) @ self.to_xyz)
        if self.remainder is not None:
            lab = lab + self.remainder.predict(self.to_even(device))
        return np.asarray(lab)

    def lab_with_gradient(self, device: Array) -> tuple[Array, Array]:
        """Lab (n, 3) and d Lab / d device (n, channels, 3)."""
        values = np.clip(np.asarray(device, dtype=float), 0.0, 1.0)
        parts = _in_parallel(self._lab_with_gradient, values)
        return np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])

    def _lab_with_gradient(self, device: Array) -> tuple[Array, Array]:
        bands, gradient = self.prior.predict_with_gradient(device)
        lab, slope = _lab_slope(bands @ self.to_xyz)
        d_lab = (gradient @ self.to_xyz) @ np.swapaxes(slope, 1, 2)
        if self.remainder is not None:
            more, d_more = self.remainder.predict_with_gradient(self.to_even(device))
            lab = lab + more
            d_lab = d_lab + d_more * self._even_slope(device)[:, :, None]
        return lab, d_lab

    def _even_slope(self, device: Array) -> Array:
        position = np.clip((device * (_CURVE_POINTS - 1)).astype(int), 0, _CURVE_POINTS - 2)
        steps = np.diff(self.even, axis=1) * (_CURVE_POINTS - 1)
        return np.column_stack([steps[c][position[:, c]] for c in range(device.shape[1])])


def _in_parallel(work: Callable[[Array], Any], values: Array) -> list[Any]:
    """`work` on blocks of rows, on as many threads as there are cores: numpy lets go of the lock."""
    blocks = [values[i : i + _BLOCK] for i in range(0, len(values), _BLOCK)] or [values]
    if len(blocks) == 1:
        return [work(blocks[0])]
    with threadpool_limits(1), ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        return list(pool.map(work, blocks))


def _lab_slope(xyz: Array) -> tuple[Array, Array]:
    """Lab (n, 3) and d Lab / d XYZ (n, 3, 3)."""
    t = xyz / D50_WHITE
    big = t > _EPSILON
    root = np.cbrt(np.maximum(t, 1e-9))
    df = np.where(big, 1.0 / (3.0 * root * root), _SLOPE) / D50_WHITE
    slope = np.zeros((len(xyz), 3, 3))
    slope[:, 0, 1] = 116.0 * df[:, 1]
    slope[:, 1, 0], slope[:, 1, 1] = 500.0 * df[:, 0], -500.0 * df[:, 1]
    slope[:, 2, 1], slope[:, 2, 2] = 200.0 * df[:, 1], -200.0 * df[:, 2]
    return xyz_to_lab(xyz), slope


def adapted_weights(light: str) -> Array:
    """Weights (36, 3) from spectra to XYZ under `light`, adapted to D50 by Bradford."""
    if light.upper() == "D50":
        return weights("D50")
    return np.asarray(weights(light) @ bradford_matrix(white_point(light), D50_WHITE).T)


def characterize(readings: ReadingSet, light: str = "D50", with_residual: bool = True) -> ForwardModel:
    """Fit a model to readings of a profile chart.

    Uses spectra where there are any, else XYZ. Raises `BadInput` when there are too few patches,
    no paper, or a channel never reaches 100 %.
    """
    device = readings.values()
    _check_coverage(readings, device)
    if readings.spectra is not None:
        bands, to_xyz = readings.spectra, adapted_weights(light)
    else:
        bands, to_xyz = readings.xyz(light) / 100.0, 100.0 * np.eye(3)
    prior = neugebauer.fit(device, np.asarray(bands))
    even = _even_curves(prior, to_xyz, device.shape[1])
    target = xyz_to_lab(np.asarray(bands) @ to_xyz)
    bare = ForwardModel(readings.channels, prior, to_xyz, None, even, FitReport(0, 0, 0), FitReport(0, 0, 0))
    left = target - bare.lab(device)
    if not with_residual:
        report = FitReport.of(delta_e_2000(target, target - left))
        return ForwardModel(readings.channels, prior, to_xyz, None, even, report, report)
    remainder = residual.fit(bare.to_even(device), left)
    fitted = ForwardModel(readings.channels, prior, to_xyz, remainder, even, bare.fit, bare.held_out)
    return ForwardModel(
        readings.channels,
        prior,
        to_xyz,
        remainder,
        even,
        FitReport.of(delta_e_2000(target, fitted.lab(device))),
        FitReport.of(delta_e_2000(target, target + remainder.left_out)),
    )


def _check_coverage(readings: ReadingSet, device: Array) -> None:
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    if len(device) < MIN_PATCHES:
        raise BadInput(f"{len(device)} patches are too few for a profile; at least {MIN_PATCHES} are needed")
    if device.max(axis=1).min() > 0.005:
        raise BadInput("no unprinted patch (all channels 0 %) was found; the profile needs the paper")
    for i, channel in enumerate(readings.channels):
        if device[:, i].max() < 0.98:
            raise BadInput(
                f"channel {channel} reaches only {100 * device[:, i].max():.0f} %; the chart must go to 100 %"
            )
        if len(np.unique(np.round(device[:, i], 3))) < 3:
            raise BadInput(f"channel {channel} has fewer than three levels in the chart")


def _even_curves(prior: neugebauer.NeugebauerModel, to_xyz: Array, channels: int) -> Array:
    """Share of the colour path along each channel's own ramp, half arc length and half straight."""
    grid = np.linspace(0.0, 1.0, _CURVE_POINTS)
    rows = []
    for c in range(channels):
        ramp = np.zeros((_CURVE_POINTS, channels))
        ramp[:, c] = grid
        lab = xyz_to_lab(prior.predict(ramp) @ to_xyz)
        path = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(lab, axis=0), axis=1))])
        path = 0.85 * path / path[-1] + 0.15 * grid
        knots = np.linspace(0, _CURVE_POINTS - 1, 17).astype(int)
        rows.append(np.asarray(PchipInterpolator(grid[knots], path[knots])(grid)))
    return np.array(rows)
