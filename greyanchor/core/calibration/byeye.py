"""What the eye decides: the last good step of a fault, and steps that look like a coarse dither."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.optimize import brentq, isotonic_regression
from scipy.special import stdtrit

from greyanchor.core.calibration.curves import INPUTS
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput

#: faults that grow with the ink of one channel
RAMP_FAULTS = ("bleed", "coalescence", "haze", "cockling", "scuffing")
#: faults that grow with the sum of inks
TOTAL_FAULTS = ("bleed", "coalescence", "cockling", "slow drying", "scuffing")
#: tone values at which pairs are matched
MATCH_TONES = (0.15, 0.30, 0.50, 0.70, 0.85)
MATCH_STEPS = 11
#: share of the miss at a tone left out that stands for the miss between tones
_BETWEEN = 0.15


@dataclass(frozen=True)
class EyeLimit:
    """The smallest last good step over all faults, fraction, and the fault that set it."""

    limit: float
    fault: str


def eye_limit(marks: Mapping[str, float | None]) -> EyeLimit | None:
    """From the last good step (fraction) of each fault, None where a fault was not seen."""
    seen = [(step, fault) for fault, step in marks.items() if step is not None]
    if not seen:
        return None
    step, fault = min(seen)
    return EyeLimit(float(step), fault)


@dataclass(frozen=True)
class MatchPair:
    """A coarse dither beside a run of steps of the same ink.

    The dither covers `coverage` of its area with the ink at its limit, in dots so coarse that they do
    not spread; among `steps` (raw inputs, fractions) one looks as dark. That step is the input that
    prints the tone value `tone`.
    """

    channel: str
    tone: float
    coverage: float
    steps: tuple[float, ...]


def match_pairs(channel: str, limit: float, paper_xyz: Array, solid_xyz: Array) -> list[MatchPair]:
    """Pairs for one channel from the usual colour of paper (3,) and solid ink (3,), XYZ with Y = 100 for
    the perfect diffuser.

    The coverage is the one whose mixture (Murray-Davies) has the wanted tone value, SCTV of ISO 20654.
    `limit` is a fraction of raw input.
    """

    def short_of(coverage: float, tone: float) -> float:
        mixed = (1.0 - coverage) * paper_xyz + coverage * solid_xyz
        return float(sctv(mixed, paper_xyz, solid_xyz)) / 100.0 - tone

    pairs = []
    for tone in MATCH_TONES:
        coverage = float(brentq(short_of, 1e-4, 1.0, args=(tone,)))
        inputs = np.minimum(np.linspace(0.18, 1.12, MATCH_STEPS) * tone * limit, limit)
        steps = tuple(dict.fromkeys(round(float(x), 4) for x in inputs))
        pairs.append(MatchPair(channel, tone, round(coverage, 4), steps))
    return pairs


@dataclass(frozen=True)
class EyeCurve:
    """A curve made from matches: raw outputs (1024,), and how far its tone may be off, percent, two standard
    deviations.
    """

    channel: str
    output: Array
    sure_within: float


def curve_from_matches(
    channel: str, limit: float, matches: Mapping[float, Sequence[float]], step_width: Mapping[float, float]
) -> EyeCurve:
    """A monotone curve through the matched inputs.

    Parameters
    ----------
    matches
        By tone value (fraction): the raw inputs that were matched, once or several times.
    step_width
        By tone value: the distance between neighbouring steps, raw input.

    Raises `BadInput` when fewer than three tone values were matched, or when the matches do not rise.
    """
    tones = np.array(sorted(matches))
    if len(tones) < 3:
        raise BadInput(f"{channel} has {len(tones)} matched tones; at least three are needed")
    means = np.array([float(np.mean(matches[t])) for t in tones])
    if means[-1] <= means[0]:
        raise BadInput(f"the matches of {channel} do not rise from light to dark; look at them again")
    x = np.concatenate([[0.0], tones, [1.0]])
    y = np.concatenate([[0.0], means, [limit]])
    y = np.maximum.accumulate(np.asarray(isotonic_regression(np.clip(y, 0.0, limit)).x, dtype=float))
    y[0], y[-1] = 0.0, limit
    curve = PchipInterpolator(x, y)
    output = np.maximum.accumulate(np.clip(curve(np.linspace(0.0, 1.0, INPUTS)), 0.0, limit))
    output[0], output[-1] = 0.0, limit
    return EyeCurve(channel, output, _sureness(tones, matches, step_width, curve))


def _sureness(
    tones: Array,
    matches: Mapping[float, Sequence[float]],
    step_width: Mapping[float, float],
    curve: PchipInterpolator,
) -> float:
    """Two standard deviations in tone value, percent: scatter of repeats, width of a step, and what lies
    between tones.

    A step is as wide however often it is matched, so that its rounding is not averaged out; scatter that few
    repeats say is itself unsure (Student's t); between tones the curve is off by a share of what it misses at
    a tone that is left out.
    """
    freedom = sum(len(matches[t]) - 1 for t in tones)
    squares = sum(float(np.var(matches[t])) * len(matches[t]) for t in tones)
    pooled = squares / freedom if freedom else 0.0
    wider = float(stdtrit(freedom, 0.975)) / 1.96 if freedom else 1.0
    off = []
    for tone in tones:
        each = pooled * wider**2 if freedom else step_width[tone] ** 2 / 16.0
        variance = each / len(matches[tone]) + step_width[tone] ** 2 / (12.0 * len(matches[tone]) ** 0.75)
        slope = max(float(curve(tone, 1)), 1e-3)
        off.append(variance / slope**2)
    between = _between(curve)
    return float(200.0 * np.sqrt(np.mean(off) + between**2))


def _between(curve: PchipInterpolator) -> float:
    """Tone value by which a curve may be off between its tones: a quarter of what it misses at inner ones."""
    x, missed = curve.x, []
    y = curve(x)
    for i in range(1, len(x) - 1):
        others = PchipInterpolator(np.delete(x, i), np.delete(y, i))
        missed.append(abs(float(others(x[i]) - y[i])) / max(float(curve(x[i], 1)), 1e-3))
    return _BETWEEN * float(np.sqrt(np.mean(np.square(missed))))
