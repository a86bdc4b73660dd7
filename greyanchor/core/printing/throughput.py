"""How fast a print mode prints."""

from __future__ import annotations

from dataclasses import dataclass

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
    carriage: Carriage,
    resolution: int,
    passes: int,
    direction: str,
    pause: float = 0.0,
    overprints: float = 1.0,
) -> float:
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
