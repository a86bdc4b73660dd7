"""Linearization: curves that give each channel a known tone scale."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.optimize import isotonic_regression

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.ramps import Ramp, find_ramps, monotone
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: deviation of a confirming print from the aim that is taken as even, tone value percent: mean and largest
EVEN_MEAN, EVEN_LARGEST = 0.8, 2.5


@dataclass(frozen=True)
class ToneScale:
    """Tone value of one channel before and after correction, percent, against the aim.

    `inputs` (n,) are new device values in percent at the measured steps; `before` the measured tone
    value there without correction, `aim` what it should be, `after` what the curve predicts.
    """

    channel: str
    inputs: Array
    before: Array
    aim: Array
    after: Array

    @property
    def deviation_before(self) -> tuple[float, float]:
        """Mean and largest absolute deviation from the aim before correction, percent tone value."""
        return _deviation(self.before - self.aim)

    @property
    def deviation_after(self) -> tuple[float, float]:
        """The same, predicted after correction."""
        return _deviation(self.after - self.aim)


@dataclass(frozen=True)
class Linearization:
    """Curves and the tone scales they were made from."""

    curves: CurveSet
    scales: dict[str, ToneScale]
    aim: str


def parse_aim(text: str) -> tuple[str, float]:
    """``sctv``, ``lstar``, ``density`` or ``tvi:NN`` -> (kind, tone value increase at 50 %).

    The increase is in percent, 0 to 40, and 0 for the other kinds. Raises `BadInput` for any other
    text.

    >>> parse_aim("sctv"), parse_aim("tvi:16")
    (('sctv', 0.0), ('tvi', 16.0))
    """
    kind, _, value = text.strip().lower().partition(":")
    if kind == "g7":
        raise BadInput(
            "the aim g7 is not of single ramps: it is solved from the grey chart by grey balance; use "
            "sctv here"
        )
    if kind not in ("sctv", "lstar", "density", "tvi") or (kind == "tvi") != bool(value):
        raise BadInput(f"no linearization aim {text!r}; use sctv, tvi:NN, lstar or density")
    if kind != "tvi":
        return kind, 0.0
    try:
        increase = float(value)
    except ValueError:
        increase = -1.0
    if not 0 <= increase <= 40:
        raise BadInput(f"a tone value increase of {value!r} is not a number from 0 to 40")
    return kind, increase


def linearize(
    readings: ReadingSet, limits: Mapping[str, float] | None = None, aim: str = "sctv"
) -> Linearization:
    """Curves (1,024 inputs) from raw single-channel ramps under ink limits (fractions of raw).

    The curve is the monotone inverse of the smoothed measured tone scale between paper and the
    limit. Raises `BadInput` when a ramp is missing or does not reach its limit.
    """
    kind, increase = parse_aim(aim)
    ramps = find_ramps(readings)
    unknown = sorted(set(limits or {}) - set(ramps))
    if unknown:
        raise BadInput(f"there is a limit for {unknown[0]}, but no such channel in the readings")
    outputs, scales = [], {}
    for channel, ramp in ramps.items():
        limit = float((limits or {}).get(channel, ramp.inputs[-1]))
        outputs.append(_channel_curve(ramp, limit, kind, increase))
        scales[channel] = tone_scale(ramp, limit, outputs[-1], kind, increase)
    return Linearization(CurveSet(tuple(ramps), np.array(outputs)), scales, aim)


def tone_values(ramp: Ramp, limit: float, kind: str) -> tuple[Array, Array]:
    """Raw inputs (n,) up to `limit` and the tone value 0..1 of each, 1 at the limit.

    Raises `BadInput` for a limit (fraction) beyond the ramp, and for a ramp that gets no darker.
    """
    if not 0.05 <= limit <= ramp.inputs[-1] + 1e-3:
        raise BadInput(
            f"the limit of {ramp.channel}, {100 * limit:.1f} %, lies beyond its ramp, which ends at "
            f"{100 * ramp.inputs[-1]:.1f} %"
        )
    inside = ramp.inputs < limit - 1e-4
    inputs = np.append(ramp.inputs[inside], limit)
    if kind == "lstar":
        tones = ramp.lab[0, 0] - ramp.lab[:, 0]
    elif kind == "density":
        tones = ramp.density - ramp.density[0]
    else:
        end = np.array([np.interp(limit, ramp.inputs, ramp.xyz[:, i]) for i in range(3)])
        tones = sctv(ramp.xyz, ramp.xyz[0], end)
    top = float(PchipInterpolator(ramp.inputs, tones)(limit))
    if top <= 1e-6:
        raise BadInput(f"channel {ramp.channel} does not get darker or more colourful along its ramp")
    return inputs, np.append(tones[inside], top) / top


def aim_curve(inputs: Array, kind: str, increase: float = 0.0) -> Array:
    """Aim tone values 0..1 (n,) for device values 0..1 (n,): straight, or with a parabolic increase for
    ``tvi``, `increase` percent at 50 %.

    >>> aim_curve(np.array([0.0, 0.5, 1.0]), "tvi", 16.0).round(3).tolist()
    [0.0, 0.66, 1.0]
    """
    if kind != "tvi":
        return np.asarray(inputs, dtype=float)
    return np.asarray(inputs + 4.0 * increase / 100.0 * inputs * (1.0 - inputs))


def _channel_curve(ramp: Ramp, limit: float, kind: str, increase: float) -> Array:
    inputs, tones = tone_values(ramp, limit, kind)
    fine = np.linspace(0.0, limit, 4097)
    measured = monotone(inputs, tones, fine)
    measured = np.clip((measured - measured[0]) / (measured[-1] - measured[0]), 0.0, 1.0)
    measured = measured + np.linspace(0.0, 1e-7, len(fine))  # strictly rising, so that it has one inverse
    wanted = aim_curve(np.linspace(0.0, 1.0, INPUTS), kind, increase)
    curve = np.interp(wanted, measured, fine)
    curve[0], curve[-1] = 0.0, limit
    return np.maximum.accumulate(np.clip(curve, 0.0, limit))


def tone_scale(ramp: Ramp, limit: float, curve: Array, kind: str, increase: float) -> ToneScale:
    """Tone values before, aimed at, and predicted after `curve` (1024,), at the measured steps."""
    inputs, tones = tone_values(ramp, limit, kind)
    at = inputs / limit
    through = np.interp(at, np.linspace(0.0, 1.0, INPUTS), curve)
    after = PchipInterpolator(inputs, tones)(through)
    return ToneScale(
        ramp.channel, 100.0 * at, 100.0 * tones, 100.0 * aim_curve(at, kind, increase), 100.0 * after
    )


@dataclass(frozen=True)
class ScaleEnd:
    """How a curve ends, where tone hardly grows any more and much ink makes little of it.

    `slope` is how steep the last 2 % of input are against the whole curve, `ink` the share of the ink they
    take (percent). A limit at `lower` (fraction of raw) would end no steeper than `STEEP`, and give up
    `loses` percent of the tone.
    """

    slope: float
    ink: float
    lower: float
    loses: float

    @property
    def lower_percent(self) -> float:
        """`lower` in percent."""
        return 100.0 * self.lower


#: a curve that ends steeper than this says so
STEEP = 3.0


def scale_end(curve: Array) -> ScaleEnd:
    """How a curve (n,) from 0 to its limit ends.

    >>> round(scale_end(np.linspace(0.0, 0.8, 1024)).slope, 2)
    1.0
    """
    grid, limit = np.linspace(0.0, 1.0, len(curve)), float(curve[-1])
    last = (limit - float(np.interp(0.98, grid, curve))) / limit
    # how steep a curve would end that is cut at each input: the ink of its last 2 % against all of it
    cuts = np.linspace(0.8, 1.0, 201)
    ends = 1.0 - np.interp(0.98 * cuts, grid, curve) / np.interp(cuts, grid, curve)
    calm = np.flatnonzero(ends <= 0.02 * STEEP)
    cut = float(cuts[calm[-1]]) if len(calm) else 0.8
    return ScaleEnd(last / 0.02, 100.0 * last, float(np.interp(cut, grid, curve)), 100.0 * (1.0 - cut))


def _deviation(difference: Array) -> tuple[float, float]:
    size = np.abs(difference)
    return float(size.mean()), float(size.max())


#: inputs, fractions, at which a curve can be taken hold of
HANDLES = tuple(round(0.1 * i, 1) for i in range(1, 10))


def touch_up(curve: Array, moves: Mapping[float, float]) -> Array:
    """`curve` (1024,) moved by hand, never reversing, with both ends where they were.

    Parameters
    ----------
    moves
        New raw output (fraction) at some of `HANDLES`. Between handles the change runs along a PCHIP, so
        that the detail of the measured curve stays; what would reverse is levelled (isotonic regression).

    Raises `BadInput` for a move at another place than `HANDLES`.

    >>> moved = touch_up(np.linspace(0.0, 1.0, 1024), {0.5: 0.45})
    >>> round(float(moved[512]), 2), float(moved[-1])
    (0.45, 1.0)
    """
    grid = np.linspace(0.0, 1.0, INPUTS)
    at = np.array([0.0, *HANDLES, 1.0])
    change = np.zeros(len(at))
    for handle, output in moves.items():
        nearest = int(np.argmin(np.abs(at - handle)))
        if abs(at[nearest] - handle) > 1e-6 or nearest in (0, len(at) - 1):
            raise BadInput(f"a curve has no handle at {100 * handle:g} %; use 10, 20 .. 90")
        change[nearest] = output - float(np.interp(handle, grid, curve))
    moved = np.clip(curve + PchipInterpolator(at, change)(grid), 0.0, curve[-1])
    level = np.asarray(isotonic_regression(moved).x, dtype=float)
    level[0], level[-1] = 0.0, curve[-1]
    return np.maximum.accumulate(level)


def confirm(readings: ReadingSet, aim: str = "sctv") -> dict[str, ToneScale]:
    """Tone scales of ramps that were printed through the curves and read again; `after` is what was
    measured.
    """
    kind, increase = parse_aim(aim)
    scales = {}
    for channel, ramp in find_ramps(readings).items():
        inputs, tones = tone_values(ramp, float(ramp.inputs[-1]), kind)
        aimed = 100.0 * aim_curve(inputs, kind, increase)
        scales[channel] = ToneScale(channel, 100.0 * inputs, 100.0 * tones, aimed, 100.0 * tones)
    return scales
