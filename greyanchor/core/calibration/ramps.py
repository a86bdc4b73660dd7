"""Finding the ramp of each channel in a reading set, and smoothing it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.interpolate import CubicSpline, PchipInterpolator
from scipy.optimize import isotonic_regression

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.density import peak_band, peak_density, visual_density
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

MIN_STEPS = 5
#: ramps with fewer levels, paper among them, are not smoothed
FEW_STEPS = 15
_CAUTION = 1.4
_STIFFNESS = np.geomspace(1e-9, 1e-1, 41)


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
    light
        What reaches the eye from each step (n, bands): spectra, or XYZ where there are none.
    """

    channel: str
    inputs: Array
    xyz: Array
    lab: Array
    density: Array
    light: Array


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
            light = mean(spectra)
            density = peak_density(light, peak_band(light[-1], light[0]))
        else:
            light, density = channel_xyz, visual_density(channel_xyz)
        ramps[channel] = Ramp(channel, levels, channel_xyz, mean(lab), density, light)
    return ramps


def smooth(inputs: Array, values: Array, at: Array) -> Array:
    """A cubic smoothing spline through `values` (n,) or (n, k), read at `at` (m,).

    Stiffness is chosen for each column by generalized cross-validation (Craven & Wahba 1978), in
    closed form over the eigenvectors of the roughness penalty (Green & Silverman 1994, 2.3), with
    the degrees of freedom weighed 1.4 times, which keeps it from following noise (Kim & Gu 2004).
    """
    columns = values if values.ndim == 2 else values[:, None]
    roughness, shapes = _penalty(tuple(inputs.tolist()))
    seen = shapes.T @ columns
    shrink = 1.0 / (1.0 + _STIFFNESS[:, None] * roughness)
    left = ((1.0 - shrink)[:, :, None] * seen) ** 2
    freedom = (1.0 - _CAUTION * shrink.mean(axis=1))[:, None]
    score = np.where(freedom > 0.02, left.sum(axis=1) / np.maximum(freedom, 0.02) ** 2, np.inf)
    best = shrink[np.argmin(score, axis=0)].T
    fitted = shapes @ (best * seen)
    out = np.asarray(CubicSpline(inputs, fitted, bc_type="natural")(at))
    return out if values.ndim == 2 else out[:, 0]


def smooth_ramp(inputs: Array, values: Array, at: Array) -> Array:
    """`smooth` of what is left of values (n,) or (n, k) after the nearest curve of a saturating, hooking ink
    is taken out.

    The guide a + b (1 - exp(-k x)) + c softplus(x - h) has the shape of an ink that saturates and, past
    h, turns; what is left is much straighter, so that noise is distinguished from shape.
    """
    columns = values if values.ndim == 2 else values[:, None]
    bases, inverses, far = _guides(tuple(inputs.tolist()), tuple(at.tolist()))
    weights = inverses @ columns
    fitted = bases @ weights
    best = ((fitted - columns) ** 2).sum(axis=1).argmin(axis=0)
    each = np.arange(columns.shape[1])
    here, there = fitted[best, :, each].T, (far @ weights)[best, :, each].T
    out = there + smooth(inputs, columns - here, at)
    return out if values.ndim == 2 else out[:, 0]


@lru_cache(maxsize=32)
def _guides(inputs: tuple[float, ...], at: tuple[float, ...]) -> tuple[Array, Array, Array]:
    """Guides of several rates and hooks at `inputs` (g, n, 3), their pseudo-inverses (g, 3, n), and the same
    at `at`.
    """
    x, far = np.array(inputs) / inputs[-1], np.array(at) / inputs[-1]
    shapes = [(rate, hook) for rate in (0.8, 2.0, 3.5, 6.0) for hook in (0.35, 0.5, 0.65, 0.8)]
    bases = np.stack([_guide(x, *shape) for shape in shapes])
    return bases, np.linalg.pinv(bases), np.stack([_guide(far, *shape) for shape in shapes])


def _guide(x: Array, rate: float, hook: float) -> Array:
    turned = 0.06 * np.logaddexp(0.0, (x - hook) / 0.06)
    return np.column_stack([np.ones_like(x), 1.0 - np.exp(-rate * x), turned])


@lru_cache(maxsize=32)
def _penalty(steps: tuple[float, ...]) -> tuple[Array, Array]:
    """Eigenvalues and eigenvectors of Q R^-1 Q', the integrated squared second derivative of a natural
    spline.
    """
    inputs = np.array(steps)
    h = np.diff(inputs / (inputs[-1] - inputs[0]))
    n = len(inputs)
    q, r = np.zeros((n, n - 2)), np.zeros((n - 2, n - 2))
    for j in range(n - 2):
        q[j, j], q[j + 1, j], q[j + 2, j] = 1.0 / h[j], -1.0 / h[j] - 1.0 / h[j + 1], 1.0 / h[j + 1]
        r[j, j] = (h[j] + h[j + 1]) / 3.0
        if j + 1 < n - 2:
            r[j, j + 1] = r[j + 1, j] = h[j + 1] / 6.0
    values, vectors = np.linalg.eigh(q @ np.linalg.solve(r, q.T))
    return np.maximum(values, 0.0), vectors


def monotone(inputs: Array, values: Array, at: Array) -> Array:
    """Values (n,) made never-falling by isotonic regression after smoothing, then joined by PCHIP.

    What is smoothed is the difference from the best saturating curve, which is much straighter than
    the tone scale itself. With few steps it is not smoothed at all: noise is small beside what a step may
    hide, and stiffness cannot be chosen from so few. Noise cannot make the result reverse; the first and last
    values are kept.
    """
    if len(inputs) < FEW_STEPS:
        return _monotone_of_few(inputs, values, at)
    guide = _saturating(inputs, values)
    blend = np.asarray(guide + smooth(inputs, values - guide, inputs), dtype=float)
    blend[0], blend[-1] = values[0], values[-1]
    rising = np.asarray(
        isotonic_regression(np.clip(blend, min(values[0], values[-1]), values[-1])).x, dtype=float
    )
    rising[0] = values[0]
    return np.asarray(np.maximum.accumulate(PchipInterpolator(inputs, rising)(at)))


def _monotone_of_few(inputs: Array, values: Array, at: Array) -> Array:
    """The same of few steps: between them the curve goes as PCHIP has it, or as an ink that saturates and
    hooks would, whichever predicts steps better that are left out.
    """
    rising = np.asarray(isotonic_regression(np.minimum(values, values[-1])).x, dtype=float)
    rising[0] = values[0]
    plain = PchipInterpolator(inputs, rising)(at)
    if len(inputs) < MIN_STEPS + 2 or not _guides_well(inputs, values):
        return np.asarray(np.maximum.accumulate(plain))
    guided = np.clip(_guided(inputs, values, at), values[0], values[-1])
    level = np.asarray(isotonic_regression(guided).x, dtype=float)
    level[0], level[-1] = values[0], values[-1]
    return np.asarray(np.maximum.accumulate(np.clip(level, values[0], values[-1])))


def _guided(inputs: Array, values: Array, at: Array) -> Array:
    """The best guide of `values` (n,), and PCHIP through what it leaves, at `at` (m,)."""
    bases, inverses, far = _guides(tuple(inputs.tolist()), tuple(at.tolist()))
    weights = inverses @ values[:, None]
    fitted = (bases @ weights)[:, :, 0]
    best = int(((fitted - values) ** 2).sum(axis=1).argmin())
    return np.asarray(far[best] @ weights[best][:, 0] + PchipInterpolator(inputs, values - fitted[best])(at))


def _guides_well(inputs: Array, values: Array) -> bool:
    """Whether the guide predicts each inner step from the others better than PCHIP alone."""
    plain, guided = 0.0, 0.0
    for i in range(1, len(inputs) - 1):
        x, y = np.delete(inputs, i), np.delete(values, i)
        plain += abs(float(PchipInterpolator(x, y)(inputs[i])) - values[i])
        guided += abs(float(_guided(x, y, inputs[i : i + 1])[0]) - values[i])
    return guided < plain


def _saturating(inputs: Array, values: Array) -> Array:
    """The curve a + b (1 - exp(-k x)) nearest to `values`, over a range of k."""
    x = inputs / inputs[-1]
    rates = np.array([k for k in np.linspace(-3.0, 7.0, 41) if abs(k) > 0.1])
    best = (np.inf, values)
    for rate in rates:
        basis = np.column_stack([np.ones_like(x), 1.0 - np.exp(-rate * x)])
        fitted = basis @ np.linalg.lstsq(basis, values, rcond=None)[0]
        miss = float(((fitted - values) ** 2).sum())
        if miss < best[0]:
            best = (miss, fitted)
    return best[1]
