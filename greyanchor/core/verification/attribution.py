"""What changed between two readings of one chart through the same curves, and what is likely to have done it.

Each cause moves the readings in a way of its own. Another paper changes the bare media, and the tints that it
shines through, but not the darkest patches, which hardly any of it reaches. An instrument that reads
otherwise scales all of them alike. Another lot of ink changes how strongly and where one ink absorbs,
wherever it is. Another head puts down more or less of one ink, its tones and its solid together. How well
each explains what was read is weighed by its evidence (MacKay 2003, chapter 28), and by what is on record
as swapped in between.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.linalg import cho_factor, cho_solve

from greyanchor.core.calibration.ramps import Ramp, find_ramps
from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array, delta_e_2000, spectra_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, is_additive, match_chart
from greyanchor.core.parallel import one_thread

PAPER, INK, HEAD, INSTRUMENT, NOTHING = "paper", "ink", "head", "instrument", "nothing"
HEAT = "heat"
#: how much likelier a cause is that is on record as swapped in between, and one that is not where another is
_ON_RECORD = 12.0
#: changes below these are none: b* or L* of paper, percent of film and of midtones, dE00 of the whole
_PAPER_SAID, _FILM_SAID, _GAIN_SAID, _MEAN_SAID = 0.3, 2.5, 1.4, 0.35
_LOW, _HIGH = 0.12, 2.2
#: below this (nm) paper absorbs so steeply that wavelengths say nothing of inks
_FROM = 415.0
#: an ink that absorbs alike over the spectrum has no hue to move: slope per nm, of its density
_FLAT = 0.006


@dataclass(frozen=True)
class InkChange:
    """One ink now against before: film in shares of what it was, midtones in percent of tone (each
    between its own paper and solid), and where it absorbs, nm.
    """

    film: float
    gain: float
    hue: float

    @property
    def is_any(self) -> bool:
        """Whether it changed at all."""
        return (
            abs(100.0 * (self.film - 1.0)) >= _FILM_SAID
            or abs(self.gain) >= _GAIN_SAID
            or abs(self.hue) > 0.8
        )


@dataclass(frozen=True)
class Cause:
    """A likely cause: its kind, which ink where it is one's, and how likely, 0..1; `recorded` says that
    it is on record.
    """

    kind: str
    ink: str
    chance: float
    recorded: bool = False


@dataclass(frozen=True)
class Change:
    """What changed: mean and 95th percentile in dE00, paper in Lab, inks, in words, and the likely causes."""

    mean: float
    high: float
    paper: tuple[float, float, float]
    inks: dict[str, InkChange]
    words: list[str]
    causes: list[Cause]


@one_thread
def what_changed(before: ReadingSet, now: ReadingSet, swapped: Sequence[tuple[str, str]] = ()) -> Change:
    """Two readings of one chart with ramps of every ink, such as the short chart, compared and explained.

    `swapped` are kinds of causes on record between the two, each with its ink, or with no ink for all.

    Raises `BadInput` for readings of different charts, without spectra, or of a printer that parts R G B
    itself.
    """
    if before.spectra is None or now.spectra is None:
        raise BadInput("both readings need spectra: causes show in where light changed")
    if is_additive(before.channels):
        raise BadInput("a printer that parts R G B itself shows no single inks")
    now = match_chart(before, now, "device")  # sheets are laid out for one reader or another
    was, is_now = find_ramps(before), find_ramps(now)
    difference = delta_e_2000(before.lab(), now.lab())
    paper = _paper_change(before, now)
    seen = {c: _ink_change(was[c], is_now[c]) for c in before.channels}
    causes = _causes(was, is_now, swapped)
    mean = float(difference.mean())
    words = _words(mean, paper, seen)
    return Change(mean, float(np.percentile(difference, 95)), paper, seen, words, causes)


def _bare(readings: ReadingSet) -> Array:
    spectra = np.asarray(readings.spectra)
    return np.asarray(spectra[readings.inks().max(axis=1) < 1e-6].mean(axis=0))


def _paper_change(before: ReadingSet, now: ReadingSet) -> tuple[float, float, float]:
    labs = [xyz_to_lab(spectra_to_xyz(_bare(r)[None]))[0] for r in (before, now)]
    change = labs[1] - labs[0]
    return float(change[0]), float(change[1]), float(change[2])


def _film_of(ramp: Ramp, surface: float) -> Array:
    """Absorption (bands,) of the solid over its own paper."""
    paper, solid = ramp.light[0], ramp.light[-1]
    base = np.maximum(paper - surface, 1e-3)
    return np.asarray(-np.log(np.maximum(solid - surface, 2e-4) / base))


def _surface(was: Ramp) -> float:
    return 0.6 * float(was.light[-1].min())


def _ink_change(was: Ramp, now: Ramp) -> InkChange:
    surface = _surface(was)
    a, b = _film_of(was, surface), _film_of(now, surface)
    seen = WAVELENGTHS >= _FROM
    use = seen & (a > _LOW) & (a < _HIGH)
    if use.sum() < 4:
        use = seen & (a > 0.4 * a.max())
    slope = np.gradient(a) / 10.0  # per nm
    # b = film * a - hue * slope, weighted to what shows best
    weight = 1.0 / (0.05 + a[use])
    basis = np.stack([a[use], -slope[use]], axis=1) * weight[:, None]
    film, hue = np.linalg.lstsq(basis, b[use] * weight, rcond=None)[0]
    flat = float(np.abs(slope[use]).max()) < _FLAT * float(a.max())
    return InkChange(float(film), _gain(was, now), 0.0 if flat else float(hue / max(film, 0.2)))


def _tone(ramp: Ramp) -> tuple[Array, Array]:
    """Covered share of a ramp by its own paper and solid, in the bands where its ink absorbs."""
    paper, solid = ramp.light[0], ramp.light[-1]
    weight = np.maximum(paper - solid, 0.0)
    amount = ((paper - ramp.light) * weight).sum(axis=1) / max(float((weight**2).sum()), 1e-9)
    return ramp.inputs / max(float(ramp.inputs[-1]), 1e-9), amount


def _gain(was: Ramp, now: Ramp) -> float:
    at = np.array([0.3, 0.4, 0.5, 0.6, 0.7])
    one, other = (np.interp(at, *_tone(r)) for r in (was, now))
    return float(100.0 * (other - one).mean())


# --- causes ----------------------------------------------------------------------------------


def _causes(
    was: Mapping[str, Ramp], is_now: Mapping[str, Ramp], swapped: Sequence[tuple[str, str]]
) -> list[Cause]:
    """All causes by how likely they are, the likeliest first."""
    patches = [_Patch.bare(was, is_now), *(p for c in was for p in _Patch.of_ramp(c, was[c], is_now[c]))]
    values = np.concatenate([p.change for p in patches])
    spread = _noise(patches)
    found: list[tuple[str, str, float, bool]] = []
    for kind, ink, ways in _hypotheses(tuple(was), patches):
        recorded = any(k == kind and i in ("", ink) for k, i in swapped)
        prior = np.log(_ON_RECORD) if recorded else 0.0
        found.append((kind, ink, _evidence(values, spread + ways @ ways.T) + prior, recorded))
    most = max(e for _, _, e, _ in found)
    shares = np.exp(np.clip([e - most for _, _, e, _ in found], -60.0, 0.0))
    shares = shares / shares.sum()
    causes = [Cause(k, i, float(s), r) for (k, i, _, r), s in zip(found, shares)]
    return sorted(causes, key=lambda c: -c.chance)


@dataclass(frozen=True)
class _Patch:
    """A patch of a ramp, or bare media, in the bands that causes show in: `light` before, the logarithm
    `change` of it, the paper's and the solid's light, the covered `area`, and what more of its ink would do.
    """

    ink: str
    light: Array
    change: Array
    paper: Array
    solid: Array
    area: float
    more: Array
    slope: Array

    @classmethod
    def bare(cls, was: Mapping[str, Ramp], now: Mapping[str, Ramp]) -> _Patch:
        first = next(iter(was))
        one, other = was[first].light[0], now[first].light[0]
        return cls(
            "", one[_BANDS], _log(other, one), one[_BANDS], one[_BANDS], 0.0, np.zeros(len(_AT)), _slope(one)
        )

    @classmethod
    def of_ramp(cls, ink: str, was: Ramp, now: Ramp) -> list[_Patch]:
        areas = np.clip(_tone(was)[1], 0.0, 1.0)
        paper, solid = was.light[0][_BANDS], was.light[-1][_BANDS]
        levels = was.inputs
        logs = np.log(np.maximum(was.light, 1e-4))
        # what 1 % more of an ink does, from how the ramp goes on
        rises = np.gradient(logs, levels, axis=0) * levels[:, None]
        out = []
        for i in range(1, len(levels)):
            light = np.array([np.interp(levels[i], now.inputs, band) for band in now.light.T])
            out.append(
                cls(ink, was.light[i][_BANDS], _log(light, was.light[i]), paper, solid, float(areas[i]),
                    rises[i][_BANDS], _slope(was.light[i]))
            )  # fmt: skip
        return out

    @property
    def depth(self) -> Array:
        """Absorption over the paper."""
        return np.asarray(-np.log(np.maximum(self.light / self.paper, 1e-3)))

    @property
    def film(self) -> Array:
        """Absorption of the ink's full film over the paper."""
        return np.asarray(-np.log(np.maximum(self.solid / self.paper, 1e-3)))

    @property
    def through(self) -> Array:
        """Share of the light that has passed the ink to the media, rather than left at the surface."""
        return np.asarray(1.0 - np.minimum(_SURFACE / np.maximum(self.light, 1e-4), 1.0))

    @property
    def inked(self) -> Array:
        """Share of the light that comes from where ink covers."""
        return np.asarray(self.area * self.solid / np.maximum(self.light, 1e-4))


_BANDS = np.flatnonzero(WAVELENGTHS >= _FROM)[::3]
_AT = WAVELENGTHS[_BANDS]
_X = (_AT - 555.0) / 175.0
_BUMP = np.exp(-0.5 * ((_AT - 440.0) / 20.0) ** 2)
_SURFACE = 0.004


def _log(now: Array, was: Array) -> Array:
    return np.asarray(np.log(np.maximum(now, 1e-4) / np.maximum(was, 1e-4))[_BANDS])


def _slope(light: Array) -> Array:
    """How the logarithm of light changes with wavelength, per nm."""
    return np.asarray((np.gradient(np.log(np.maximum(light, 1e-4))) / 10.0)[_BANDS])


def _noise(patches: Sequence[_Patch]) -> Array:
    """Covariance (n, n) of changes that nothing makes: readings err by patch and band, ink lies unevenly,
    and the machine's inks are a little more or less on each day.
    """
    size, bands = len(patches) * len(_AT), len(_AT)
    out = np.zeros((size, size))
    for i, p in enumerate(patches):
        at = slice(i * bands, (i + 1) * bands)
        ways = np.stack([0.008 * np.ones(bands), 0.0056 * _X, 0.004 * (_X**2 - 0.4), 0.007 * p.depth], axis=1)
        out[at, at] = ways @ ways.T + np.diag((0.006 + 0.0003 / p.light) ** 2)
    for ink in {p.ink for p in patches if p.ink}:
        day = _way(patches, lambda p, ink=ink: 0.005 * p.more * (p.ink == ink))  # type: ignore[misc]
        out += np.outer(day, day)
    return out


def _way(patches: Sequence[_Patch], of: Callable[[_Patch], Array]) -> Array:
    return np.concatenate([np.broadcast_to(of(p), (len(_AT),)) for p in patches])


def _hypotheses(channels: tuple[str, ...], patches: Sequence[_Patch]) -> list[tuple[str, str, Array]]:
    """Ways in which each cause moves the light of all patches, (n, ways), each as far as is usual."""

    def ways(*of: Callable[[_Patch], Array]) -> Array:
        return np.stack([_way(patches, f) for f in of], axis=1)

    def wider(p: _Patch) -> Array:
        """Dots that spread more: midtones darker, solid and paper as they are."""
        return -p.area * (1.0 - p.area) * (p.paper - p.solid) / np.maximum(p.light, 1e-4)

    paper = ways(
        lambda p: 0.018 * p.through, lambda p: -0.02 * _X * p.through, lambda p: 0.02 * _BUMP * p.through,
        lambda p: 0.01 * _X**2 * p.through, lambda p: 0.04 * wider(p),
        *(_of_ink(c, lambda p: 0.012 * wider(p)) for c in channels),
        *(_of_ink(c, lambda p: 0.008 * p.more) for c in channels),
    )  # fmt: skip
    instrument = ways(
        lambda p: 0.012 * np.ones(len(_AT)), lambda p: 0.0006 / np.maximum(p.light, 1e-3),
        lambda p: 0.6 * p.slope, lambda p: 0.003 * _X,
    )  # fmt: skip
    found = [(NOTHING, "", np.zeros((len(patches) * len(_AT), 1))), (PAPER, "", paper)]
    found.append((INSTRUMENT, "", instrument))
    # heat dries drops sooner or later on the media, all inks alike
    found.append((HEAT, "", ways(lambda p: 0.05 * wider(p), lambda p: 0.02 * p.more)))
    ageing = ways(
        *(_of_ink(c, lambda p: 0.06 * p.more) for c in channels),
        *(_of_ink(c, lambda p: 0.012 * wider(p)) for c in channels),
    )  # fmt: skip
    found.append((HEAD, "", ageing))
    for c in channels:
        bend = np.gradient(_of(patches, c).film) / np.gradient(_AT)
        lot = ways(
            _of_ink(c, lambda p: -0.06 * p.inked * p.film),
            _of_ink(c, lambda p, bend=bend: 2.5 * p.inked * bend),  # type: ignore[misc]
            _of_ink(c, lambda p: 0.01 * wider(p)),
        )  # fmt: skip
        head = ways(_of_ink(c, lambda p: 0.08 * p.more), _of_ink(c, lambda p: 0.012 * wider(p)))
        found += [(INK, c, lot), (HEAD, c, head)]
    return found


def _of(patches: Sequence[_Patch], ink: str) -> _Patch:
    return next(p for p in patches if p.ink == ink)


def _of_ink(ink: str, of: Callable[[_Patch], Array]) -> Callable[[_Patch], Array]:
    return lambda p: of(p) if p.ink == ink else np.zeros(len(_AT))


def _evidence(values: Array, spread: Array) -> float:
    """Logarithm of how likely `values` (n,) are under a covariance (n, n)."""
    factor = cho_factor(spread, lower=True)
    size = 2.0 * float(np.log(np.diagonal(factor[0])).sum())
    return float(-0.5 * (values @ cho_solve(factor, values) + size))


# --- words -----------------------------------------------------------------------------------


def _words(mean: float, paper: tuple[float, float, float], inks: Mapping[str, InkChange]) -> list[str]:
    if mean < _MEAN_SAID:
        return [f"nothing beyond the noise of a reading ({mean:.2f} dE00 mean)"]
    words = []
    lightness, _, blue = paper
    if abs(lightness) >= _PAPER_SAID:
        words.append(f"paper {'lighter' if lightness > 0 else 'darker'} by {abs(lightness):.1f} L*")
    if abs(blue) >= _PAPER_SAID:
        words.append(f"paper {'yellower' if blue > 0 else 'bluer'} by {abs(blue):.1f} b*")
    for name, ink in inks.items():
        film, parts = 100.0 * (ink.film - 1.0), []
        if abs(film) >= _FILM_SAID:
            parts.append(f"{abs(film):.0f} % {'stronger' if film > 0 else 'weaker'} in the solid")
        if abs(ink.gain) >= _GAIN_SAID:
            parts.append(f"{abs(ink.gain):.1f} % {'heavier' if ink.gain > 0 else 'lighter'} in midtones")
        if abs(ink.hue) > 0.8:
            parts.append(f"its hue {abs(ink.hue):.1f} nm towards {'red' if ink.hue > 0 else 'blue'}")
        if parts:
            words.append(f"{name} {', '.join(parts)}")
    same = [c for c, ink in inks.items() if not ink.is_any]
    if same and len(same) < len(inks):
        words.append(f"{', '.join(same)} unchanged")
    return words or [f"{mean:.2f} dE00 mean, spread over all of it"]
