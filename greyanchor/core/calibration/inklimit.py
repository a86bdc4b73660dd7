"""Ink limits: the smallest input past which a channel's ink does no more useful work."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.ramps import Ramp, find_ramps, smooth
from greyanchor.core.colorimetry import Array, chroma
from greyanchor.core.readings import ReadingSet


@dataclass(frozen=True)
class LimitRules:
    """When a limit falls.

    Attributes
    ----------
    gain_share
        Rule (a): chroma (lightness for neutrals) must gain at least this share of its whole
        range per 5 % of input.
    hue_turn
        Rule (b): degrees that hue may turn from its direction at 70 % input.
    neutral_chroma
        A channel whose ramp stays under this chroma is neutral.
    lowest
        No limit falls below this input.
    """

    gain_share: float = 0.008
    hue_turn: float = 6.0
    neutral_chroma: float = 15.0
    lowest: float = 0.40


@dataclass(frozen=True)
class InkLimit:
    """The limit of one channel and what it means.

    Attributes
    ----------
    channel
        Its name.
    limit
        Input, fraction.
    rule
        ``gain``, ``hue``, ``density`` or ``none``.
    reason
        The rule in words with its figures.
    keeps
        Share of the largest chroma (or lightness range) kept at the limit, percent.
    keeps_density
        Share of the largest density kept, percent.
    saves
        Ink saved against raw 100 %, percent.
    """

    channel: str
    limit: float
    rule: str
    reason: str
    keeps: float
    keeps_density: float
    saves: float


@dataclass(frozen=True)
class RampCurves:
    """Smoothed properties of a ramp at 201 inputs (fractions), for finding and drawing limits."""

    inputs: Array
    work: Array
    hue: Array
    density: Array
    lab: Array
    neutral: bool


def ramp_curves(ramp: Ramp, rules: LimitRules = LimitRules()) -> RampCurves:
    """Smoothed chroma or lightness gain, hue in degrees, density and Lab along a ramp."""
    at = np.linspace(0.0, float(ramp.inputs[-1]), 201)
    lab = smooth(ramp.inputs, ramp.lab, at)
    density = smooth(ramp.inputs, ramp.density, at)
    neutral = bool(chroma(ramp.lab - ramp.lab[0] * np.array([0.0, 1.0, 1.0])).max() < rules.neutral_chroma)
    from_paper = lab - lab[0]
    work = lab[0, 0] - lab[:, 0] if neutral else np.hypot(from_paper[:, 1], from_paper[:, 2])
    hue = np.degrees(np.unwrap(np.arctan2(from_paper[:, 2], from_paper[:, 1])))
    return RampCurves(at, work, hue, density, lab, neutral)


def find_limit(ramp: Ramp, rules: LimitRules = LimitRules()) -> InkLimit:
    """The ink limit of one ramp by three rules; the smallest input wins."""
    curves = ramp_curves(ramp, rules)
    found = [rule for rule in (_stall(curves, rules), _hook(curves, rules), _fall(curves, rules)) if rule]
    top = float(curves.inputs[-1])
    limit, rule, reason = min(found, default=(top, "none", "no rule fired: the channel works up to its end"))
    limit = min(max(limit, rules.lowest), top)
    limit = round(limit * 200.0) / 200.0
    i = int(np.searchsorted(curves.inputs, limit - 1e-9))
    gained = curves.density - curves.density[0]
    return InkLimit(
        channel=ramp.channel,
        limit=limit,
        rule=rule,
        reason=reason,
        keeps=float(100.0 * curves.work[i] / curves.work.max()),
        keeps_density=float(100.0 * gained[i] / gained.max()),
        saves=float(100.0 * (1.0 - limit / top)),
    )


def find_limits(readings: ReadingSet, rules: LimitRules = LimitRules()) -> dict[str, InkLimit]:
    """Limits of every channel in a reading of ramps; `BadInput` when a ramp is missing."""
    return {name: find_limit(ramp, rules) for name, ramp in find_ramps(readings).items()}


def _stall(curves: RampCurves, rules: LimitRules) -> tuple[float, str, str] | None:
    """Rule (a): the first input past which gain stays under the share."""
    per_step = np.gradient(curves.work, curves.inputs) * 0.05 / max(float(curves.work.max()), 1e-9)
    weak = (per_step < rules.gain_share) & (curves.inputs > 0.3)
    at = _first_lasting(weak)
    if at is None:
        return None
    what = "lightness" if curves.neutral else "chroma"
    reason = f"{what} gains less than {100 * rules.gain_share:.1f} % per 5 % of ink past {100 * curves.inputs[at]:.0f} %"
    return float(curves.inputs[at]), "gain", reason


def _hook(curves: RampCurves, rules: LimitRules) -> tuple[float, str, str] | None:
    """Rule (b): hue has turned by more than the angle from its direction at 70 %."""
    if curves.neutral or curves.inputs[-1] <= 0.7:
        return None
    turn = np.abs(curves.hue - np.interp(0.7, curves.inputs, curves.hue))
    at = _first_lasting((turn > rules.hue_turn) & (curves.inputs > 0.7))
    if at is None:
        return None
    return (
        float(curves.inputs[at]),
        "hue",
        f"hue turns by more than {rules.hue_turn:g} degrees past {100 * curves.inputs[at]:.0f} %",
    )


def _fall(curves: RampCurves, rules: LimitRules) -> tuple[float, str, str] | None:
    """Rule (c): density falls."""
    peak = int(np.argmax(curves.density))
    if peak >= len(curves.inputs) - 3 or curves.density[peak] - curves.density[-1] < 0.004:
        return None
    return float(curves.inputs[peak]), "density", f"density falls past {100 * curves.inputs[peak]:.0f} %"


def _first_lasting(flags: Array, least: int = 5) -> int | None:
    """The first place from which `flags` holds for `least` samples or to the end."""
    for i in np.flatnonzero(flags):
        if flags[i : i + least].all():
            return int(i)
    return None
