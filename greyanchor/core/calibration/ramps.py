"""Finding the ramp of each channel in a reading set, and smoothing it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator, make_smoothing_spline
from scipy.optimize import isotonic_regression

from greyanchor.core.colorimetry import Array
from greyanchor.core.density import peak_band, peak_density, visual_density
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet

MIN_STEPS = 5


@dataclass(frozen=True)
class Ramp:
    """One channel alone, paper first.

    Attributes
    ----------
    channel
        Its name.
    inputs
        Device values (n,), rising from 0.
    xyz, lab
        Readings (n, 3).
    density
        Density (n,) at the channel's own absorption peak; visual density without spectra.
    """

    channel: str
    inputs: Array
    xyz: Array
    lab: Array
    density: Array


def find_ramps(readings: ReadingSet) -> dict[str, Ramp]:
    """The single-channel ramps in `readings`, repeats averaged, by channel in printing order.

    Raises `BadInput` when there is no paper patch or a channel has fewer than five steps.
    """
    device = readings.values()
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    paper = device.max(axis=1) < 1e-6
    if not paper.any():
        raise BadInput("no unprinted patch (all channels 0 %) was found; ramps start at the paper")
    xyz, lab, spectra = readings.xyz(), readings.lab(), readings.spectra
    ramps = {}
    for i, channel in enumerate(readings.channels):
        alone = (device[:, i] > 1e-6) & (np.delete(device, i, axis=1).max(axis=1, initial=0.0) < 1e-6)
        members = np.flatnonzero(alone | paper)
        levels, inverse = np.unique(np.round(device[members, i], 5), return_inverse=True)
        if len(levels) - 1 < MIN_STEPS:
            raise BadInput(
                f"channel {channel} has {len(levels) - 1} steps on its own; a ramp needs at least {MIN_STEPS}"
            )
        count = np.bincount(inverse)[:, None]

        def mean(
            values: Array, inverse: Array = inverse, members: Array = members, count: Array = count
        ) -> Array:
            total = np.zeros((len(count), values.shape[1]))
            np.add.at(total, inverse, values[members])
            return np.asarray(total / count)

        channel_xyz = mean(xyz)
        if spectra is not None:
            mean_spectra = mean(spectra)
            density = peak_density(mean_spectra, peak_band(mean_spectra[-1], mean_spectra[0]))
        else:
            density = visual_density(channel_xyz)
        ramps[channel] = Ramp(channel, levels, channel_xyz, mean(lab), density)
    return ramps


def smooth(inputs: Array, values: Array, at: Array) -> Array:
    """A smoothing spline through `values` (n,) or (n, k) whose stiffness is chosen by cross-validation."""
    columns = values if values.ndim == 2 else values[:, None]
    out = np.column_stack([make_smoothing_spline(inputs, columns[:, i])(at) for i in range(columns.shape[1])])
    return out if values.ndim == 2 else out[:, 0]


def monotone(inputs: Array, values: Array, at: Array) -> Array:
    """Values (n,) made never-falling by isotonic regression after smoothing, then joined by PCHIP.

    Noise cannot make the result reverse; the first and last values are kept.
    """
    gentle = smooth(inputs, values, inputs) if len(inputs) >= 7 else values
    blend = np.asarray(gentle, dtype=float).copy()
    blend[0], blend[-1] = values[0], values[-1]
    rising = np.asarray(
        isotonic_regression(np.clip(blend, min(values[0], values[-1]), values[-1])).x, dtype=float
    )
    rising[0] = values[0]
    return np.asarray(np.maximum.accumulate(PchipInterpolator(inputs, rising)(at)))
