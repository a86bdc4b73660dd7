"""What a press makes of dots, undone on the plate: from a measured strip, or from points typed in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: tone value increase at 50 % that a press may be aimed at, percent
MOST_INCREASE = 40.0
_TABLE = 65536


@dataclass(frozen=True)
class PressGain:
    """Tones that a press prints for those on its plate.

    Attributes
    ----------
    plate, printed
        Percent (n,), rising, without the ends 0 and 100.
    increase
        Tone value increase at 50 % to be had in the end, percent: 0 prints tones as they were asked for.
    """

    plate: tuple[float, ...] = ()
    printed: tuple[float, ...] = ()
    increase: float = 0.0

    @classmethod
    def of(cls, points: Sequence[tuple[float, float]], increase: float = 0.0) -> PressGain:
        """From points (on the plate, printed) in any order. Raises `BadInput` where tones do not rise."""
        chosen = sorted((float(a), float(b)) for a, b in points)
        plate, printed = tuple(a for a, _ in chosen), tuple(b for _, b in chosen)
        for name, values in (("on the plate", plate), ("printed", printed)):
            if (np.diff([0.0, *values, 100.0]) <= 0.0).any():
                raise BadInput(
                    f"tones {name} rise from 0 to 100 %; these are {', '.join(f'{v:g}' for v in values)}"
                )
        if not 0.0 <= increase <= MOST_INCREASE:
            raise BadInput(f"an increase of {increase:g} % lies outside 0..{MOST_INCREASE:g} %")
        return cls(plate, printed, increase)

    def __bool__(self) -> bool:
        return bool(self.plate) or self.increase > 0.0

    def printed_of(self, tones: Array) -> Array:
        """What the press prints (n,) for tones on the plate (n,), percent.

        Between points the gain follows the border of dots, which is what grows: its share of
        4 t (1 - t) is a straight line.
        """
        t = np.clip(np.asarray(tones, dtype=float) / 100.0, 0.0, 1.0)
        if not self.plate:
            return 100.0 * t
        known = np.array(self.plate) / 100.0
        border = 4.0 * known * (1.0 - known)
        share = (np.array(self.printed) / 100.0 - known) / border
        made = t + np.interp(t, known, share) * 4.0 * t * (1.0 - t)
        return np.asarray(100.0 * np.maximum.accumulate(np.clip(made, 0.0, 1.0)))

    def wanted_of(self, tones: Array) -> Array:
        """What is to be printed (n,) for tones asked for (n,), percent."""
        t = np.asarray(tones, dtype=float)
        return t + self.increase * 4.0 * t / 100.0 * (1.0 - t / 100.0)

    def plate_of(self, tones: Array) -> Array:
        """What the plate holds (n,), percent, so that the press prints what tones should become (n,)."""
        fine = np.linspace(0.0, 100.0, 4001)
        there = self.printed_of(fine) + np.linspace(0.0, 1e-6, len(fine))
        made = np.interp(self.wanted_of(np.asarray(tones, dtype=float)), there, fine)
        made = np.where(np.asarray(tones) <= 0.0, 0.0, np.where(np.asarray(tones) >= 100.0, 100.0, made))
        return np.asarray(made)


def gain_from_strip(readings: ReadingSet, channel: str) -> PressGain:
    """What a press printed of a channel, from readings of a strip with steps of it: colour tone values of
    ISO 20654 for the tones asked for. Raises `BadInput` where there is no ramp of the channel.
    """
    ramps = find_ramps(readings)
    if channel not in ramps:
        raise BadInput(f"the strip has no steps of {channel}; it has {', '.join(ramps) or 'none'}")
    ramp = ramps[channel]
    printed = sctv(ramp.xyz, ramp.xyz[0], ramp.xyz[-1])
    inside = (ramp.inputs > 0.005) & (ramp.inputs < 0.995)
    points = [(100.0 * float(a), float(b)) for a, b in zip(ramp.inputs[inside], printed[inside])]
    if len(points) < 3:
        raise BadInput(f"the strip has {len(points)} steps of {channel} below its solid; 3 are needed")
    rising: list[tuple[float, float]] = []
    for plate, value in points:  # noise of a reading must not reverse the tones
        low = rising[-1][1] + 0.05 if rising else 0.05
        rising.append((plate, min(max(value, low), 99.9)))
    return PressGain.of(rising)


def table_of(*steps: Array) -> Array:
    """One curve for each tone of 16 bits (65536,), from curves in the order that tones pass them: each (n,)
    of fractions over even inputs.
    """
    tone = np.linspace(0.0, 1.0, _TABLE)
    for curve in steps:
        tone = np.interp(tone, np.linspace(0.0, 1.0, len(curve)), curve)
    return np.round(np.clip(tone, 0.0, 1.0) * 65535.0).astype(np.uint16)
