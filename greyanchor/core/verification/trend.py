"""Figures over time: control limits from the process itself, rules that say a change, and a forecast.

An individuals chart (ISO 7870-2): centre and limits come from the mean and the mean moving range. The
rules are the zone tests of the Western Electric handbook (1956).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
import numpy.typing as npt
from scipy.special import stdtrit

from greyanchor.core.colour.colorimetry import Array

#: mean range of two values of a Gaussian with deviation 1
_D2 = 1.128
#: points that the control limits are taken from, and the fewest that make them
CENTRE_POINTS, FEWEST_POINTS = 25, 8
#: points that a forecast is based on
FORECAST_POINTS = 20
_LEVEL = 0.9
RULES = {
    1: "one point beyond three deviations",
    2: "two of three points beyond two deviations on one side",
    3: "four of five points beyond one deviation on one side",
    4: "eight points in a row on one side of the centre",
}


@dataclass(frozen=True)
class Signal:
    """A rule that fired: its number, and the position of the point that completed it."""

    rule: int
    at: int


@dataclass(frozen=True)
class Forecast:
    """When a rising figure meets its limit.

    Attributes
    ----------
    slope
        Rise a day.
    day
        Day (on the scale of the data) of the crossing, by the line through the last points; None when
        it does not rise, or has not yet risen surely.
    earliest, latest
        Bounds of that day, nine times of ten; `latest` is None when the line may also stay below.
    """

    slope: float
    day: float | None
    earliest: float | None
    latest: float | None


@dataclass(frozen=True)
class Trend:
    """What a series of `count` values of one figure says; `lower` and `upper` are None with too few of
    them.
    """

    centre: float
    deviation: float
    lower: float | None
    upper: float | None
    signals: tuple[Signal, ...]
    forecast: Forecast | None
    count: int

    @property
    def drifting(self) -> bool:
        """Whether a rule fired on one of the last two points, or the limit is in sight."""
        return self.recent or (self.forecast is not None and self.forecast.day is not None)

    @property
    def recent(self) -> bool:
        """Whether a rule fired on one of the last two points."""
        return any(s.at >= self.count - 2 for s in self.signals)


def control(days: npt.ArrayLike, values: npt.ArrayLike, limit: float | None = None) -> Trend:
    """Control limits of `values` (n,) in order of time, the rules that fired, and the forecast for `limit`.

    Centre and limits depend on the first `CENTRE_POINTS` points; with fewer than `FEWEST_POINTS` there are
    no limits and no signals.
    """
    x, y = np.asarray(days, dtype=float), np.asarray(values, dtype=float)
    if len(y) == 0:
        return Trend(0.0, 0.0, None, None, (), None, 0)
    base = y[:CENTRE_POINTS]
    centre = float(base.mean())
    deviation = float(np.abs(np.diff(base)).mean() / _D2) if len(base) > 1 else 0.0
    enough = len(base) >= FEWEST_POINTS and deviation > 0
    return Trend(
        centre,
        deviation,
        max(0.0, centre - 3.0 * deviation) if enough else None,
        centre + 3.0 * deviation if enough else None,
        zone_signals((y - centre) / deviation) if enough else (),
        None if limit is None else forecast(x, y, limit),
        len(y),
    )


def zone_signals(z: Array) -> tuple[Signal, ...]:
    """The four zone rules on standardized values (n,), in order of the points that complete them."""
    found = {(1, int(i)) for i in np.flatnonzero(np.abs(z) > 3.0)}
    for side in (z, -z):
        for rule, run, needed, beyond in ((2, 3, 2, 2.0), (3, 5, 4, 1.0), (4, 8, 8, 0.0)):
            if len(z) < run:
                continue
            over = side > beyond
            total = np.concatenate([[0], np.cumsum(over)])
            inside = total[run:] - total[:-run]
            found |= {(rule, int(i) + run - 1) for i in np.flatnonzero(inside >= needed) if over[i + run - 1]}
    return tuple(Signal(rule, at) for rule, at in sorted(found, key=lambda s: (s[1], s[0])))


def forecast(days: Array, values: Array, limit: float) -> Forecast | None:
    """The day on which the line through the last points meets `limit`, with its uncertainty (Fieller).

    Needs five points on three days or more. The day counts from now on: a line that has met the limit
    already gives the last day of the data.

    `days` (n,) are ordinals, `values` (n,) and `limit` share their units.

    >>> days = np.arange(739000.0, 739010.0)
    >>> forecast(days, 0.1 * (days - 739000.0), 2.0).day - 739000
    20.0
    """
    x, y = days[-FORECAST_POINTS:], values[-FORECAST_POINTS:]
    if len(x) < 5 or len(np.unique(np.round(x, 3))) < 3:
        return None
    middle = float(x.mean())
    dx = x - middle
    sxx = float(dx @ dx)
    slope = float(dx @ y) / sxx
    level = float(y.mean())
    left = y - level - slope * dx
    s2 = float(left @ left) / (len(x) - 2)
    q = float(stdtrit(len(x) - 2, 0.5 + _LEVEL / 2.0))  # Student's t
    now = float(x[-1])
    if slope <= 0 or slope <= q * sqrt(s2 / sxx):
        return Forecast(slope, None, None, None)
    # Fieller: (level + slope u - limit)^2 = q^2 s2 (1/n + u^2 / sxx), u counted from the middle
    a = slope**2 - q**2 * s2 / sxx
    b = slope * (level - limit)
    c = (level - limit) ** 2 - q**2 * s2 / len(x)
    root = sqrt(max(b * b - a * c, 0.0))
    early, late = middle + (-b - root) / a, middle + (-b + root) / a
    day = middle + (limit - level) / slope
    return Forecast(slope, max(day, now), max(early, now), max(late, now))
