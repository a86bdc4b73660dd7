"""Baseline and restore: what drifted since a mode was made, and curves that bring it back."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.optimize import least_squares

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.driver import complement_ramps
from greyanchor.core.calibration.ramps import Ramp, find_ramps
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_difference
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, as_inks, is_additive

#: a channel's tone value may on average lie this far from its baseline before it is reported, percent
TONE_TOLD = 0.8
#: densities of a solid between which its film can be compared
_FAINT, _DEEP = 0.10, 0.75
#: paper that differs more than this from the baseline's is another paper, dE00
PAPER_CHANGED = 1.5
#: what is left of a solid after its density was matched, dE00: more is another ink or another hue
HUE_MOVED = 2.0
#: mean dE00 to the baseline that a restored machine keeps
RESTORED = 0.5
_LEVELS = np.linspace(0.1, 1.0, 10)


def short_chart(channels: int = 4) -> Array:
    """Device values (n, channels) of the short chart: paper, ramps in tenths, overprints and greys, each
    twice.

    Mixed over the sheet, the two copies average out the grain of the print and say when it is uneven.
    It is printed through the curves, first to confirm them and later to hold the machine to that day.
    """
    rows = [np.zeros((2, channels))]
    for i in range(channels):
        ramp = np.zeros((len(_LEVELS), channels))
        ramp[:, i] = _LEVELS
        rows.append(ramp)
    colours = min(3, channels)
    for level in (0.5, 1.0):
        for subset in range(1, 2**colours):
            mask = np.array([(subset >> i) & 1 for i in range(colours)], dtype=float)
            if mask.sum() >= 2:
                rows.append(np.hstack([level * mask, np.zeros(channels - colours)])[None])
    if channels > 3:
        grey = np.zeros((2, channels))
        grey[0, :3], grey[1, :3] = (0.25, 0.19, 0.19), (0.4, 0.31, 0.31)
        grey[:, 3] = (0.2, 0.4)
        rows.append(grey)
    return np.vstack([*rows, *rows])


@dataclass(frozen=True)
class ChannelDrift:
    """One channel against its baseline.

    Attributes
    ----------
    channel
        Its name.
    inputs, tone
        Device values (n,) percent, and the change of tone value there (n,), percent, both measured between
        the baseline's paper and solid.
    tone_max
        The largest of them by size, with its sign.
    density
        Change of the solid's density over paper.
    hue
        Hue difference dH of the solid.
    volume
        Ink volume against the baseline that explains the change best, 1.0 for none.
    residual
        dE00 that is left of the solid where its density is matched again.
    film
        Density of the solid over paper against the baseline's, 1.15 for an ink film 15 % denser: more pigment
        in it, or more of it on the same area.
    gain
        Change of the tone value at the middle of the ramp, percent, each ramp measured between its own paper
        and its own solid: what dots spread more or less, whatever the film.
    """

    channel: str
    inputs: Array
    tone: Array
    tone_max: float
    density: float
    hue: float
    volume: float
    residual: float
    film: float = 1.0
    gain: float = 0.0


@dataclass(frozen=True)
class Drift:
    """The machine now against its baseline over the short chart; differences are dE00."""

    mean: float
    p95: float
    max: float
    paper: float
    overprints: float
    channels: dict[str, ChannelDrift]
    words: list[str]
    not_enough: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Restoration:
    """Corrected curves, and what of the drift they cannot bring back."""

    curves: CurveSet
    limits: dict[str, float]
    lost: dict[str, float]


def compare_to_baseline(baseline: ReadingSet, now: ReadingSet, curves: CurveSet) -> Drift:
    """What drifted, in figures and in words, from two readings of the short chart through the same
    `curves`.

    Raises `BadInput` for readings of another chart.
    """
    if not np.array_equal(baseline.ids, now.ids):
        raise BadInput("the readings are not of the chart that the baseline was taken with")
    was, is_now = _ramps_of(baseline), _ramps_of(now)
    difference = delta_e_2000(baseline.lab(), now.lab())
    device = as_inks(now.values(), now.channels)
    paper = device.max(axis=1) < 1e-6
    over = (device > 1e-6).sum(axis=1) >= 2
    paper_moved = float(delta_e_2000(baseline.lab()[paper].mean(axis=0), now.lab()[paper].mean(axis=0)))
    # amounts of ink, where a channel asks for light, are what is missing of it
    amounts = 1.0 - curves.outputs[:, ::-1] if is_additive(curves.channels) else curves.outputs
    channels = {c: _channel_drift(was[c], is_now[c], amounts[i]) for i, c in enumerate(curves.channels)}
    return Drift(
        mean=float(difference.mean()),
        p95=float(np.percentile(difference, 95)),
        max=float(difference.max()),
        paper=paper_moved,
        overprints=float(difference[over].mean()) if over.any() else 0.0,
        channels=channels,
        words=_words(channels, paper_moved, baseline, now, paper),
        not_enough=_beyond_restoring(channels, paper_moved),
    )


def _ramps_of(readings: ReadingSet) -> dict[str, Ramp]:
    return complement_ramps(readings) if is_additive(readings.channels) else find_ramps(readings)


def _channel_drift(was: Ramp, now: Ramp, curve: Array) -> ChannelDrift:
    end = was.xyz[-1]
    change = sctv(now.xyz, now.xyz[0], end) - sctv(was.xyz, was.xyz[0], end)
    at = 100.0 * was.inputs
    solid_now, solid_was = now.density[-1] - now.density[0], was.density[-1] - was.density[0]
    matched = _same_density(was, now)
    ratio = _ratio(was.inputs, matched)
    grid = np.linspace(0.0, 1.0, len(curve))
    raw_ratio = _best_ratio(was, now, grid, curve)
    return ChannelDrift(
        channel=was.channel,
        inputs=at,
        tone=change,
        tone_max=float(change[int(np.argmax(np.abs(change)))]),
        density=float(solid_now - solid_was),
        hue=float(lab_difference(was.lab[-1], now.lab[-1]).dh),
        volume=1.0 / float(raw_ratio(0.6 * curve[-1])),
        residual=_residual(was, now, float(ratio(1.0))),
        film=_film(was, now),
        gain=_gain(was, now),
    )


def _film(was: Ramp, now: Ramp) -> float:
    """Density of the solid's film against the baseline's, from bands where it is neither faint nor so deep
    that surface light hides it.
    """

    def density(ramp: Ramp) -> Array:
        paper, solid = ramp.light[0], ramp.light[-1]
        scale = float(paper.max())
        surface = 0.7 * float(min(was.light[-1].min(), now.light[-1].min()))
        return -np.log10(
            np.maximum(solid - surface, 1e-4 * scale) / np.maximum(paper - surface, 1e-3 * scale)
        )

    before, after = density(was), density(now)
    between = (before > _FAINT) & (before < _DEEP)
    if between.sum() < 2:
        between = before > 0.5 * before.max()
    weight = 1.0 / (0.05 + before[between]) ** 2
    return float((weight * before[between] * after[between]).sum() / (weight * before[between] ** 2).sum())


def _gain(was: Ramp, now: Ramp) -> float:
    """Change of tone value around the middle of the ramp, percent, between each ramp's own paper and
    solid.
    """
    middle = (was.inputs > 0.25) & (was.inputs < 0.75)
    own_was, own_now = (sctv(r.xyz, r.xyz[0], r.xyz[-1]) for r in (was, now))
    return float((np.interp(was.inputs, now.inputs, own_now) - own_was)[middle].mean())


def _residual(was: Ramp, now: Ramp, ratio: float) -> float:
    """dE00 between the solids that more or less ink does not explain.

    A solid that is denser now is compared where its ramp has the old density; one that is lighter,
    with the nearest colour of the baseline's ramp.
    """
    if ratio <= 1.0:
        there = PchipInterpolator(now.inputs, now.lab)(max(ratio, float(now.inputs[1])))
        return float(delta_e_2000(was.lab[-1], there))
    path = PchipInterpolator(was.inputs, was.lab)(np.linspace(0.5, 1.0, 201))
    return float(delta_e_2000(path, now.lab[-1]).min())


def _same_density(was: Ramp, now: Ramp) -> Array:
    """Device values (n,) that now have the density over paper which the baseline had at its steps; NaN beyond
    the end.
    """
    gained = np.maximum.accumulate(now.density - now.density[0] + np.linspace(0.0, 1e-9, len(now.density)))
    wanted = was.density - was.density[0]
    fine = np.linspace(0.0, float(now.inputs[-1]), 2001)
    curve = np.maximum.accumulate(
        PchipInterpolator(now.inputs, gained)(fine) + np.linspace(0.0, 1e-8, len(fine))
    )
    out = np.interp(wanted, curve, fine)
    out[wanted > curve[-1]] = np.nan
    return np.asarray(out)


def restore(baseline: ReadingSet, now: ReadingSet, curves: CurveSet, highest: float = 1.0) -> Restoration:
    """Curves that print now what `curves` printed on the day of the baseline.

    In raw input: where the baseline needed x, the machine now needs x q(x), with q the straight line that
    leaves the least colour difference over the whole ramp, hue and all, not density alone. `lost` names
    channels that would need more than `highest` of raw input, and how much.

    Raises `BadInput` where the baseline lacks a ramp of a channel of `curves`.
    """
    was, is_now = find_ramps(baseline), find_ramps(now)
    missing = [c for c in curves.channels if c not in was]
    if missing:
        raise BadInput(f"the baseline has no ramp of {missing[0]}")
    grid = np.linspace(0.0, 1.0, curves.outputs.shape[1])
    outputs, lost = [], {}
    for i, channel in enumerate(curves.channels):
        curve = curves.outputs[i]
        ratio = _best_ratio(was[channel], is_now[channel], grid, curve)
        moved = curve * ratio(curve)
        if moved[-1] > highest + 1e-9:
            lost[channel] = float(moved[-1])
        moved = np.maximum.accumulate(np.clip(moved, 0.0, highest))
        moved[0] = 0.0
        outputs.append(moved)
    made = CurveSet(curves.channels, np.array(outputs))
    return Restoration(made, made.limits, lost)


def _best_ratio(was: Ramp, now: Ramp, grid: Array, curve: Array) -> np.poly1d:
    """now / was as a straight line over raw input that leaves the least difference between the ramps.

    Differences are weighed as CIE94 does (lightness, chroma over 1 + .045 C, hue over 1 + .015 C), which is
    near dE00 and smooth. It begins from the steps of equal density.
    """
    raw_was, raw_now = np.interp(was.inputs, grid, curve), np.interp(now.inputs, grid, curve)
    start = _ratio(raw_was, np.interp(_same_density(was, now), grid, curve))
    seen = PchipInterpolator(raw_now, now.lab)
    end = float(raw_now[-1])
    # paper may have changed; what the ink does is asked for, not what lies under it
    paper = now.lab[0] - was.lab[0]
    fades = np.clip((was.lab[:, 0] - was.lab[-1, 0]) / max(was.lab[0, 0] - was.lab[-1, 0], 1.0), 0.0, 1.0)
    aim = was.lab + fades[:, None] * paper
    size = np.hypot(aim[:, 1], aim[:, 2])
    turn = np.column_stack([aim[:, 1], aim[:, 2]]) / np.maximum(size, 1e-9)[:, None]

    def left(parameters: Array) -> Array:
        asked = raw_was * np.poly1d(parameters)(raw_was)
        delta = seen(np.clip(asked, 0.0, end)) - aim
        along = delta[:, 1] * turn[:, 0] + delta[:, 2] * turn[:, 1]
        across = delta[:, 2] * turn[:, 0] - delta[:, 1] * turn[:, 1]
        parts = [delta[:, 0], along / (1.0 + 0.045 * size), across / (1.0 + 0.015 * size)]
        # beyond what was printed nothing is known; steps that would need it pull along the last slope
        parts.append(4.0 * np.maximum(asked - end, 0.0) / end)
        return np.concatenate(parts)

    first = np.pad(start.coeffs, (2 - len(start.coeffs), 0))
    found = least_squares(left, first, x_scale=(0.1, 0.1), max_nfev=40)
    return np.poly1d(found.x)


def _ratio(was: Array, now: Array) -> np.poly1d:
    """now / was as a straight line over `was`; `now` is NaN where nothing matches.

    A change of ink volume is the same ratio everywhere; a change of spreading is a slope. Steps weigh
    with their size, as the density of a light step says little about its ratio.
    """
    use = np.isfinite(now) & (was > 0.02)
    if use.sum() < 3:
        return np.poly1d([1.0])
    return np.poly1d(np.polyfit(was[use], now[use] / was[use], 1, w=was[use]))


def _words(
    channels: dict[str, ChannelDrift], paper: float, baseline: ReadingSet, now: ReadingSet, is_paper: Array
) -> list[str]:
    items = []
    for c in channels.values():
        if abs(float(c.tone.mean())) < TONE_TOLD and abs(c.density) < 0.04:
            continue
        way = "heavier" if c.volume > 1.0 else "lighter"
        at = c.inputs[int(np.argmax(np.abs(c.tone)))]
        items.append(
            f"{c.channel} prints {100 * abs(c.volume - 1):.0f} % {way}: film {100 * (c.film - 1):+.0f} %, "
            f"dot gain {c.gain:+.1f} %; tone {c.tone_max:+.1f} % at {at:.0f} %, "
            f"solid density {c.density:+.2f}, hue {c.hue:+.1f}"
        )
    if paper > 0.5:
        change = now.lab()[is_paper].mean(axis=0) - baseline.lab()[is_paper].mean(axis=0)
        items.append(
            f"the paper is {paper:.1f} dE00 off: L* {change[0]:+.1f}, a* {change[1]:+.1f}, b* "
            f"{change[2]:+.1f}"
        )
    return items or ["nothing drifted beyond the noise of a reading"]


def _beyond_restoring(channels: dict[str, ChannelDrift], paper: float) -> list[str]:
    reasons = [
        (
            f"{c.channel} has another hue: {c.residual:.1f} dE00 are left when its density is matched, "
            f"{HUE_MOVED:g} are allowed"
        )
        for c in channels.values()
        if c.residual > HUE_MOVED
    ]
    if paper > PAPER_CHANGED:
        reasons.append(f"the paper changed by {paper:.1f} dE00, {PAPER_CHANGED:g} are allowed")
    return reasons


def baseline_from_ramps(ramps_read: ReadingSet, curves: CurveSet, chart: ReadingSet) -> ReadingSet:
    """A baseline for the single-channel patches of `chart` from the raw ramps the curves were made from.

    For modes whose curves were never confirmed by a second print; overprints are left out.
    """
    ramps = find_ramps(ramps_read)
    device = chart.values()
    single = (device > 1e-6).sum(axis=1) <= 1
    chosen = chart.select(np.flatnonzero(single))
    values = chosen.values()
    first = next(iter(ramps.values()))
    light = np.repeat(first.light[:1], len(chosen), axis=0)
    for i, channel in enumerate(curves.channels):
        members = values[:, i] > 1e-6
        raw = np.interp(values[members, i], np.linspace(0.0, 1.0, curves.outputs.shape[1]), curves.outputs[i])
        light[members] = PchipInterpolator(ramps[channel].inputs, ramps[channel].light)(raw)
    if light.shape[1] == 36:
        return replace(chosen, spectra=np.maximum(light, 0.0), condition=ramps_read.condition)
    return replace(chosen, measured_xyz=light, condition=ramps_read.condition)
