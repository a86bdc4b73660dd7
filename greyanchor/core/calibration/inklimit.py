"""Ink limits: the smallest input past which a channel's ink does no more useful work."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.calibration.ramps import Ramp, find_ramps, smooth_ramp
from greyanchor.core.colour.colorimetry import Array, chroma
from greyanchor.core.colour.density import visual_density
from greyanchor.core.measurement.readings import ReadingSet


@dataclass(frozen=True)
class LimitRules:
    """When a limit falls.

    Attributes
    ----------
    gain_share
        Rule (a): chroma (lightness for neutrals) must gain at least this share of its whole
        range per 5 % of input.
    keep_share
        No rule but the hue's sets a limit that keeps less than this share of the largest chroma
        (density for neutrals): ink that creeps upward slowly still adds up. A noisy ramp
        that does not fall after its largest value asks for more, as that value is less sure.
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
    lowest: float = 0.15
    keep_share: float = 0.988


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
    """Smoothed properties of a ramp at 201 inputs (fractions), for finding and drawing limits.

    `work` is chroma, or for neutrals the lightness below paper; `strength` is what a limit must keep:
    chroma, or for neutrals visual density over paper. `noise` is how far single steps lie from the
    smooth strength, as a share of its largest.
    """

    inputs: Array
    work: Array
    strength: Array
    hue: Array
    density: Array
    lab: Array
    neutral: bool
    noise: float


def ramp_curves(ramp: Ramp, rules: LimitRules = LimitRules()) -> RampCurves:
    """Smoothed chroma or lightness gain, hue in degrees, density and Lab along a ramp."""
    at = np.linspace(0.0, float(ramp.inputs[-1]), 201)
    lab = smooth_ramp(ramp.inputs, ramp.lab, at)
    density = smooth_ramp(ramp.inputs, ramp.density, at)
    neutral = bool(chroma(ramp.lab - ramp.lab[0] * np.array([0.0, 1.0, 1.0])).max() < rules.neutral_chroma)
    from_paper = lab - lab[0]
    work = lab[0, 0] - lab[:, 0] if neutral else chroma(lab)
    visual = smooth_ramp(ramp.inputs, visual_density(ramp.xyz), at)
    strength = visual - visual[0] if neutral else work
    hue = np.degrees(np.unwrap(np.arctan2(from_paper[:, 2], from_paper[:, 1])))
    seen = visual_density(ramp.xyz) - visual[0] if neutral else chroma(ramp.lab)
    off = float(np.std(seen - np.interp(ramp.inputs, at, strength)))
    noise = off / max(float(strength.max()), 1e-9)
    return RampCurves(at, work, strength, hue, density, lab, neutral, noise)


def find_limit(ramp: Ramp, rules: LimitRules = LimitRules()) -> InkLimit:
    """The ink limit of one ramp by three rules; the smallest input wins."""
    curves = ramp_curves(ramp, rules)
    found = [rule for rule in (_stall(curves, rules), _hook(curves, rules), _fall(curves, rules)) if rule]
    top = float(curves.inputs[-1])
    limit, rule, reason = min(found, default=(top, "none", "no rule fired: the channel works up to its end"))
    limit = min(max(limit, rules.lowest), top)
    return replace(moved(ramp, round(limit * 200.0) / 200.0, rules), rule=rule, reason=reason)


def moved(ramp: Ramp, limit: float, rules: LimitRules = LimitRules()) -> InkLimit:
    """What a limit that a person chose means for `ramp`; `limit` is a fraction inside the ramp."""
    curves = ramp_curves(ramp, rules)
    i = min(int(np.searchsorted(curves.inputs, limit - 1e-9)), len(curves.inputs) - 1)
    gained = curves.density - curves.density[0]
    return InkLimit(
        channel=ramp.channel,
        limit=limit,
        rule="moved",
        reason="moved by hand",
        keeps=float(100.0 * curves.work[i] / curves.work.max()),
        keeps_density=float(100.0 * gained[i] / gained.max()),
        saves=float(100.0 * (1.0 - limit / float(curves.inputs[-1]))),
    )


def find_limits(readings: ReadingSet, rules: LimitRules = LimitRules()) -> dict[str, InkLimit]:
    """Limits of every channel in a reading of ramps; `BadInput` when a ramp is missing.

    >>> from greyanchor.core.charts.layout import lay_out
    >>> from greyanchor.core.charts.patches import design
    >>> from greyanchor.core.simulation.catalogue import press_by_name
    >>> from greyanchor.core.simulation.standin import print_and_read
    >>> chart, _ = lay_out(design("ink-limit"), tuple("CMYK"))
    >>> readings = print_and_read(chart, press_by_name("petrel-44"))
    >>> sorted(find_limits(readings))
    ['C', 'K', 'M', 'Y']
    """
    return {name: find_limit(ramp, rules) for name, ramp in find_ramps(readings).items()}


def _stall(curves: RampCurves, rules: LimitRules) -> tuple[float, str, str] | None:
    """Rule (a): the first input past which gain stays under the share, enough being kept."""
    per_step = np.gradient(curves.work, curves.inputs) * 0.05 / max(float(curves.work.max()), 1e-9)
    weak = (per_step < rules.gain_share) & (curves.inputs > 0.1)
    at = _first_lasting(weak)
    if at is None:
        return None
    what = "lightness" if curves.neutral else "chroma"
    reason = (
        f"{what} gains less than {100 * rules.gain_share:.1f} % per 5 % of ink past "
        f"{100 * curves.inputs[at]:.0f} %"
    )
    kept = _enough(curves, rules, at)
    if kept > at:
        held = "density" if curves.neutral else "chroma"
        reason += f"; moved up to keep {100 * rules.keep_share:.1f} % of the largest {held}"
    return float(curves.inputs[kept]), "gain", reason


def _enough(curves: RampCurves, rules: LimitRules, at: int) -> int:
    """The first place from `at` on that keeps the share; the place of the largest strength at most."""
    largest = float(curves.strength.max())
    falls = 1.0 - float(curves.strength[-1]) / largest
    unsure = 0.0 if falls > 1.0 * curves.noise else 0.45 * curves.noise
    enough = curves.strength[at:] >= min(rules.keep_share + unsure, 0.998) * largest
    return at + int(np.argmax(enough)) if enough.any() else int(np.argmax(curves.strength))


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
    kept = _enough(curves, rules, peak)
    return float(curves.inputs[kept]), "density", f"density falls past {100 * curves.inputs[peak]:.0f} %"


def _first_lasting(flags: Array, least: int = 5) -> int | None:
    """The first place from which `flags` holds for `least` samples or to the end."""
    for i in np.flatnonzero(flags):
        if flags[i : i + least].all():
            return int(i)
    return None
