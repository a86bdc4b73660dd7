"""A new media from a small chart and from other media with the same inks.

The other media teach what their inks have in common (`shared_inks`) and what such a model leaves on all
of them. The small chart settles the few parameters of its media, and what is left of its own. How far
other media left their common surface says how far to trust any of it.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.linalg import cho_factor, cho_solve

from greyanchor.core.characterization import residual, shared_inks
from greyanchor.core.characterization.model import (
    FitReport,
    ForwardModel,
    adapted_weights,
    check_coverage,
    even_curves,
    merged,
    strays,
)
from greyanchor.core.characterization.shared_inks import InksOnMedia, Sample, SharedInks
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_xyz, xyz_to_lab
from greyanchor.core.colour.illuminants import Light
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, is_additive
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import one_thread

#: fewest patches of another media that teach something
LEAST_PATCHES = 150
#: readings farther than this (dE00 mean) from what the others let expect are of other inks, or of no media
_OTHER_INKS = 4.0
#: a media farther off than this many times what is usual among the others, and than this (dE00), is
#: unlike them
_UNLIKE, _UNLIKE_LEAST = 2.0, 0.5
#: patches of each media that the common surface is learned from
_SURFACE_PATCHES = 330
#: length of what a media has of its own, in even steps, and noise relative to it
_OWN_LENGTH, _OWN_NOISE = 0.4, 1.5
#: what the common surface may be like
_LENGTHS, _NOISES = (0.5, 1.0, 2.0), (0.1, 0.4, 1.6, 6.0)
#: most inks of a printer whose media are learned from one another: overprints double with each
MOST_INKS = 6
_POOL_POWER = 10


@dataclass(frozen=True)
class Kin:
    """What other media with the same inks teach.

    Attributes
    ----------
    channels, names
        Inks, and what the media are called.
    inks
        What their inks have in common.
    media
        Each media's own part.
    common
        What the model leaves on all of them, in Lab over even coordinates.
    usual
        Mean dE00 between readings of these media and model and common surface.
    """

    channels: tuple[str, ...]
    names: tuple[str, ...]
    inks: SharedInks
    media: tuple[InksOnMedia, ...]
    common: residual.SmoothResidual
    usual: float
    spectral: bool

    def bands(self, readings: ReadingSet) -> Array:
        """Light (n, bands) of readings as these media were learned: spectra, or XYZ / 100."""
        return np.asarray(readings.spectra) if self.spectral else readings.xyz() / 100.0

    def lab(self, light: Array) -> Array:
        """Lab (n, 3), D50, of light (n, bands)."""
        return xyz_to_lab(spectra_to_xyz(light) if self.spectral else 100.0 * light)


@dataclass(frozen=True)
class Likeness:
    """How a new media stands to those it was learned with.

    `off` is the mean dE00 between its readings and what the others let expect once its few parameters were
    fitted, `usual` the same of the others among themselves; `nearest` is the media most like it; `odd` says
    what about it is unlike them all, in words.
    """

    off: float
    usual: float
    nearest: str
    odd: tuple[str, ...] = ()

    @property
    def unlike(self) -> bool:
        """Whether the other media say little of this one."""
        return self.off > max(_UNLIKE_LEAST, _UNLIKE * self.usual)

    def warnings(self, count: int) -> list[str]:
        """What to say of a profile built so from `count` patches; empty where nothing is unusual."""
        if not self.unlike:
            return []
        odd = f" ({', '.join(self.odd)})" if self.odd else ""
        return [
            f"this media is unlike the others{odd}: its {count} patches lie {self.off:.1f} dE00 from what "
            f"they let expect, they among themselves {self.usual:.1f}; read a whole chart, or several "
            "hundred patches more"
        ]


@one_thread
def learn_kin(others: Sequence[ReadingSet], names: Sequence[str] = ()) -> Kin:
    """Learn from readings of profile charts of other media with the same inks.

    Raises `BadInput`, with the name of the media, for other inks, charts too small, and printers that
    part R G B themselves.
    """
    names = tuple(names) or tuple(f"media {i + 1}" for i in range(len(others)))
    if not others:
        raise BadInput("no other media were given")
    channels = others[0].channels
    if is_additive(channels) or len(channels) > MOST_INKS:
        raise BadInput(
            f"media are learned from one another for up to {MOST_INKS} inks, not for {' '.join(channels)}: "
            "read a whole chart",
            names[0],
        )
    for readings, name in zip(others, names):
        _check(readings, channels, name)
    spectral = all(r.spectra is not None for r in others)
    samples = [_sample(r, spectral) for r in others]
    inks, media = shared_inks.learn(samples)
    made = Kin(channels, names, inks, tuple(media), _nothing(len(channels)), 0.0, spectral)
    common = _common(made, samples)
    off = [
        delta_e_2000(
            made.lab(s.light), made.lab(m.predict(s.device)) + common.predict(_even(made, m, s.device))
        )
        for s, m in zip(samples, media)
    ]
    return replace(made, common=common, usual=float(np.mean([d.mean() for d in off])))


def _check(readings: ReadingSet, channels: tuple[str, ...], name: str) -> None:
    try:
        if set(readings.channels) != set(channels):
            raise BadInput(
                f"it was printed with {' '.join(readings.channels)}, the others with {' '.join(channels)}: "
                "only media with the same inks teach"
            )
        check_coverage(readings, readings.inks())
        if len(readings) < LEAST_PATCHES:
            raise BadInput(f"{len(readings)} patches teach too little; {LEAST_PATCHES} are needed")
    except BadInput as error:
        raise error.at(name) from None


def _in_order(readings: ReadingSet, channels: tuple[str, ...]) -> Array:
    return readings.inks()[:, [readings.channels.index(c) for c in channels]]


def _sample(readings: ReadingSet, spectral: bool, channels: tuple[str, ...] | None = None) -> Sample:
    inks = _in_order(readings, channels or readings.channels)
    light = np.asarray(readings.spectra) if spectral else readings.xyz() / 100.0
    return _sound(inks, light, spectral)[0]


def _sound(inks: Array, light: Array, spectral: bool) -> tuple[Sample, Array]:
    """A sample without stray repeats, each combination of inks once, and how often each was read (n,)."""
    lab = xyz_to_lab(spectra_to_xyz(light) if spectral else 100.0 * light)
    kept = ~strays(inks, lab)
    inks, light, counts = merged(inks[kept], light[kept])
    return Sample(inks, light), counts


def _nothing(channels: int) -> residual.SmoothResidual:
    none = np.zeros((1, 3))
    return residual.SmoothResidual(np.zeros((1, channels)), none, 1.0, 1.0, none)


def _even(kin: Kin, media: InksOnMedia, device: Array) -> Array:
    curves = even_curves(media, _plain_weights(kin), len(kin.channels))
    grid = np.linspace(0.0, 1.0, curves.shape[1])
    return np.column_stack([np.interp(device[:, c], grid, e) for c, e in enumerate(curves)])


def _plain_weights(kin: Kin) -> Array:
    return adapted_weights("D50") if kin.spectral else 100.0 * np.eye(3)


def _common(kin: Kin, samples: Sequence[Sample]) -> residual.SmoothResidual:
    places, left = [], []
    for s, m in zip(samples, kin.media):
        thin = s.thinned(_SURFACE_PATCHES, slice(None))
        places.append(_even(kin, m, thin.device))
        left.append(kin.lab(thin.light) - kin.lab(m.predict(thin.device)))
    length, noise = _choose(places, left)
    return _surface(np.vstack(places), np.vstack(left), length, noise)


def _choose(places: list[Array], left: list[Array]) -> tuple[float, float]:
    """Length and noise of the common surface by which each media is predicted best from the others;
    neighbours within one media would say that its noise is common, as charts share patches.
    """
    if len(places) < 3:
        return _OWN_LENGTH, _OWN_NOISE
    scores = {}
    for length, noise in itertools.product(_LENGTHS, _NOISES):
        missed = 0.0
        for k in range(len(places)):
            others = [i for i in range(len(places)) if i != k]
            thin = [slice(i % 2, None, 2) for i in others]
            fitted = _surface(
                np.vstack([places[i][t] for i, t in zip(others, thin)]),
                np.vstack([left[i][t] for i, t in zip(others, thin)]), length, noise,
            )  # fmt: skip
            missed += float(np.linalg.norm(fitted.predict(places[k]) - left[k], axis=1).mean())
        scores[length, noise] = missed
    return min(scores, key=lambda k: scores[k])


def _surface(
    places: Array, left: Array, length: float, noise: float, counts: Array | float = 1.0
) -> residual.SmoothResidual:
    """A residual surface of given length and noise."""
    matrix = residual.kernel(places, places, length)
    matrix[np.diag_indices_from(matrix)] += noise / counts
    factor = cho_factor(matrix, lower=True)
    weights = cho_solve(factor, left)
    left_out = -weights / np.diagonal(cho_solve(factor, np.eye(len(places))))[:, None]
    return residual.SmoothResidual(places, weights, length, noise, left_out)


@one_thread
def characterize_like(
    readings: ReadingSet, kin: Kin, light: Light = "D50", noise: float = 0.0
) -> tuple[ForwardModel, Likeness]:
    """A model of a new media from a small chart, and how it stands to the media that it was learned with.

    `noise` is the standard deviation of one value of Lab, where readings said it.

    Raises `BadInput` for other inks, readings without spectra where the others have them, and readings
    that lie too far from what any of them lets expect.
    """
    if set(readings.channels) != set(kin.channels):
        raise BadInput(
            f"the chart was printed with {' '.join(readings.channels)}, {kin.names[0]} with "
            f"{' '.join(kin.channels)}: only media with the same inks teach"
        )
    if readings.channels != kin.channels:
        raise BadInput(f"give the channels in the order of the others, {' '.join(kin.channels)}")
    if kin.spectral and readings.spectra is None:
        raise BadInput("the other media were read as spectra, this chart was not: read it with spectra too")
    check_coverage(readings, readings.inks())
    sample, counts = _sound(_in_order(readings, kin.channels), kin.bands(readings), kin.spectral)
    media = shared_inks.on_media(kin.inks, sample)
    to_xyz = adapted_weights(light) if kin.spectral else 100.0 * np.eye(3)
    even = even_curves(media, to_xyz, len(kin.channels))
    nothing = FitReport(0.0, 0.0, 0.0)
    model = ForwardModel(kin.channels, media, to_xyz, kin.common, even, nothing, nothing)
    target = xyz_to_lab(sample.light @ to_xyz)
    expected = model.lab(sample.device)
    likeness = _likeness(kin, media, float(delta_e_2000(target, expected).mean()))
    if likeness.off > _OTHER_INKS:
        raise BadInput(
            f"the readings lie {likeness.off:.1f} dE00 from what the other media let expect: the inks are "
            "not theirs, or the chart is another"
        )
    own = _own(model.features(sample.device), target - expected, counts, noise)
    model = replace(model, corrections=(own,))
    fit = FitReport.of(delta_e_2000(target, model.lab(sample.device)))
    return replace(
        model, fit=fit, held_out=FitReport.of(delta_e_2000(target, target + own.left_out))
    ), likeness


def _own(places: Array, left: Array, counts: Array, noise: float) -> residual.SmoothResidual:
    """What this media has of its own: too few patches to choose length and noise by, so that these stand."""
    amplitude = float((left**2).mean())
    ratio = max(_OWN_NOISE, noise**2 / max(amplitude, 1e-9))
    return _surface(places, left, _OWN_LENGTH, ratio, counts)


def _likeness(kin: Kin, media: InksOnMedia, off: float) -> Likeness:
    away = (media.values - kin.inks.middle) / kin.inks.spread
    nearest = min(
        range(len(kin.media)),
        key=lambda i: float((((media.values - kin.media[i].values) / kin.inks.spread) ** 2).sum()),
    )
    names = shared_inks.parameter_names(kin.channels)
    odd = [names[i] for i in np.argsort(-np.abs(away)) if abs(away[i]) > 3.0]
    return Likeness(off, kin.usual, kin.names[nearest], tuple(dict.fromkeys(odd))[:3])


# --- which patches ---------------------------------------------------------------------------


@one_thread
def choose_patches(kin: Kin, count: int, total_ink: float, seed: int = 7) -> Array:
    """Device values (`count`, inks), fractions, that settle most where a new media may differ from `kin`.

    Paper four times, each ink alone in full and half; then, one after another, the patch whose colour is
    known least from those before, by what the other media differ in (their parameters' covariance carried
    through the model's slopes) and by what each has of its own. `total_ink` is the largest sum.

    Raises `BadInput` for a count outside 60..500.
    """
    if not 60 <= count <= 500:
        raise BadInput(f"a small chart has 60 to 500 patches, not {count}")
    inks = len(kin.channels)
    paper, shine = (np.mean([getattr(m, name) for m in kin.media], axis=0) for name in ("paper", "shine"))
    base = InksOnMedia(kin.inks, paper, shine, kin.inks.middle)
    first = np.vstack([np.zeros((4, inks)), np.eye(inks), 0.5 * np.eye(inks)])
    pool = np.vstack([first, _pool(inks, total_ink, seed)])
    known = Known(kin, base, pool)
    for i in range(4, len(first)):
        known.read(i)
    chosen = [*range(len(first)), *known.most_helpful(count - len(first))]
    return np.round(pool[chosen], 3)


@one_thread
def gain_of_more(kin: Kin, model: ForwardModel, read: Array, count: int) -> tuple[float, float]:
    """How unsure colours are on average, about dE00, after the patches `read` (n, inks), and after the
    `count` most helpful ones more.

    Raises `BadInput` for a model that was not learned with `kin`.
    """
    if not isinstance(model.prior, InksOnMedia):
        raise BadInput("this model was learned from its own readings alone")
    pool = _pool(len(kin.channels), float(read.sum(axis=1).max()), 11)[::2]
    known = Known(kin, model.prior, np.vstack([read, pool]))
    for i in range(len(read)):
        known.read(i)
    before = float(known.unsure()[len(read) :].mean())
    known.most_helpful(count)
    return before, float(known.unsure()[len(read) :].mean())


def _pool(inks: int, total_ink: float, seed: int) -> Array:
    pool = np.clip(1.1 * sobol(inks, _POOL_POWER, seed) - 0.05, 0.0, 1.0)
    pool = pool * np.minimum(total_ink / np.maximum(pool.sum(axis=1), 1e-9), 1.0)[:, None]
    levels = np.array([0.06, 0.12, 0.2, 0.3, 0.4, 0.6, 0.7, 0.8, 0.9])
    single = (levels[:, None, None] * np.eye(inks)[None]).reshape(-1, inks)
    return np.vstack([single, pool])


class Known:
    """What is known of the colours of a pool of patches, and what each reading would add."""

    def __init__(self, kin: Kin, media: InksOnMedia, pool: Array) -> None:
        lab = kin.lab(media.predict(pool))
        slopes = []
        for i in range(len(media.values)):
            moved = media.values.copy()
            moved[i] += 1e-3
            slopes.append(
                (kin.lab(replace(media, values=moved).predict(pool)) - lab) / 1e-3 * kin.inks.spread[i]
            )
        # Lab, with chroma counted as the eye does
        eye = np.column_stack(
            [np.ones(len(lab)), *[1.0 / (1.0 + 0.045 * np.hypot(lab[:, 1], lab[:, 2]))] * 2]
        )
        self._slopes = np.stack(slopes, axis=2) * eye[:, :, None]  # (pool, 3, parameters)
        own = kin.usual**2 * residual.kernel(_even(kin, media, pool), _even(kin, media, pool), _OWN_LENGTH)
        flat = self._slopes.transpose(1, 0, 2)
        self._covariance = np.einsum("kip,kjp->kij", flat, flat) + own[None]
        self._noise = 0.15**2

    def unsure(self) -> Array:
        """How unsure (pool,) each colour still is, about dE00."""
        return np.asarray(
            np.sqrt(np.maximum(np.diagonal(self._covariance, axis1=1, axis2=2), 0.0).sum(axis=0))
        )

    def read(self, i: int) -> None:
        """Patch `i` of the pool is read."""
        column = self._covariance[:, :, i]
        self._covariance = self._covariance - (
            column[:, :, None] * column[:, None, :] / (column[:, i] + self._noise)[:, None, None]
        )

    def most_helpful(self, count: int) -> list[int]:
        """The next `count` patches of the pool, each the one that leaves least unknown of all."""
        found = []
        for _ in range(count):
            gain = (self._covariance**2).sum(axis=1) / (
                np.diagonal(self._covariance, axis1=1, axis2=2) + self._noise
            )
            best = int(gain.sum(axis=0).argmax())
            found.append(best)
            self.read(best)
        return found
