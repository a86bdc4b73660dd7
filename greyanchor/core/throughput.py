"""How fast a print mode prints, and how much ink it lays down."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.consequences import LOAD_AT_FULL
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput


@dataclass(frozen=True)
class Carriage:
    """What decides the speed of a machine: lengths in mm, seconds, mm/s, and the firing rate in kHz."""

    width: float
    swath: float
    fastest: float
    firing: float
    turn: float = 0.25

    def __post_init__(self) -> None:
        if min(self.width, self.swath, self.fastest, self.firing) <= 0 or self.turn < 0:
            raise BadInput("a carriage has a width, a swath, a speed and a firing rate above 0")


def square_metres_an_hour(
    carriage: Carriage, resolution: int, passes: int, direction: str, pause: float = 0.0, overprints: float = 1.0
) -> float:  # fmt: skip
    """Print speed over the full width, m2/h, without loading and drying after the print.

    A stroke takes the width at the speed the firing rate allows at `resolution` (dpi); the media moves
    on by swath / passes each printing stroke; one way means that the way back prints nothing.
    """
    printing = min(carriage.fastest, carriage.firing * 1000.0 * 25.4 / resolution)
    cycle = carriage.width / printing + carriage.turn + pause
    if direction == "one way":
        cycle += carriage.width / carriage.fastest + carriage.turn
    area = carriage.width * carriage.swath / passes / 1e6
    return 3600.0 * area / cycle / max(overprints, 1.0)


@dataclass(frozen=True)
class InkUse:
    """Liquid ink, ml/m2: at most, and for even tints of every channel."""

    most: float
    tints: float


def ink_use(limits: Mapping[str, float], total: float | None, curves: CurveSet | None = None) -> InkUse:
    """Ink of a mode with `limits` and `total` in percent.

    `tints` takes every tone of every channel equally often, one channel at a time: a figure to compare
    modes by, not that of a picture. Without curves, tones are taken to be straight up to the limits.
    """
    sums = sum(limits.values())
    most = min(sums, total) if total else sums
    if curves is None:
        mean = 0.5 * sums / 100.0
    else:
        steps = np.linspace(0.0, 1.0, 101)[:, None].repeat(len(curves.channels), axis=1)
        mean = float(np.sum(np.mean(curves.apply(steps), axis=0)))
    return InkUse(LOAD_AT_FULL * most / 100.0, LOAD_AT_FULL * mean / max(len(limits), 1))
