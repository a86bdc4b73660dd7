"""Overprints and total ink: the sums past which more ink brings no more darkness."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator

from greyanchor.core.calibration.byeye import eye_limit
from greyanchor.core.calibration.consequences import hull_volume
from greyanchor.core.calibration.ramps import smooth
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: L* that 10 % more ink must still bring
LEAST_GAIN = 0.3
#: colour (Lab) that 10 % more of two or three inks must bring where their lightness stalls: orange over
#: yellow hardly darkens, and still grows
LEAST_COLOUR = 0.6


@dataclass(frozen=True)
class Overprint:
    """Rising equal amounts of some channels together.

    Attributes
    ----------
    name, channels
        ``C+M``, ``C+M+Y``, or ``all``, and the channels it stands for.
    sums, lightness
        Sums of fractions (n,) and the L* read there.
    limit
        The sum past which darkness stalls.
    reason
        Why there.
    stalls
        Whether darkness stalls before the end of the chart.
    """

    name: str
    channels: tuple[str, ...]
    sums: Array
    lightness: Array
    limit: float
    reason: str
    stalls: bool


@dataclass(frozen=True)
class TotalInk:
    """The recommended total from readings, and every overprint it came from; sums of fractions."""

    limit: float
    reason: str
    overprints: dict[str, Overprint]

    @property
    def whole(self) -> Overprint:
        """All channels together."""
        return self.overprints["all"]


def find_total_ink(readings: ReadingSet, lowest: float = 1.4) -> TotalInk:
    """The sum past which L* falls by less than 0.3 per 10 % of ink, for all channels, triples and pairs.

    Raises `BadInput` when the readings have no ramp of all channels of at least five sums.
    """
    found = {}
    for name, channels, members in _groups(readings):
        if len(members) >= 5:
            found[name] = _overprint(readings, name, channels, members, lowest if name == "all" else 1.0)
    if "all" not in found:
        raise BadInput("no ramp of equal amounts of all channels was found; use a total-ink chart")
    return TotalInk(max(found["all"].limit, lowest), found["all"].reason, found)


def _groups(readings: ReadingSet) -> list[tuple[str, tuple[str, ...], Array]]:
    """Patches of equal amounts by the set of channels that print, rising, all channels first. Where further
    inks are never printed all at once, those that print the most together are all.
    """
    device = readings.values()
    prints = device > 1e-6
    level = device.max(axis=1, keepdims=True)
    equal = (np.abs(device - level) < 1e-3) | ~prints
    members = np.flatnonzero(equal.all(axis=1) & (prints.sum(axis=1) >= 2))
    by_set: dict[tuple[bool, ...], list[int]] = {}
    for i in members:
        by_set.setdefault(tuple(bool(p) for p in prints[i]), []).append(int(i))
    groups = []
    most = max((sum(k) for k in by_set), default=0)
    most = most if sum(sum(k) == most for k in by_set) == 1 else len(readings.channels)
    for key in sorted(by_set, key=lambda k: (-sum(k), [not v for v in k])):
        channels = tuple(c for c, on in zip(readings.channels, key) if on)
        name = "all" if sum(key) == most else "+".join(channels)
        order = np.array(by_set[key])
        groups.append((name, channels, order[np.argsort(device[order].sum(axis=1))]))
    return groups


def _overprint(
    readings: ReadingSet, name: str, channels: tuple[str, ...], members: Array, lowest: float
) -> Overprint:
    sums = readings.values()[members].sum(axis=1)
    lightness = readings.lab()[members, 0]
    fine = np.arange(sums[0], sums[-1] + 1e-9, 0.01)
    level = smooth(sums, lightness, fine) if len(sums) >= 7 else PchipInterpolator(sums, lightness)(fine)
    gain = -np.gradient(level, fine) * 0.10
    stalled = gain < LEAST_GAIN
    if name != "all":
        lab = readings.lab()[members]
        even = smooth(sums, lab, fine) if len(sums) >= 7 else PchipInterpolator(sums, lab)(fine)
        stalled &= 0.10 * np.linalg.norm(np.gradient(even, fine, axis=0), axis=1) < LEAST_COLOUR
    weak = np.flatnonzero(stalled & (fine > lowest))
    if len(weak):
        limit = float(np.floor(fine[weak[0]] * 20.0) / 20.0)
        reason = f"past {100 * limit:.0f} % another 10 % of ink darkens by less than {LEAST_GAIN} L*"
    else:
        limit, reason = float(sums[-1]), "darkness grows up to the end of the chart"
    return Overprint(name, channels, sums, lightness, limit, reason, bool(len(weak)))


@dataclass(frozen=True)
class Recommendation:
    """The smaller of what was read and what was seen; `by` is ``reading`` or the fault."""

    limit: float
    by: str
    reason: str


def recommend(total: TotalInk, marks: Mapping[str, float | None] | None = None) -> Recommendation:
    """Total ink (sum of fractions) from the readings and from the last good sums that the eye marked."""
    seen = eye_limit(marks or {})
    if seen is not None and seen.limit < total.limit:
        return Recommendation(
            seen.limit,
            seen.fault,
            (
                f"{seen.fault} was seen past {100 * seen.limit:.0f} %; by reading {100 * total.limit:.0f} % "
                "would do"
            ),
        )
    reason = total.reason
    if seen is not None:
        reason += f"; {seen.fault} was seen only past {100 * seen.limit:.0f} %"
    return Recommendation(total.limit, "reading", reason)


def gamut_kept(readings: ReadingSet, total: float) -> float:
    """Share of the gamut of the chart's own colours that patches up to `total` keep, percent."""
    lab, sums = readings.lab(), readings.values().sum(axis=1)
    whole = hull_volume(lab)
    kept = hull_volume(lab[sums <= total + 1e-6]) if (sums <= total + 1e-6).sum() > 4 else 0.0
    return 100.0 * kept / whole if whole else 100.0


def lightness_at(overprint: Overprint, total: float) -> float:
    """L* of equal amounts at a sum, between the readings."""
    return float(np.interp(total, overprint.sums, overprint.lightness))
