"""What a chart should measure, from what this print environment, or others with its inks, measured before.

Single inks follow their ramps. Overprints are, to begin with, the product of what the films of their inks let
through: a Neugebauer model whose primaries multiply (Yule-Nielsen's n falls out of it, as every ink changes
the root of reflectance by a factor of its own). What earlier overprints left is learned on top.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.interpolate import PchipInterpolator
from scipy.linalg import cho_factor, cho_solve

from greyanchor.core.characterization import residual
from greyanchor.core.colour.colorimetry import Array, spectra_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.expectation import Expectation, common_slopes
from greyanchor.core.measurement.readings import ReadingSet, as_inks

#: an ink's volume may differ this much between two sheets of a day (fraction)
DAY = 0.012
#: spread (Lab, one value) of single inks, and for each further ink while no overprint was read
_SINGLE, _OVERPRINT = 0.30, 0.85
#: less ink than this says nothing of a ramp
_TRACE = 0.002
#: single inks this far (Lab) from their neighbours, and this many times as far as is usual, are misread;
#: shorter ramps are taken as they are
_OFF_RAMP, _OFF_TIMES, _LEAST_RAMP = 6.0, 5.0, 5
#: what is not known of a sum of inks above any that was read, Lab for each 100 %
_FLOOD = 2.5
_LEAST_OVERPRINTS, _MOST = 12, 420
_SURFACE = 0.75
#: an ink's volume and dot gain may differ this much on another media (fraction)
_ANOTHER_MEDIA = 0.10
_WAYS = 5
#: media that an expectation for a media not yet read is the mean of
ENOUGH_MEDIA = 2
OTHER_MEDIA = "other media with the same inks"


@dataclass(frozen=True)
class InkFilms:
    """How each ink of an environment looks on its media, alone and over others.

    Attributes
    ----------
    channels
        Names of the inks.
    ramps
        Inputs (k,) and light (k, bands) of each ink alone, paper first.
    paper, surface
        Light (bands,) of the media, and of what is reflected before it meets ink.
    learned
        What overprints left of the product, in Lab; None without overprints.
    spread
        Standard deviation of one value of Lab by number of inks, from 0 on, where nothing was learned.
    certain
        Cholesky factor of what `learned` was learned from, and the variance of Lab it explains; None without.
    most
        Largest sum of inks that was read: what floods beyond it nobody knows.
    """

    channels: tuple[str, ...]
    ramps: tuple[tuple[Array, Array], ...]
    paper: Array
    surface: Array
    learned: residual.SmoothResidual | None
    spread: Array
    certain: tuple[tuple[Array, bool], float] | None = None
    most: float = np.inf

    def lab(self, inks: Array) -> Array:
        """Lab (n, 3) of amounts of ink (n, channels), fractions."""
        found = _lab_of(self._product(inks))
        return found if self.learned is None else found + self.learned.predict(self.places(inks))

    def _product(self, inks: Array) -> Array:
        base = self.paper - self.surface
        through = np.ones((len(inks), len(base)))
        for c, (levels, light) in enumerate(self.ramps):
            if not inks[:, c].any():
                continue
            share = np.clip(inks[:, c], 0.0, levels[-1])
            root = PchipInterpolator(levels, np.cbrt(np.maximum(light, 1e-5)))(share)
            through *= np.maximum(root**3 - self.surface, 2e-4 * base) / base
        return np.asarray(self.surface + base * through)

    def _spread_at(self, inks: Array) -> Array:
        """Spread (n,): what is not known of each colour, less where overprints like it were read."""
        over = (inks > 1e-4).sum(axis=1)
        plain = self.spread[np.minimum(over, len(self.spread) - 1)]
        plain = plain + _FLOOD * np.maximum(inks.sum(axis=1) - self.most, 0.0)
        if self.learned is None or self.certain is None:
            return np.asarray(plain)
        factor, amplitude = self.certain
        near = residual.kernel(
            self.learned.places, self.places(inks), self.learned.length, self.learned.whole
        )
        unknown = np.clip(1.0 - (near * cho_solve(factor, near)).sum(axis=0), 0.0, 1.0)
        least = plain - self.spread[np.minimum(over, len(self.spread) - 1)] + self.spread[np.minimum(over, 1)]
        return np.asarray(np.sqrt(least**2 + amplitude * unknown))

    def left_out(self) -> tuple[Array, Array, Array]:
        """Of what was learned from: places (m, channels), what the others say minus what was read, Lab
        (m, 3), and the spread (m,) of that.
        """
        assert self.learned is not None and self.certain is not None
        factor, amplitude = self.certain
        precision = np.diagonal(cho_solve(factor, np.eye(len(self.learned.places))))
        spread = np.sqrt(self.spread[1] ** 2 + amplitude / np.maximum(precision, 1e-9))
        return self.learned.places, self.learned.left_out, spread

    def places(self, inks: Array) -> Array:
        """Where amounts of ink (n, channels) stand for what is learned of overprints, (n, channels)."""
        return np.asarray(np.sqrt(np.clip(inks, 0.0, 1.0)))

    def expect(self, inks: Array, volume: float = DAY, source: str = "") -> Expectation:
        """What amounts of ink (n, channels) should measure, where a common change of `volume` (fraction) in
        each ink is nothing unusual.
        """
        lab = self.lab(inks)
        slopes, scales = common_slopes(lab)
        moves = []
        for c in range(inks.shape[1]):
            more = inks.copy()
            more[:, c] *= 1.04
            moves.append((_lab_of(self._product(more)) - _lab_of(self._product(inks))) / 0.04)
        return Expectation(
            lab,
            self._spread_at(inks),
            np.concatenate([slopes, np.stack(moves, axis=2)], axis=2),
            np.concatenate([scales, np.full(inks.shape[1], volume)]),
            source,
        )


def learn_films(earlier: Sequence[ReadingSet], channels: tuple[str, ...], noise: float = 0.12) -> InkFilms:
    """Ink films from readings of raw device values, of any charts of one print environment.

    Channels that a reading set does not name count as unprinted in it. `noise` is the standard deviation of
    one value of Lab.

    Raises `BadInput` where there is no paper, or an ink was never printed alone.
    """
    inks, light = _pooled(earlier, channels)
    sound = _sound_singles(inks, _lab_of(light))
    inks, light = inks[sound], light[sound]
    bare = inks.max(axis=1) < 1e-4
    if not bare.any():
        raise BadInput("no unprinted patch was read")
    paper = np.median(light[bare], axis=0) if bare.sum() > 2 else light[bare].mean(axis=0)
    dark = light[int(light.mean(axis=1).argmin())]
    ramps = tuple(_ramp(inks, light, c, paper, channels) for c in range(len(channels)))
    surface = _SURFACE * np.minimum(dark, np.min([r[1].min(axis=0) for r in ramps], axis=0))
    spread = _SINGLE + _OVERPRINT * np.maximum(np.arange(9) - 1.0, 0.0)
    spread[0] = 0.2
    most = float(inks.sum(axis=1).max()) if len(channels) > 1 else np.inf
    films = InkFilms(channels, ramps, paper, surface, None, spread, None, most)
    over = (inks > 1e-4).sum(axis=1)
    if (over > 1).sum() < _LEAST_OVERPRINTS:
        return films
    return _with_overprints(films, inks, light, over, noise)


def _with_overprints(films: InkFilms, inks: Array, light: Array, over: Array, noise: float) -> InkFilms:
    pick = np.flatnonzero(over > 1)
    if len(pick) > _MOST:
        pick = np.sort(np.random.default_rng(5).choice(pick, _MOST, replace=False))
    single = np.flatnonzero(over == 1)[::3]
    pick = np.concatenate([pick, single])
    left = _lab_of(light[pick]) - films.lab(inks[pick])
    places = films.places(inks[pick])
    learned = residual.fit(places, left, None, noise)
    bare = residual.kernel(places, places, learned.length, learned.whole)
    bare[np.diag_indices_from(bare)] += learned.noise
    amplitude = max(float((left * learned.weights).sum() / left.size), 0.05)
    return replace(films, learned=learned, certain=(cho_factor(bare, lower=True), amplitude))


def _pooled(earlier: Sequence[ReadingSet], channels: tuple[str, ...]) -> tuple[Array, Array]:
    """Amounts of ink (n, channels) and light (n, bands) of all readings: spectra where all have them."""
    spectral = all(r.spectra is not None for r in earlier)
    rows, light = [], []
    for readings in earlier:
        values = as_inks(readings.values(), readings.channels)
        out = np.zeros((len(readings), len(channels)))
        for i, name in enumerate(readings.channels):
            if name in channels:
                out[:, channels.index(name)] = values[:, i]
            elif values[:, i].max() > 1e-4:
                raise BadInput(f"an earlier chart printed {name}, which this one has not")
        rows.append(out)
        light.append(readings.spectra if spectral else readings.xyz() / 100.0)
    return np.vstack(rows), np.vstack([np.asarray(v) for v in light])


def _sound_singles(inks: Array, lab: Array) -> npt.NDArray[np.bool_]:
    """Readings (n,) without single inks that lie far off the ramp of their neighbours: rows misread before.

    The worst is left out first and the others are looked at again, so that it does not take its neighbours
    along.
    """
    sound = np.ones(len(inks), dtype=bool)
    bare = inks.max(axis=1) < 1e-4
    if not bare.any():
        return sound
    middle = np.median(lab[bare], axis=0)
    sound[bare] = np.linalg.norm(lab[bare] - middle, axis=1) < _OFF_RAMP
    for c in range(inks.shape[1]):
        alone = (inks[:, c] > _TRACE) & (np.delete(inks, c, axis=1).max(axis=1, initial=0.0) < 1e-4)
        members = np.flatnonzero(alone)
        members = members[np.argsort(inks[members, c], kind="stable")]
        while len(members) > _LEAST_RAMP:
            x, y = np.append(0.0, inks[members, c]), np.vstack([middle, lab[members]])
            share = (x[1:-1] - x[:-2]) / np.maximum(x[2:] - x[:-2], 1e-9)
            off = np.linalg.norm(y[1:-1] - (1.0 - share)[:, None] * y[:-2] - share[:, None] * y[2:], axis=1)
            worst = int(off.argmax())
            if off[worst] < max(_OFF_RAMP, _OFF_TIMES * float(np.median(off))):
                break
            sound[members[worst]] = False
            members = np.delete(members, worst)
    return sound


def _ramp(inks: Array, light: Array, c: int, paper: Array, channels: tuple[str, ...]) -> tuple[Array, Array]:
    alone = (inks[:, c] > _TRACE) & (np.delete(inks, c, axis=1).max(axis=1, initial=0.0) < 1e-4)
    if alone.sum() < 3:
        raise BadInput(f"{channels[c]} was never printed alone")
    levels, group = np.unique(np.round(inks[alone, c], 4), return_inverse=True)
    count = np.bincount(group)[:, None]
    total = np.zeros((len(levels), light.shape[1]))
    np.add.at(total, group, light[alone])
    return np.append(0.0, levels), np.vstack([paper, total / count])


def _lab_of(light: Array) -> Array:
    """Lab (n, 3) of light (n, bands): spectra, or XYZ / 100."""
    return xyz_to_lab(spectra_to_xyz(light) if light.shape[1] == 36 else 100.0 * light)


def mean_of_media(inks: Array, films: Sequence[InkFilms]) -> Expectation:
    """What amounts of ink (n, channels) should measure on a media that nothing was read of: the mean of
    other media with the same inks.

    Raises `BadInput` for fewer than two media.
    """
    if len(films) < ENOUGH_MEDIA:
        raise BadInput(f"{len(films)} other media were read; {ENOUGH_MEDIA} are needed")
    found = [f.expect(inks, _ANOTHER_MEDIA) for f in films]
    labs = np.stack([f.lab for f in found])
    middle = np.median(labs, axis=0)
    slopes, scales = common_slopes(middle, 2.0)
    ways, sizes = _ways_to_differ(labs - labs.mean(axis=0))
    inks_move = np.mean([f.slopes[:, :, 4:] for f in found], axis=0)
    gains = inks_move * (1.0 - np.clip(inks, 0.0, 1.0))[:, None, :]
    apart = labs.std(axis=0, ddof=1).mean(axis=1)
    return Expectation(
        middle,
        0.7 + 0.25 * apart,
        np.concatenate([slopes, inks_move, gains, ways], axis=2),
        np.concatenate([scales, np.full(2 * inks.shape[1], _ANOTHER_MEDIA), sizes]),
        OTHER_MEDIA,
        same_media=False,
    )


def _ways_to_differ(off: Array) -> tuple[Array, Array]:
    """Principal ways (n, 3, k) in which media (m, n, 3) lie off their mean, and how far they do (k,)."""
    vectors = np.linalg.svd(off.reshape(len(off), -1), full_matrices=False)[2][: min(len(off) - 1, _WAYS)]
    along = off.reshape(len(off), -1) @ vectors.T
    length = np.maximum(np.sqrt((along**2).mean(axis=0)), 1e-6)
    shapes = (vectors * length[:, None]).reshape(-1, *off.shape[1:])
    return np.moveaxis(shapes, 0, 2), np.full(len(shapes), 1.5)
