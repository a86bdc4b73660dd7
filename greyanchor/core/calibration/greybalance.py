"""Grey balance to G7 (CGATS TR 015): curves that bring both grey scales of a printer to their aims.

A model of C, M and Y is fitted to the grey chart; one smooth curve per channel is then solved for all
tones at once, so that the near-neutral scale printed through the curves measures the aim. K follows its
own scale. This is a calibration: whether it holds is for a second print to say.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.optimize import isotonic_regression, least_squares

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.g7 import (
    GreyAim,
    is_cmy_step,
    is_k_step,
    lightness_at,
    neutral_density,
    tone_aim,
    weight,
)
from greyanchor.core.calibration.ramps import monotone
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.charts.patches import near_neutral
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

_CMY = tuple("CMY")
_KNOTS = np.array([0.0, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])
#: tones at which the scales are brought to their aims
_TONES = np.array([0.02, 0.05, *np.arange(0.1, 1.0, 0.05), 0.97])
#: pull of the curves to smoothness, Lab per unit of second difference
_SMOOTH = 12.0
_FEWEST_STEPS = 8
#: largest weighted difference, dL* or dCh, up to which a curve is taken to meet its aim
_MET = 1.0


@dataclass(frozen=True)
class GreyBalance:
    """Curves and what they are predicted to do.

    Attributes
    ----------
    curves
        C, M, Y and K, from the values the chart was printed with.
    aim
        Paper and printed maxima that the aims depend on.
    tones
        Tone values (n,), fractions, of the rows below.
    before, after, target
        Lab (n, 3) of the near-neutral scale as printed, through the curves (predicted), and aimed at.
    black_before, black_after, black_target
        L* (n,) of the K scale.
    fit
        Mean dE00 of the model over unseen patches of the chart.
    """

    curves: CurveSet
    aim: GreyAim
    tones: Array
    before: Array
    after: Array
    target: Array
    black_before: Array
    black_after: Array
    black_target: Array
    fit: float

    def weighted(self, after: bool = True) -> tuple[Array, Array, Array]:
        """|wdL*| and wdCh (n,) of the CMY scale and |wdL*| of K, predicted after or as printed before."""
        w = weight(self.tones)
        cmy, black = (self.after, self.black_after) if after else (self.before, self.black_before)
        delta = cmy - self.target
        return (
            w * np.abs(delta[:, 0]),
            w * np.hypot(delta[:, 1], delta[:, 2]),
            w * np.abs(black - self.black_target),
        )

    @property
    def unmet(self) -> tuple[float, ...]:
        """Tones (fractions) where not even the curves meet the aim of the CMY scale; the solids set the
        end.
        """
        dl, dch, _ = self.weighted()
        return tuple(float(t) for t in self.tones[np.maximum(dl, dch) > _MET])


def balance(readings: ReadingSet, limits: Mapping[str, float] | None = None) -> GreyBalance:
    """Solve grey balance from readings of a grey chart of C, M, Y and K.

    The chart may have been printed raw or through linearization curves: the new curves stand on top of
    what it was printed through. `limits` are the values (fractions) that 100 % shall be printed with, 1
    when left out. Raises `BadInput` when the chart holds no grey scales.
    """
    if readings.channels != tuple("CMYK"):
        raise BadInput(
            f"grey balance is of C, M, Y and K, not of {'+'.join(readings.channels) or 'no channels'}"
        )
    unknown = sorted(set(limits or {}) - set("CMYK"))
    if unknown:
        raise BadInput(f"there is a limit for {unknown[0]}, but no such channel in the readings")
    top = np.array([(limits or {}).get(c, 1.0) for c in "CMYK"])
    if (top < 0.05).any() or (top > 1.0).any():
        raise BadInput("limits of grey balance lie between 5 and 100 %")
    device, lab = readings.values(), readings.lab()
    _check_scales(device)
    model = _model_of(readings)
    paper = lab[device.max(axis=1) < 0.0005].mean(axis=0)
    black_in, black_density = _black_scale(device, lab, paper)
    solid = model.lab(top[None, :3])
    aim = GreyAim(
        paper,
        float(neutral_density(solid, paper)[0]),
        float(np.interp(top[3], black_in, black_density)),
    )
    outputs = np.vstack([_solve(model, aim, top[:3]), _black_curve(black_in, black_density, aim, top[3])])
    curves = CurveSet(tuple("CMYK"), outputs)
    return _text(curves, aim, model, top, black_in, black_density)


def _check_scales(device: Array) -> None:
    if not (device.max(axis=1) < 0.0005).any():
        raise BadInput("grey balance needs an unprinted patch, and the readings have none")
    for mask, column, what in (
        (is_cmy_step(device), 0, "near-neutral scale of C, M and Y"),
        (is_k_step(device), 3, "scale of K"),
    ):
        count = len(np.unique(np.round(device[mask, column], 3)))
        if count < _FEWEST_STEPS:
            raise BadInput(
                f"the {what} has {count} steps here, {_FEWEST_STEPS} are needed: the aim g7 is solved from "
                "the grey chart"
            )


def _model_of(readings: ReadingSet) -> ForwardModel:
    """A model of C, M and Y from the patches without K."""
    without = readings.select(readings.values()[:, 3] < 0.0005)
    return characterize(replace(without, channels=_CMY, device=without.values()[:, :3]))


def _black_scale(device: Array, lab: Array, paper: Array) -> tuple[Array, Array]:
    """Smooth rising neutral density of K over paper on a fine grid of its values: inputs and densities."""
    steps = is_k_step(device)
    levels, group = np.unique(np.round(device[steps, 3], 4), return_inverse=True)
    density = neutral_density(lab[steps], paper)
    mean = np.bincount(group, density) / np.bincount(group)
    grid = np.linspace(0.0, levels[-1], 2049)
    smooth = monotone(np.concatenate([[0.0], levels]), np.concatenate([[0.0], mean]), grid)
    return grid, np.asarray(smooth - smooth[0])


def _black_curve(inputs: Array, density: Array, aim: GreyAim, top: float) -> Array:
    wanted = tone_aim(np.linspace(0.0, 1.0, INPUTS), aim.k_maximum, black=True)
    rising = density + np.linspace(0.0, 1e-7, len(density))  # strictly, so that it has one inverse
    return _ended(np.interp(wanted, rising, inputs), top)


def _ended(curve: Array, top: float) -> Array:
    """`curve` from 0 to `top`, never falling."""
    level = np.asarray(isotonic_regression(np.clip(curve, 0.0, top)).x, dtype=float)
    level[0], level[-1] = 0.0, top
    return np.asarray(np.maximum.accumulate(level))


def _through(values: Array, tones: Array, top: Array) -> Array:
    """Device values (n, 3) that the near-neutral scale at `tones` gets through curves with knots (3,
    knots).
    """
    asked = near_neutral(tones)
    return np.column_stack([top[i] * PchipInterpolator(_KNOTS, values[i])(asked[:, i]) for i in range(3)])


def _solve(model: ForwardModel, aim: GreyAim, top: Array) -> Array:
    """Curves (3, 1024) that bring the near-neutral scale to `aim` on `model`."""
    target, share = aim.cmy(_TONES), weight(_TONES)[:, None]
    inner = len(_KNOTS) - 2

    def knots(parameters: Array) -> Array:
        inside = np.clip(parameters.reshape(3, inner), 0.0, 1.0)
        return np.hstack([np.zeros((3, 1)), inside, np.ones((3, 1))])

    def residual(parameters: Array) -> Array:
        values = knots(parameters)
        device = np.clip(_through(values, _TONES, top), 0.0, 1.0)
        off = share * (model.lab(device) - target)
        slope = np.diff(values, axis=1) / np.diff(_KNOTS)
        bend = np.diff(slope, axis=1)
        falling = np.minimum(slope, 0.0)
        return np.concatenate([off.ravel(), _SMOOTH * 0.05 * bend.ravel(), 50.0 * falling.ravel()])

    start = np.tile(_KNOTS[1:-1], 3)
    found = least_squares(residual, start, bounds=(0.0, 1.0), diff_step=2e-3, max_nfev=30, ftol=1e-4)
    values = knots(found.x)
    grid = np.linspace(0.0, 1.0, INPUTS)
    return np.array(
        [_ended(top[i] * PchipInterpolator(_KNOTS, values[i])(grid), float(top[i])) for i in range(3)]
    )


def _text(
    curves: CurveSet, aim: GreyAim, model: ForwardModel, top: Array, black_in: Array, black_density: Array
) -> GreyBalance:
    tones = np.array([0.05, *np.arange(0.1, 1.01, 0.05)])
    asked = near_neutral(tones)
    sent = curves.apply(np.column_stack([asked, tones]))

    def black(values: Array) -> Array:
        return lightness_at(np.interp(values, black_in, black_density), aim.paper)

    return GreyBalance(
        curves,
        aim,
        tones,
        model.lab(asked * top[:3]),
        model.lab(sent[:, :3]),
        aim.cmy(tones),
        black(tones * top[3]),
        black(sent[:, 3]),
        aim.k(tones),
        model.held_out.mean,
    )


def on_top(curves: CurveSet, beneath: CurveSet) -> CurveSet:
    """One set of curves that does what `curves` and then `beneath` do.

    The result takes the channels of `curves`; 1024 entries each, fractions. Raises `BadInput` for sets of
    other channels.
    """
    if curves.channels != beneath.channels:
        raise BadInput(
            f"curves of {'+'.join(curves.channels)} cannot stand on curves of {'+'.join(beneath.channels)}"
        )
    grid = np.linspace(0.0, 1.0, INPUTS)
    return CurveSet(
        curves.channels,
        np.array(
            [np.interp(curves.outputs[i], grid, beneath.outputs[i]) for i in range(len(curves.channels))]
        ),
    )
