"""Films for plates: how much ink stops enough light, and curves that make dot percent true.

A film is opaque where it must be and clear elsewhere; its tones are dots of a screen. So it has two figures
of its own: the ink within a dot, found from the transmission density of solids, and the size of the dots,
which grow when they are printed.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.ramps import monotone
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.transmission import NAMES, OPAQUE, UV, VISUAL, PhysicalDots, dot_percent
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.cgats import DENSITY_KIND
from greyanchor.core.measurement.readings import ReadingSet

#: deviations from dot percent that a film should keep within: mean and largest, percent
TRUE_MEAN, TRUE_LARGEST = 0.6, 1.5
#: amounts of the main ink on the chart of solids, and of the others as shares of it, fractions
_AMOUNTS = 20
_SHARES = (0.0, 0.25, 0.5, 0.75, 1.0)
#: dots of the chart for curves, percent
RAMP = (1, 2, 3, 5, 7, 10, 15, 20, 25, 30, 35, 40, 45, 50, 55, 60, 65, 70, 75, 80, 85, 90, 93, 95, 97, 98, 99)
SHORT = (2, 5, 10, 20, 30, 40, 50, 60, 70, 80, 90, 95, 98)
#: ink that is added so that a solid read again, with the scatter of a reading, is still opaque (density)
_MARGIN = 0.05


def opacity_chart(inks: int) -> Array:
    """Solids (n, inks), fractions of raw ink: bare film thrice, the main ink in rising amounts, alone and
    with the others in rising shares of it.
    """
    steps = np.linspace(0.0, 1.0, _AMOUNTS + 1)[1:]
    rows = [np.zeros((3, inks))]
    for share in _SHARES if inks > 1 else (0.0,):
        amounts = steps if share == 0.0 else steps[3::2]
        solids = np.repeat(amounts[:, None], inks, axis=1)
        solids[:, 1:] *= share
        rows.append(solids)
    return np.vstack(rows)


def dot_chart(tones: tuple[int, ...] = RAMP) -> Array:
    """Dot percents (n, 1), fractions, with bare film and solids four times each: all others are held to
    them.
    """
    ends = [0.0] * 4 + [1.0] * 4
    return np.array([*ends, *(t / 100.0 for t in tones)])[:, None]


@dataclass(frozen=True)
class Opacity:
    """How opaque solids are, and what reaches what is asked for.

    Attributes
    ----------
    which
        `VISUAL` or `UV`: the density that counts.
    film
        Density of bare film.
    share
        The other inks as a share of the main one, in the solid that was chosen.
    limit
        Raw input of the main ink in it, fraction.
    density
        That it has, as read; of which `reached` says whether it is what was asked for.
    reached
        Whether it is.
    asked
        The density asked for.
    amounts
        Raw inputs (n,) of the main ink.
    curves
        Densities (n,) at them by share of the other inks.
    reason
        In words.
    """

    which: int
    film: float
    share: float
    limit: float
    density: float
    reached: bool
    asked: float
    amounts: Array
    curves: Mapping[float, Array]
    reason: str

    def density_at(self, limit: float, share: float) -> float:
        """Density of a solid of other amounts, between those that were read."""
        shares = sorted(self.curves)
        there = [float(np.interp(limit, self.amounts, self.curves[s])) for s in shares]
        return float(np.interp(share, shares, there))


def _columns(readings: ReadingSet, which: int) -> Array:
    if readings.densities is None:
        raise BadInput(
            "these readings are of light that is reflected; films are read by the light they let through: "
            "send transmission densities (D_VIS, D_UV)"
        )
    kind = readings.meta.get(DENSITY_KIND, "")
    if kind and kind != NAMES[which]:
        raise BadInput(f"the readings hold {kind} density alone, and {NAMES[which]} density is asked for")
    return readings.densities[:, which]


def find_opacity(readings: ReadingSet, asked: float = OPAQUE, which: int = UV) -> Opacity:
    """The least ink that is opaque enough, from readings of `opacity_chart`.

    The main ink is the first channel; the others are printed with it in one share. Of all pairs of amount and
    share that reach `asked` the one with the least ink is taken; where none does, the one that is densest
    with the least ink. Raises `BadInput` for readings of another chart.
    """
    if not 1.0 <= asked <= 6.0:
        raise BadInput(f"a density of {asked:g} cannot be asked for; 1 to 6 can")
    density, device = _columns(readings, which), readings.values()
    bare = device.max(axis=1) < 1e-6
    if not bare.any() or len(device) < 10:
        raise BadInput("opacity is found from bare film and rising solids; read its chart")
    film = float(np.median(density[bare]))
    main = device[:, 0]
    share = np.where(main > 1e-6, device[:, 1:].max(axis=1, initial=0.0) / np.maximum(main, 1e-6), 0.0)
    fine = np.linspace(0.0, 1.0, 401)
    curves: dict[float, Array] = {}
    for value in np.unique(np.round(share[~bare], 3)):
        mine = ~bare & (np.abs(share - value) < 2e-3)
        if mine.sum() >= 5:
            curves[float(value)] = _smooth(np.r_[0.0, main[mine]], np.r_[film, density[mine]], fine)
    if 0.0 not in curves:
        raise BadInput(f"{readings.channels[0]} was never read alone; read its chart")
    others = device.shape[1] - 1
    shares = np.linspace(0.0, max(curves), 41 if len(curves) > 1 else 1)
    field = np.array([_between(curves, s) for s in shares])
    ink = fine[None, :] * (1.0 + others * shares[:, None])
    enough = field >= asked + _MARGIN
    if enough.any():
        pick = int(np.where(enough, ink, np.inf).argmin())
    else:
        dense = field >= field.max() - 0.01
        pick = int(np.where(dense, ink, np.inf).argmin())
    row, column = np.unravel_index(pick, field.shape)
    chosen, limit = float(shares[row]), float(np.ceil(fine[column] * 200.0) / 200.0)
    found = Opacity(which, film, chosen, limit, float(field[row, column]), False, asked, fine, curves, "")
    got = found.density_at(limit, chosen)
    reached = bool(enough.any())
    total = 100.0 * limit * (1.0 + others * chosen)
    alone = curves[0.0]
    if reached:
        reason = (
            f"{NAMES[which]} density {got:.2f} with {total:.0f} % of ink, the least that reaches {asked:g}"
        )
        if others and chosen > 0.0:
            first = np.flatnonzero(alone >= asked + _MARGIN)
            how = f"needs {100.0 * fine[first[0]]:.0f} %" if len(first) else f"reaches {alone.max():.2f}"
            reason += f"; {readings.channels[0]} alone {how}"
    else:
        reason = f"{NAMES[which]} density {got:.2f} at most; {asked:g} is not reached by these inks"
    return Opacity(which, film, chosen, limit, got, reached, asked, fine, curves, reason)


def _smooth(amounts: Array, density: Array, fine: Array) -> Array:
    """Density over amounts, rising to its top and never above it after: too much ink runs together."""
    order = np.argsort(amounts, kind="stable")
    x, y = amounts[order], density[order]
    top = int(y.argmax())
    rising = monotone(x[: top + 1], y[: top + 1], fine) if top >= 2 else np.interp(fine, x, y)
    after = np.interp(fine, x, y)
    return np.where(fine <= x[top], rising, np.minimum(after, y[top]))


def _between(curves: Mapping[float, Array], share: float) -> Array:
    shares = np.array(sorted(curves))
    return np.array([np.interp(share, shares, v) for v in np.array([curves[s] for s in shares]).T])


@dataclass(frozen=True)
class FilmTones:
    """Dots on a film against what was asked for.

    Attributes
    ----------
    film, solid
        Densities of bare film and solid, visual.
    film_uv, solid_uv
        The same in UV.
    inputs, dots
        Percent asked for (n,) and percent that is there (n,), without the ends.
    """

    film: float
    solid: float
    film_uv: float
    solid_uv: float
    inputs: Array
    dots: Array

    @property
    def deviation(self) -> Array:
        """What is there less what was asked for (n,), percent."""
        return self.dots - self.inputs

    @property
    def mean(self) -> float:
        """Mean absolute deviation, percent."""
        return float(np.abs(self.deviation).mean())

    @property
    def largest(self) -> float:
        """Largest absolute deviation, percent."""
        return float(np.abs(self.deviation).max())

    @property
    def true(self) -> bool:
        """Whether the film keeps within what films should."""
        return self.mean <= TRUE_MEAN and self.largest <= TRUE_LARGEST


def film_tones(readings: ReadingSet, physical: PhysicalDots = PhysicalDots()) -> FilmTones:
    """Dot percents of a chart of `dot_chart`, by Murray and Davies from visual density; physical ones where
    pairs were measured. Raises `BadInput` for readings without bare film or solid.
    """
    density, device = _columns(readings, _dots_by(readings)), readings.values()[:, 0]
    other = readings.densities
    assert other is not None
    bare, full = device < 1e-6, device > 1.0 - 1e-6
    if not bare.any() or not full.any() or (~bare & ~full).sum() < 5:
        raise BadInput("dots are found from bare film, solids and five tones between; read the chart")
    film, solid = float(np.median(density[bare])), float(np.median(density[full]))
    inputs, group = np.unique(np.round(device[~bare & ~full], 5), return_inverse=True)
    dots = physical.of_optical(dot_percent(density[~bare & ~full], film, solid))
    mean = np.bincount(group, dots) / np.bincount(group)
    uv = [float(np.median(other[mine, UV])) for mine in (bare, full)]
    return FilmTones(film, solid, uv[0], uv[1], 100.0 * inputs, mean)


def _dots_by(readings: ReadingSet) -> int:
    """The density dots are judged by: visual, or the only one there is."""
    return UV if readings.meta.get(DENSITY_KIND) == NAMES[UV] else VISUAL


@dataclass(frozen=True)
class FilmCurve:
    """The curve of a film: `areas` (1024,) are the dots asked of the screen for even dot percents, fractions;
    `before` what straight dots gave, `after` what the curve is predicted to give.
    """

    areas: Array
    before: FilmTones
    after: Array

    def raw(self, channel: str, limit: float) -> CurveSet:
        """The curve with its solid: raw ink of dots that are `limit` (fraction) of ink within."""
        return CurveSet((channel,), (self.areas * limit)[None])


def linearize_film(readings: ReadingSet, physical: PhysicalDots = PhysicalDots()) -> FilmCurve:
    """The monotone inverse of the dots that a screen gave, from readings of `dot_chart` printed straight."""
    found = film_tones(readings, physical)
    x, y = np.r_[0.0, found.inputs, 100.0], np.r_[0.0, found.dots, 100.0]
    fine = np.linspace(0.0, 100.0, 2001)
    there = np.maximum.accumulate(np.clip(_even(x, y, fine), 0.0, 100.0))
    there[0], there[-1] = 0.0, 100.0
    areas = _inverse(fine, there)
    after = np.interp(100.0 * np.interp(found.inputs / 100.0, np.linspace(0, 1, INPUTS), areas), fine, there)
    return FilmCurve(areas, found, after)


def _even(x: Array, y: Array, fine: Array) -> Array:
    """A smooth curve through dots that grew: how much each tone grew is smooth over the square root of the
    dot's border, which is what grows.
    """
    from scipy.interpolate import make_smoothing_spline

    inner = slice(1, -1)
    border = np.sqrt(np.clip(x / 100.0 * (1.0 - x / 100.0), 1e-6, None))
    gained = (y - x)[inner] / border[inner]
    weight = border[inner] ** 2
    spline = make_smoothing_spline(x[inner], gained, w=weight, lam=200.0)
    at = np.clip(fine, x[1], x[-2])
    return fine + spline(at) * np.sqrt(np.clip(fine / 100.0 * (1.0 - fine / 100.0), 0.0, None))


def _inverse(fine: Array, there: Array) -> Array:
    """Dots to ask for (1024,), fractions, so that what is there is even."""
    rising = there + np.linspace(0.0, 1e-6, len(there))
    areas = np.interp(np.linspace(0.0, 100.0, INPUTS), rising, fine) / 100.0
    areas[0], areas[-1] = 0.0, 1.0
    return np.asarray(np.maximum.accumulate(areas))


@dataclass(frozen=True)
class FilmDrift:
    """What changed on a film since its baseline.

    Attributes
    ----------
    was, now
        Dots then and now through the same curve.
    change
        Of dot percent (n,), at the inputs of the baseline.
    solid
        Of the solid's density over film, in the density that counts.
    """

    was: FilmTones
    now: FilmTones
    change: Array
    solid: float

    @property
    def mean(self) -> float:
        """Mean absolute change of dots, percent."""
        return float(np.abs(self.change).mean())

    @property
    def largest(self) -> float:
        """Largest absolute change of dots, percent."""
        return float(np.abs(self.change).max())


def film_drift(baseline: ReadingSet, now: ReadingSet) -> FilmDrift:
    """Hold a chart read again to the day of the baseline."""
    was, is_now = film_tones(baseline), film_tones(now)
    change = np.interp(was.inputs, is_now.inputs, is_now.dots) - was.dots
    solid = (is_now.solid_uv - is_now.film_uv) - (was.solid_uv - was.film_uv)
    return FilmDrift(was, is_now, change, solid)


def restore_film(
    baseline: ReadingSet, now: ReadingSet, curves: CurveSet, highest: float = 1.0
) -> tuple[CurveSet, dict[str, float]]:
    """Curves that print the dots and the opacity of the baseline again, and inks (fractions) that would need
    more than there is.

    Ink within the dots grows as the density of the solid fell; dots are asked for that now give what the
    baseline gave.
    """
    drift = film_drift(baseline, now)
    channel, curve = curves.channels[0], curves.outputs[0]
    limit = float(curve[-1])
    gained = drift.now.solid_uv - drift.now.film_uv
    needed = limit * (drift.was.solid_uv - drift.was.film_uv) / max(gained, 0.3)
    lost = {channel: needed} if needed > highest + 1e-9 else {}
    fine = np.linspace(0.0, 100.0, 2001)
    x = np.r_[0.0, drift.now.inputs, 100.0]
    there = np.maximum.accumulate(_even(x, np.r_[0.0, drift.now.dots, 100.0], fine))
    then = _even(np.r_[0.0, drift.was.inputs, 100.0], np.r_[0.0, drift.was.dots, 100.0], fine)
    asked = np.interp(then, there + np.linspace(0.0, 1e-6, len(there)), fine)
    tones = np.linspace(0.0, 100.0, len(curve))
    areas = np.interp(np.interp(tones, fine, asked), tones, curve / limit)
    areas[0], areas[-1] = 0.0, 1.0
    made = np.maximum.accumulate(areas) * min(needed, highest)
    return CurveSet((channel,), made[None]), lost
