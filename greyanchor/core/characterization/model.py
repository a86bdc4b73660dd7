"""ForwardModel: device values -> Lab (D50, absolute) of one print environment."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import numpy.typing as npt
from scipy.interpolate import PchipInterpolator

from greyanchor.core.characterization import neugebauer, residual
from greyanchor.core.colour.colorimetry import (
    D50_WHITE,
    Array,
    bradford_matrix,
    delta_e_2000,
    weights,
    white_point,
    xyz_to_lab,
)
from greyanchor.core.colour.illuminants import Light, light_name
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, is_additive
from greyanchor.core.parallel import in_parallel, one_thread

MIN_PATCHES, MIN_GREY_PATCHES = 60, 12
MAX_CHANNELS = 8
#: a repeat is a stray when it lies this far (Lab) from its like, and this many times as far as is usual
_STRAY_LAB, _STRAY = 1.2, 5.0
#: how far the grey component of R, G and B counts against one of them
_GREY = 2.0
_CURVE_POINTS = 513


@dataclass(frozen=True)
class FitReport:
    """dE00 of a model against readings: mean, 95th percentile, largest."""

    mean: float
    p95: float
    max: float

    @classmethod
    def of(cls, differences: Array) -> FitReport:
        """Mean, 95th percentile and largest of differences (n,), dE00."""
        return cls(float(differences.mean()), float(np.percentile(differences, 95)), float(differences.max()))

    def as_dict(self) -> dict[str, float]:
        """The same by name, for reports."""
        return {"mean": self.mean, "p95": self.p95, "max": self.max}


class Prior(Protocol):
    """A physical model of the bands that light comes in."""

    def predict(self, device: Array) -> Array:
        """Light (n, bands) of amounts of ink (n, channels), fractions."""


@dataclass(frozen=True)
class ForwardModel:
    """Physical prior plus smooth residual.

    Attributes
    ----------
    channels
        Ink names.
        Device values inside the model are amounts of ink: 0 is bare paper, for RGB too.
    prior
        The Neugebauer model of the bands, of this media alone or of inks shared with others.
    to_xyz
        Matrix (bands, 3) from bands to XYZ adapted to D50.
    remainder
        Residual in Lab over `features`.
    even
        Even coordinate at `_CURVE_POINTS` device values, shape (channels, points): the share of the
        channel's colour path from paper to solid, so that equal steps look about equal.
    fit, held_out
        Differences on the readings, and leave-one-out.
    corrections
        What prints made through a profile of this model taught it afterwards, in Lab over `features`.
    """

    channels: tuple[str, ...]
    prior: Prior
    to_xyz: Array
    remainder: residual.SmoothResidual | None
    even: Array
    fit: FitReport
    held_out: FitReport
    corrections: tuple[residual.SmoothResidual, ...] = ()

    def to_even(self, device: Array) -> Array:
        """Even coordinates (n, channels) of device values (n, channels)."""
        grid = np.linspace(0.0, 1.0, _CURVE_POINTS)
        return np.column_stack([np.interp(device[:, c], grid, e) for c, e in enumerate(self.even)])

    def features(self, device: Array) -> Array:
        """What the residual is learned over: even coordinates (n, channels), and for a printer that parts R G
        B itself their grey component (n, channels + 1). Drivers put black where all three are dark, and so
        bend colour along the planes where two of them are alike, whichever is the least.
        """
        even = self.to_even(device)
        if not is_additive(self.channels):
            return even
        return np.column_stack([even, _GREY * device.min(axis=1)])

    def to_device(self, even: Array) -> Array:
        """Device values (n, channels) of even coordinates."""
        grid = np.linspace(0.0, 1.0, _CURVE_POINTS)
        return np.column_stack([np.interp(even[:, c], e, grid) for c, e in enumerate(self.even)])

    def to_device_with_slope(self, even: Array) -> tuple[Array, Array]:
        """Device values (n, channels) of even coordinates, and how fast they grow with them."""
        device = self.to_device(even)
        return device, 1.0 / np.maximum(self._even_slope(device), 1e-3)

    def lab(self, device: Array) -> Array:
        """Lab (n, 3), D50 absolute, of device values (n, channels) in fractions."""
        values = np.clip(np.asarray(device, dtype=float), 0.0, 1.0)
        return np.concatenate(in_parallel(self._lab, values)) if len(values) else np.zeros((0, 3))

    def _lab(self, device: Array) -> Array:
        lab = xyz_to_lab(self.prior.predict(device) @ self.to_xyz)
        features = self.features(device)
        for surface in (self.remainder, *self.corrections):
            if surface is not None:
                lab = lab + surface.predict(features)
        return np.asarray(lab)

    def lab_on_grid(self, axes: list[Array]) -> Array:
        """Lab (k1, k2, .., 3) at every combination of even coordinates, `axes` (k,) of each channel; far
        quicker than one by one.
        """
        sides = [len(axis) for axis in axes]
        even = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, len(axes))
        if is_additive(self.channels):  # the grey component is no axis of the grid
            return self.lab(self.to_device(even)).reshape(*sides, 3)
        bare = replace(self, remainder=None, corrections=())
        lab = bare.lab(self.to_device(even)).reshape(*sides, 3)
        for surface in (self.remainder, *self.corrections):
            if surface is not None:
                lab = lab + surface.on_grid(axes)
        return lab

    def _even_slope(self, device: Array) -> Array:
        position = np.clip((device * (_CURVE_POINTS - 1)).astype(int), 0, _CURVE_POINTS - 2)
        steps = np.diff(self.even, axis=1) * (_CURVE_POINTS - 1)
        return np.column_stack([steps[c][position[:, c]] for c in range(device.shape[1])])


def adapted_weights(light: Light) -> Array:
    """Weights (36, 3) from spectra to XYZ under `light`, adapted to D50 by Bradford."""
    if light_name(light).upper() == "D50":
        return weights("D50")
    return np.asarray(weights(light) @ bradford_matrix(white_point(light), D50_WHITE).T)


@one_thread
def characterize(
    readings: ReadingSet, light: Light = "D50", with_residual: bool = True, noise: float = 0.0
) -> ForwardModel:
    """Fit a model to readings of a profile chart, of any number of channels.

    Uses spectra where there are any, else XYZ. Patches that the chart repeats count as one, read more
    often. `noise` is the standard deviation of one value of Lab, where readings said it. Raises
    `BadInput` when there are too few patches, no paper, or a channel never reaches 100 %.
    """
    inks = readings.inks()
    check_coverage(readings, inks)
    if readings.spectra is not None:
        bands, to_xyz = readings.spectra, adapted_weights(light)
    else:
        bands, to_xyz = readings.xyz(light) / 100.0, 100.0 * np.eye(3)
    bands = np.asarray(bands)
    sound = ~strays(inks, xyz_to_lab(bands @ to_xyz))
    inks, bands, counts = merged(inks[sound], bands[sound])
    prior = neugebauer.fit(inks, bands)
    even = even_curves(prior, to_xyz, inks.shape[1])
    target = xyz_to_lab(bands @ to_xyz)
    bare = ForwardModel(readings.channels, prior, to_xyz, None, even, FitReport(0, 0, 0), FitReport(0, 0, 0))
    left = target - bare.lab(inks)
    if not with_residual:
        report = FitReport.of(delta_e_2000(target, target - left))
        return replace(bare, fit=report, held_out=report)
    remainder = residual.fit(bare.features(inks), left, counts, noise, not is_additive(readings.channels))
    fitted = replace(bare, remainder=remainder)
    return replace(
        fitted,
        fit=FitReport.of(delta_e_2000(target, fitted.lab(inks))),
        held_out=FitReport.of(delta_e_2000(target, target + remainder.left_out)),
    )


def strays(inks: Array, lab: Array) -> npt.NDArray[np.bool_]:
    """Which readings (n,) of patches repeated three times or more lie far from the median of their like:
    specks and slips, that a mean would carry on. `inks` are (n, channels), `lab` (n, 3).
    """
    out = np.zeros(len(inks), dtype=bool)
    _, group, count = np.unique(np.round(inks, 4), axis=0, return_inverse=True, return_counts=True)
    group = group.reshape(-1)
    repeated = [np.flatnonzero(group == g) for g in np.flatnonzero(count > 2)]
    if not repeated:
        return out
    off = [np.linalg.norm(lab[m] - np.median(lab[m], axis=0), axis=1) for m in repeated]
    limit = max(_STRAY_LAB, _STRAY * float(np.median(np.concatenate(off))))
    for members, away in zip(repeated, off):
        out[members] = (away > limit) & (away > np.sort(away)[(len(away) - 1) // 2])
    return out


def merged(inks: Array, bands: Array) -> tuple[Array, Array, Array]:
    """Each combination of inks once, with the mean of its readings and how many there were."""
    _, first, group, counts = np.unique(
        np.round(inks, 4), axis=0, return_index=True, return_inverse=True, return_counts=True
    )
    group = group.reshape(-1)
    order = np.argsort(first)
    mean = np.stack([np.bincount(group, band) / counts for band in bands.T], axis=1)
    return inks[first[order]], mean[order], counts[order]


def check_coverage(readings: ReadingSet, inks: Array) -> None:
    """`BadInput` where amounts of ink (n, channels) leave out what every model needs."""
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    if not 1 <= inks.shape[1] <= MAX_CHANNELS:
        raise BadInput(f"{inks.shape[1]} channels were read; profiles are built for 1 to {MAX_CHANNELS}")
    needed = MIN_PATCHES if inks.shape[1] > 2 else MIN_GREY_PATCHES
    if len(inks) < needed:
        raise BadInput(f"{len(inks)} patches are too few for a profile; at least {needed} are needed")
    if inks.max(axis=1).min() > 0.005:
        light = is_additive(readings.channels)
        what = "all channels 100 %, the paper of an RGB printer" if light else "all channels 0 %"
        raise BadInput(f"no unprinted patch ({what}) was found; the profile needs the paper")
    for i, channel in enumerate(readings.channels):
        if inks[:, i].max() < 0.98:
            end = 100.0 * (1.0 - inks[:, i].max() if is_additive(readings.channels) else inks[:, i].max())
            whole = 0 if is_additive(readings.channels) else 100
            raise BadInput(f"channel {channel} reaches only {end:.0f} %; the chart must go to {whole} %")
        if len(np.unique(np.round(inks[:, i], 3))) < 3:
            raise BadInput(f"channel {channel} has fewer than three levels in the chart")


def even_curves(prior: Prior, to_xyz: Array, channels: int) -> Array:
    """Even curves (channels, points): share of the colour path along each channel's own ramp, half arc
    length and half straight.
    """
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
