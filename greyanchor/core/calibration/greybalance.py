"""Grey balance to G7 (CGATS TR 015): curves that bring both grey scales of a printer to their aims.

A model of C, M and Y is fitted to the grey chart; one smooth curve per channel is then solved for all
tones at once, so that the near-neutral scale printed through the curves measures the aim. K follows its
own scale. This is a calibration: whether it holds is for a second print to say.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
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
#: fine inputs that curves are summed up on
_FINE = np.linspace(0.0, 1.0, 401)
#: pull of the curves to smoothness, Lab per unit of bend of the exponent
_SMOOTH = 0.012
#: largest change of the exponent of a slope over the whole scale: a factor of 1.5 within 5 %, with some room
_STEEPEST = 0.85 * float(np.log(1.5)) / 0.05
#: tone from which on the grey of the solids takes over from that of the paper
_GIVEN_FROM = 0.9
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


def _solve(model: ForwardModel, aim: GreyAim, top: Array) -> Array:
    """Curves (3, 1024) that bring the near-neutral scale to `aim` on `model`.

    A curve is the running sum of its slope, and the slope is a power of e whose exponent runs straight
    between knots: it rises everywhere, and how fast its slope changes is how fast the exponent does. Solved
    for is what the solids leave open: toward 100 % the grey of the solids themselves is the aim, as no curve
    can change it, and to chase the paper's would end every curve in a wobble.
    """
    target, share = aim.cmy(_TONES).copy(), weight(_TONES)[:, None]
    solid = model.lab(top[None, :3])[0]
    given = np.clip((_TONES - _GIVEN_FROM) / (1.0 - _GIVEN_FROM), 0.0, 1.0)[:, None] ** 2
    target[:, 1:] = (1.0 - given) * target[:, 1:] + given * solid[1:]
    asked = near_neutral(_TONES)

    def residual(parameters: Array) -> Array:
        exponents = parameters.reshape(3, -1)
        curves = _rising(exponents)
        device = np.column_stack([top[i] * np.interp(asked[:, i], _FINE, curves[i]) for i in range(3)])
        off = share * (model.lab(np.clip(device, 0.0, 1.0)) - target)
        steep = np.diff(exponents, axis=1) / np.diff(_KNOTS)
        bend = np.diff(steep, axis=1)
        beyond = np.maximum(np.abs(steep) - _STEEPEST, 0.0)
        # the sum of a curve is held to 1 by scaling, so that its exponents may float: hold their mean
        level = exponents.mean(axis=1)
        return np.concatenate([off.ravel(), _SMOOTH * bend.ravel(), 3.0 * beyond.ravel(), 0.1 * level])

    start = np.tile(_tone_alone(model, aim, top), 3)
    found = least_squares(residual, start, diff_step=2e-3, x_scale=0.3, max_nfev=40, ftol=1e-4)
    curves = _rising(found.x.reshape(3, -1))
    grid = np.linspace(0.0, 1.0, INPUTS)
    return np.array([_ended(top[i] * np.interp(grid, _FINE, curves[i]), float(top[i])) for i in range(3)])


def _tone_alone(model: ForwardModel, aim: GreyAim, top: Array) -> Array:
    """Exponents (knots,) of the one curve that brings the lightness of the scale to its aim: a start."""
    printed = -model.lab(near_neutral(_FINE) * top[:3])[:, 0]
    rising = np.maximum.accumulate(printed) + np.linspace(0.0, 1e-6, len(_FINE))
    wanted = np.interp(-aim.cmy(_FINE)[:, 0], rising, _FINE)
    slopes = np.diff(np.interp(np.append(_KNOTS, 1.05), _FINE, wanted)) / np.diff(np.append(_KNOTS, 1.05))
    slopes[-1] = slopes[-2]
    return np.clip(np.log(np.maximum(slopes, 0.05)), -1.2, 1.2)


def _rising(exponents: Array) -> Array:
    """Curves (3, points) from 0 to 1 on `_FINE` whose slopes are powers of e of exponents (3, knots)."""
    slopes = np.exp(np.clip([np.interp(_FINE, _KNOTS, e) for e in exponents], -6.0, 6.0))
    sums = np.cumsum(0.5 * (slopes[:, 1:] + slopes[:, :-1]), axis=1)
    return np.hstack([np.zeros((3, 1)), sums / sums[:, -1:]])


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
