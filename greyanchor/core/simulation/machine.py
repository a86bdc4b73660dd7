"""The mechanics of the stand-in printer: nozzles that close, two directions that miss, a feed and a blade.

Each machine has its own faults, and each media moves them. They are found from a name, so that the same
machine with the same media misses by the same amount each time.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

#: nozzles that a check pattern prints of each ink
NOZZLES = 96
#: how far a right value lies from nought, and the fault at one unit of misfit, by setting
_REACH = {"alignment": 110.0, "feed": 0.35, "cut_offset": 0.28}
#: noise of the stand-in instrument on a fault of 0..1
_NOISE = 0.008


def _random(*values: object) -> np.random.Generator:
    digest = hashlib.sha256("/".join(map(str, values)).encode()).digest()
    return np.random.default_rng(list(digest[:8]))


@dataclass(frozen=True)
class Mechanics:
    """A machine by its serial number, with a media in it (thickness in µm)."""

    serial: str
    media: str
    thickness: float

    def right(self, setting: str) -> float:
        """The value at which this machine prints, feeds or cuts this media without a fault."""
        random = _random(self.serial, self.media, setting)
        if setting == "cut_force":
            return float(60.0 + 0.35 * self.thickness + random.normal(0, 10))
        if setting == "cut_speed":
            return float(np.clip(520.0 - 0.6 * self.thickness + random.normal(0, 20), 60, 700))
        if setting == "cut_passes":
            return float(1 + int(self.thickness > 300) + int(self.thickness > 500))
        reach = _REACH[setting]
        return float(np.clip(random.normal(0, 0.6 * reach), -reach, reach))

    def misfit(self, setting: str, values: Sequence[float], unit: float) -> np.ndarray:
        """What is to be seen at each value: -1 for much too little to 1 for much too much, 0 where it is
        right.

        `unit` is one step of the pattern; three steps away the fault is in full.
        """
        off = (np.asarray(values, dtype=float) - self.right(setting)) / (3.0 * unit)
        return np.clip(off, -1.0, 1.0)

    def read(self, setting: str, values: Sequence[float], unit: float, sheet: int) -> np.ndarray:
        """The same as an instrument reads it: the amount without its sign, with noise."""
        noise = _random(self.serial, self.media, setting, "reading", sheet).normal(0, _NOISE, len(values))
        return np.asarray(np.abs(np.abs(self.misfit(setting, values, unit)) + noise))

    def closed(self, channel: str, day: int, cleanings: int) -> list[int]:
        """Numbers of the nozzles of a channel that print nothing on a day, after some cleanings."""
        random = _random(self.serial, channel, day)
        count = int(random.choice([0, 0, 0, 1, 2, 4, 7]))
        numbers = [int(n) for n in random.choice(NOZZLES, size=count, replace=False)]
        return sorted(numbers[: count >> cleanings])
