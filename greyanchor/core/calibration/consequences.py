"""What a limit or a total costs in gamut and saves in ink."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.ramps import Ramp
from greyanchor.core.charts.patches import neighbours
from greyanchor.core.colour.colorimetry import Array, spectra_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.ink_load import LOAD_AT_FULL


@dataclass(frozen=True)
class Cost:
    """Against the whole ramps of all channels, percent: gamut volume that is kept, and ink that is saved."""

    gamut_kept: float
    ink_saved: float


def hull_volume(lab: Array) -> float:
    """Volume of the convex hull of Lab points (n, 3), cubic Lab units; 0 for points in a plane."""
    from scipy.spatial import ConvexHull, QhullError  # takes long to load; prints are prepared without it

    try:
        return float(ConvexHull(lab).volume)
    except QhullError:
        return 0.0


def limit_cost(ramps: Mapping[str, Ramp], limits: Mapping[str, float]) -> Cost:
    """Gamut and ink of `limits` (fractions) against the whole ramps.

    The gamut is the hull of paper, the solids and their overprints, light through one ink over another
    being multiplied (Bouguer's law); it ignores trapping and so is an estimate.

    Raises `BadInput` for a limit of a channel that was not measured.
    """
    unknown = sorted(set(limits) - set(ramps))
    if unknown:
        raise BadInput(f"there is a limit for {unknown[0]}, but no such channel in the readings")
    tops = {c: float(r.inputs[-1]) for c, r in ramps.items()}
    wanted = {c: min(float(limits.get(c, tops[c])), tops[c]) for c in ramps}
    best = _most(ramps, tops)
    whole = hull_volume(_overprints(ramps, best))
    kept = hull_volume(_overprints(ramps, {c: min(wanted[c], best[c]) for c in ramps}))
    saved = 1.0 - sum(wanted.values()) / sum(tops.values())
    return Cost(100.0 * kept / whole if whole else 100.0, 100.0 * saved)


def gamut_added(ramps: Mapping[str, Ramp], limits: Mapping[str, float], channel: str) -> float:
    """What an ink beside C, M and Y adds to the gamut of the others at their `limits` (fractions), percent.

    Hulls of solids, tints and overprints, that ink with its neighbours around the circle of hues; an
    estimate, as in `limit_cost`. Raises `BadInput` for an ink that was not measured.
    """
    if channel not in ramps:
        raise BadInput(f"there is no ramp of {channel} in the readings")
    ring = {c: r for c, r in ramps.items() if c in "CMYK"}
    tops = {c: min(float(limits.get(c, 1.0)), float(r.inputs[-1])) for c, r in ramps.items()}
    without = [_overprints(ring, tops)]
    for other, ramp in ramps.items():
        if other not in ring and other != channel:
            without.append(_beside(ramps, tops, other, ramp))
    before = hull_volume(np.vstack(without))
    after = hull_volume(np.vstack([*without, _beside(ramps, tops, channel, ramps[channel])]))
    return 100.0 * (after / before - 1.0) if before else 0.0


def _beside(ramps: Mapping[str, Ramp], tops: Mapping[str, float], channel: str, ramp: Ramp) -> Array:
    """Colours (n, 3) of one ink alone up to its limit, and over each of its neighbours."""
    alone = ramp.lab[ramp.inputs <= tops[channel] + 1e-9]
    near = [c for c in neighbours(channel, list(ramps)) if c in ramps]
    pairs = [_overprints({channel: ramp, c: ramps[c]}, tops) for c in near]
    return np.vstack([alone, *pairs])


def _most(ramps: Mapping[str, Ramp], tops: Mapping[str, float]) -> dict[str, float]:
    """Input of each channel's farthest colour from paper: ink past it takes gamut away."""
    out = {}
    for channel, ramp in ramps.items():
        away = np.linalg.norm(ramp.lab - ramp.lab[0], axis=1)
        out[channel] = min(float(ramp.inputs[int(away.argmax())]), tops[channel])
    return out


def _overprints(ramps: Mapping[str, Ramp], limits: Mapping[str, float]) -> Array:
    """Lab (2^channels, 3) of every overprint of the channels at their limits."""
    solids = []
    for channel, ramp in ramps.items():
        paper = np.maximum(ramp.light[0], 1e-6)
        solid = [
            np.interp(limits[channel], ramp.inputs, ramp.light[:, k]) for k in range(ramp.light.shape[1])
        ]
        solids.append(np.maximum(solid, 1e-6) / paper)
    paper = next(iter(ramps.values())).light[0]
    subsets = (np.arange(2 ** len(solids))[:, None] >> np.arange(len(solids))) & 1
    light = paper * np.exp(subsets @ np.log(np.array(solids)))
    return xyz_to_lab(spectra_to_xyz(light) if light.shape[1] == 36 else light)


def ink_load(device: Array) -> float:
    """Liquid ink in ml/m2 of raw device values (channels,), fractions."""
    return float(LOAD_AT_FULL * np.sum(device))


def drying_minutes(total: float, usual_minutes: float, usual_total: float = 3.0) -> float:
    """Minutes until a sum of `total` (fractions) is dry where `usual_total` takes `usual_minutes`.

    Drying by diffusion takes time with the square of the film's thickness (Crank, The Mathematics of
    Diffusion, 1975, chapter 4); it is an estimate.
    """
    return usual_minutes * (total / usual_total) ** 2
