"""White ink: how much of it hides what lies below, and a curve that makes its opacity even.

Opacity is the contrast ratio of ISO 6504-3: luminance over black as a share of luminance over paper, percent.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.ramps import monotone
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: opacity (percent) that 5 % more ink must still bring, and that a white should reach
LEAST_GAIN, OPAQUE = 0.5, 85.0
#: a white printed again may hide this much less (percent) and differ this much in colour (dE00)
HIDES_LESS, COLOUR_OFF = 3.0, 2.0
_STEP = 0.05
_LOWEST = 0.2


def white_chart(
    white: str, under: str = "K", dark: float = 1.0, steps: int = 20
) -> tuple[Array, tuple[str, str]]:
    """Device values (n, 2) of a dark backing and the white over it, and the two channels: paper and backing
    twice each, the white on both in `steps` rising steps.

    `dark` is the raw value of the backing, fraction. The white is printed last.
    """
    levels = np.linspace(0.0, 1.0, steps + 1)[1:]
    over = np.column_stack([np.full(steps, dark), levels])
    on_paper = np.column_stack([np.zeros(steps), levels])
    backing = np.array([[dark, 0.0], [dark, 0.0]])
    return np.vstack([np.zeros((2, 2)), backing, over, on_paper]), (under, white)


@dataclass(frozen=True)
class White:
    """What a white ink does on one media.

    Attributes
    ----------
    inputs, opacity
        Raw inputs (n,), fractions from 0, and opacity (n,) there, percent, smoothed and rising.
    limit
        Raw input past which more ink hides hardly more.
    reason
        Why there.
    lab
        Lab (3,) of the white at its limit over the backing.
    """

    inputs: Array
    opacity: Array
    limit: float
    reason: str
    lab: Array

    def opacity_at(self, inputs: Array | float) -> Array:
        """Opacity (percent) at raw inputs (fractions)."""
        return np.asarray(np.interp(inputs, self.inputs, self.opacity))

    def curve(self, limit: float) -> Array:
        """Raw inputs (1024,) that bring opacity in even steps from none to that of `limit` (fraction)."""
        wanted = np.linspace(0.0, float(self.opacity_at(limit)), INPUTS)
        rising = self.opacity + np.linspace(0.0, 1e-6, len(self.opacity))
        found = np.minimum(np.interp(wanted, rising, self.inputs), limit)
        found[0], found[-1] = 0.0, limit
        return np.asarray(np.maximum.accumulate(found))


def find_white(readings: ReadingSet, white: str) -> White:
    """Opacity, limit and colour of the channel `white` from readings of `white_chart`.

    Raises `BadInput` where the white was not read over a dark backing and over paper.
    """
    over, on_paper = _opacity_ramp(readings, white)
    levels = np.intersect1d(over[0], on_paper[0])
    if len(levels) < 6 or over[1][0] > 0.5 * on_paper[1][0]:
        raise BadInput(
            f"{white} is judged over a dark backing and over paper, six steps each; read its chart"
        )
    ratio = np.interp(levels, *over) / np.maximum(np.interp(levels, *on_paper), 1e-6)
    fine = np.linspace(0.0, float(levels[-1]), 201)
    first = float(ratio[0])
    opacity = 100.0 * np.clip((monotone(levels, ratio, fine) - first) / (1.0 - first), 0.0, 1.0)
    step = round(_STEP / float(fine[1] - fine[0]))
    gain = opacity[step:] - opacity[:-step]
    weak = np.flatnonzero((gain < LEAST_GAIN) & (fine[step:] > _LOWEST))
    if len(weak):
        limit = round(float(fine[weak[0]]) * 200.0) / 200.0
        reason = f"past {100 * limit:.0f} % another 5 % of ink hides less than {LEAST_GAIN:g} % more"
    else:
        limit, reason = float(fine[-1]), "it hides more up to the end of the ramp"
    return White(fine, opacity, limit, reason, _lab_at(readings, white, limit))


def _columns(readings: ReadingSet, white: str) -> tuple[Array, Array]:
    if white not in readings.channels:
        raise BadInput(f"the readings have no {white}")
    device = readings.values()
    at = readings.channels.index(white)
    return device[:, at], np.delete(device, at, axis=1).max(axis=1, initial=0.0)


def _opacity_ramp(readings: ReadingSet, white: str) -> tuple[tuple[Array, Array], tuple[Array, Array]]:
    """Levels of white and mean luminance over the darkest backing, and over paper."""
    amount, below = _columns(readings, white)
    luminance = readings.xyz()[:, 1]
    dark = below > max(0.5 * float(below.max()), 1e-6)
    bare = below < 1e-6
    if not dark.any() or not bare.any():
        raise BadInput(f"{white} is judged over a dark backing and over paper; the readings have one of them")
    return _mean(amount[dark], luminance[dark]), _mean(amount[bare], luminance[bare])


def _mean(levels: Array, values: Array) -> tuple[Array, Array]:
    known, group = np.unique(np.round(levels, 4), return_inverse=True)
    return known, np.bincount(group, values) / np.bincount(group)


def _lab_at(readings: ReadingSet, white: str, limit: float) -> Array:
    amount, below = _columns(readings, white)
    dark = below > 0.5 * below.max()
    order = np.argsort(amount[dark], kind="stable")
    levels, lab = amount[dark][order], readings.lab()[dark][order]
    return np.array([np.interp(limit, levels, lab[:, i]) for i in range(3)])


@dataclass(frozen=True)
class WhiteCheck:
    """A white printed again: opacity then and now (percent), dE00 of its colour over the backing, whether it
    holds, and `words`.
    """

    was: float
    now: float
    off: float
    holds: bool
    words: str


def check_white(readings: ReadingSet, white: str, was: float, lab: Array) -> WhiteCheck:
    """Hold white patches at full, over a backing and over paper, to the opacity (percent) and Lab accepted.

    Raises `BadInput` where the readings have no such patches.
    """
    over, on_paper = _opacity_ramp(readings, white)
    if over[0][0] > 1e-6 or on_paper[0][0] > 1e-6:
        raise BadInput(f"opacity of {white} needs the bare backing and bare paper beside it")
    first = over[1][0] / on_paper[1][0]
    now = 100.0 * float(np.clip((over[1][-1] / on_paper[1][-1] - first) / (1.0 - first), 0.0, 1.0))
    off = float(delta_e_2000(lab[None], _lab_at(readings, white, float(over[0][-1]))[None])[0])
    holds = now >= was - HIDES_LESS and off <= COLOUR_OFF
    words = f"{white} hides {now:.1f} % ({was:.1f} % when it was accepted), colour {off:.2f} dE00 off"
    return WhiteCheck(was, now, off, holds, words)


def white_curves(found: White, channel: str, limit: float) -> CurveSet:
    """The curve of one white as a set of its own."""
    return CurveSet((channel,), found.curve(limit)[None])
