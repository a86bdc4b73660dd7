"""Figures over time: control limits from the process itself, rules that say a change, and a forecast.

An individuals chart (ISO 7870-2): centre and limits come from a reference period, the first good checks
after a release or a restore: its mean and mean moving range. The rules are the zone tests of the Western
Electric handbook (1956). Readings that follow one another (lag-1 autocorrelation) make moving ranges too
short and runs too long: limits are widened for it, and runs are looked for in what a reading adds to the one
before it (Montgomery, Introduction to Statistical Quality Control, 10.4).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr, stdtrit

from greyanchor.core.colour.colorimetry import Array

#: mean range of two values of a Gaussian with deviation 1
_D2 = 1.128
#: points of the reference period where nobody chose another, and the fewest that make limits
REFERENCE_POINTS, FEWEST_POINTS = 15, 8
#: autocorrelation that short series show by chance, and the most that is allowed for
_BY_CHANCE, _MOST_ALIKE = 0.15, 0.85
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
    level
        Where the line stands on the last day of the data.
    """

    slope: float
    day: float | None
    earliest: float | None
    latest: float | None
    level: float = 0.0


@dataclass(frozen=True)
class Trend:
    """What a series of `count` values of one figure says; `lower` and `upper`, from the first `reference`
    points, are None with too few of them.
    """

    centre: float
    deviation: float
    lower: float | None
    upper: float | None
    signals: tuple[Signal, ...]
    forecast: Forecast | None
    count: int
    reference: int = 0

    @property
    def drifting(self) -> bool:
        """Whether a rule fired on one of the last two points, or the limit is in sight."""
        return self.recent or (self.forecast is not None and self.forecast.day is not None)

    @property
    def recent(self) -> bool:
        """Whether a rule fired on one of the last two points."""
        return any(s.at >= self.count - 2 for s in self.signals)


def control(
    days: npt.ArrayLike, values: npt.ArrayLike, limit: float | None = None, reference: int | None = None
) -> Trend:
    """Control limits of `values` (n,) in order of time, the rules that fired, and the forecast for `limit`.

    Centre and limits come from the first `reference` points (`REFERENCE_POINTS` when None); with fewer than
    `FEWEST_POINTS` there are no limits and no signals.
    """
    x, y = np.asarray(days, dtype=float), np.asarray(values, dtype=float)
    if len(y) == 0:
        return Trend(0.0, 0.0, None, None, (), None, 0)
    base = y[: max(reference or REFERENCE_POINTS, FEWEST_POINTS)]
    centre = float(base.mean())
    alike = likeness(y)
    deviation = float(np.abs(np.diff(base)).mean() / (_D2 * sqrt(1.0 - alike))) if len(base) > 1 else 0.0
    # the mean of few points is not known better than this, the less so when they follow one another
    unsure = deviation * sqrt((1.0 + alike) / (1.0 - alike) / len(base))
    width = 3.0 * sqrt(deviation**2 + unsure**2) * (1.0 + 1.5 / len(base))
    enough = len(base) >= FEWEST_POINTS and deviation > 0
    return Trend(
        centre,
        deviation,
        max(0.0, centre - width) if enough else None,
        centre + width if enough else None,
        _signals(y - centre, width / 3.0, alike) if enough else (),
        None if limit is None else forecast(x, y, limit),
        len(y),
        len(base),
    )


def likeness(values: Array) -> float:
    """Lag-1 autocorrelation (0 to .85) of values (n,) beside a straight drift, corrected for short series
    (Kendall 1954: it comes out (1 + 3 r) / n too low); 0 where chance explains it.
    """
    n = len(values)
    if n < FEWEST_POINTS:
        return 0.0
    at = np.arange(n, dtype=float)
    left = values - np.polyval(np.polyfit(at, values, 1), at)
    whole = float(left @ left)
    if whole <= 0.0:
        return 0.0
    found = float(left[1:] @ left[:-1]) / whole
    found += (1.0 + 3.0 * found) / n + 1.0 / n
    return 0.0 if found < _BY_CHANCE else float(min(found, _MOST_ALIKE))


def _signals(off: Array, deviation: float, alike: float) -> tuple[Signal, ...]:
    """Zone rules: single points against the limits, runs in what each reading adds to the one before."""
    single = [s for s in zone_signals(off / deviation) if s.rule == 1]
    fresh = off.copy()
    fresh[1:] = off[1:] - alike * off[:-1]
    spread = deviation * sqrt(1.0 - alike**2)
    runs = [s for s in zone_signals(fresh / spread) if s.rule != 1]
    return tuple(sorted([*single, *runs], key=lambda s: (s.at, s.rule)))


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
    """The day on which the process, as it has been since its last change, meets `limit`, with its uncertainty
    (Fieller).

    Needs five points on three days or more. The day counts from now on: a line that has met the limit
    already gives the last day of the data. That a rise is only reported when it is sure makes it look steeper
    than it is; this is taken out of the day (the mean of a truncated normal).

    `days` (n,) are ordinals, `values` (n,) and `limit` share their units.

    >>> days = np.arange(739000.0, 739010.0)
    >>> forecast(days, 0.1 * (days - 739000.0), 2.0).day - 739000
    20.0
    """
    x, y = since_last_change(days[-FORECAST_POINTS:], values[-FORECAST_POINTS:])
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
    unsure = sqrt(s2 / sxx)
    if slope <= 0 or slope <= q * unsure:
        return Forecast(slope, None, None, None, float(level + slope * (now - middle)))
    # Fieller: (level + slope u - limit)^2 = q^2 s2 (1/n + u^2 / sxx), u counted from the middle
    a = slope**2 - q**2 * s2 / sxx
    b = slope * (level - limit)
    c = (level - limit) ** 2 - q**2 * s2 / len(x)
    root = sqrt(max(b * b - a * c, 0.0))
    early, late = middle + (-b - root) / a, middle + (-b + root) / a
    steady = _without_selection(slope, unsure, q)
    reached = level + slope * (now - middle)
    day = now + max(limit - reached, 0.0) / steady
    return Forecast(slope, day, max(early, now), max(late, day), float(reached))


def since_last_change(days: Array, values: Array) -> tuple[Array, Array]:
    """The longest end of a series (n,) that one straight line describes: where its last points lie off the
    line, the process has changed, and only what came after says where it is heading.
    """
    for count in range(len(values), 5, -1):
        x, y = days[-count:], values[-count:]
        if len(np.unique(x)) < 3:
            continue
        left = y - np.polyval(np.polyfit(x, y, 1), x)
        last = max(3, count // 4)
        noise = sqrt(float(left @ left) / (count - 2)) + 1e-12
        bent = np.polyfit(x - x.mean(), left, 2)[0] * float(np.ptp(x)) ** 2 / 6.0
        if abs(float(left[-last:].mean())) < 1.2 * noise / sqrt(last) and abs(bent) < noise:
            return x, y
    return days[-6:], values[-6:]


def _without_selection(slope: float, unsure: float, q: float) -> float:
    """The slope whose estimates, reported only beyond `q` standard errors, are `slope` on average."""
    least = q * unsure
    low, high = 0.25 * slope, slope
    for _ in range(40):
        middle = 0.5 * (low + high)
        z = (least - middle) / max(unsure, 1e-12)
        beyond = float(ndtr(-z))
        mean = middle + unsure * float(np.exp(-0.5 * z * z)) / 2.5066282746 / max(beyond, 1e-12)
        low, high = (middle, high) if mean < slope else (low, middle)
    return high
