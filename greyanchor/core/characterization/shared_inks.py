"""Inks that print on several media: what they have in common, and the little that each media changes.

A thickness-dependent Yule-Nielsen Neugebauer model. Common to all media are the inks' absorption spectra
(Beer 1852) and how much less of each ink stays on every other one (trapping). A media has its paper, its
surface, the area and the film that each ink makes of its device values, how it floods, and its own
Yule-Nielsen factor. Those few are learned from few patches, and held to what they are on the other media
(empirical Bayes: Efron and Morris 1975).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.interpolate import CubicSpline

from greyanchor.core.characterization.neugebauer import demichel, subsets
from greyanchor.core.colour.brightener import brightener_of
from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array

#: device values at which the volume of an ink is found
KNOTS = np.array([0.0, 0.06, 0.15, 0.3, 0.5, 0.7, 0.85, 1.0])
#: parameters of one ink on one media: logarithms of the volume's steps between knots, and of its spreading
_OF_INK = len(KNOTS)
#: of the whole media: surface, flooding, where it begins, its haze, brightener, Yule-Nielsen factor,
#: volume of one ink that it takes
_OF_MEDIA = 7
#: of all: how coverage and film grow with volume
_OF_ALL = 3
#: patches of each media and spectral bands that the common part is fitted to
_PATCHES, _THIN = 220, 4
#: standard deviation of the cube root of one band in what no such model explains
_NOISE = 0.011
_FLOOR = 1e-4
#: density of a film where it shows none
_LEAST = 1e-3
#: how far media parameters may lie from the mean of a few media whatever these say, and before any was seen
_LEAST_SPREAD, _FIRST_SPREAD = 0.06, 0.5
_BLOCK, _STEPS, _GAIN = 2048, 60, 5e-4
#: shares of the values at the knots in a smooth curve through them
_BETWEEN = CubicSpline(KNOTS, np.eye(len(KNOTS)))


@dataclass(frozen=True)
class SharedInks:
    """What inks do on every media.

    Attributes
    ----------
    absorption
        Napierian density of one film of each ink, (inks, bands).
    trapping
        Share of ink i that is missing where ink j is printed too, (inks, inks).
    growth
        How coverage gains by deeper drops, how films gain less as they deepen, and how fast a colour falls
        back past what the media takes (3,).
    middle, spread
        Mean and standard deviation of the media parameters (`size`,) over the media that were learned from.
    """

    absorption: Array
    trapping: Array
    growth: Array
    middle: Array
    spread: Array

    @property
    def inks(self) -> int:
        """Number of inks."""
        return len(self.absorption)

    @cached_property
    def kept(self) -> Array:
        """Film of each ink (2^inks, inks) in each overprint, as a share of its film alone."""
        there = subsets(self.inks)
        less = np.log1p(-np.clip(self.trapping, -0.5, 0.9))
        np.fill_diagonal(less, 0.0)
        return np.asarray(there * np.exp(there @ less.T))


@dataclass(frozen=True)
class InksOnMedia:
    """Shared inks on one media: `paper` is its light (bands,), `shine` what of it is its brightener's,
    `values` its parameters (`size`,).
    """

    shared: SharedInks
    paper: Array
    shine: Array
    values: Array

    def predict(self, device: Array) -> Array:
        """Light (m, bands) of device values (m, inks), fractions."""
        parts = [self._predict(device[i : i + _BLOCK]) for i in range(0, len(device), _BLOCK)]
        return np.concatenate(parts) if parts else np.zeros((0, len(self.paper)))

    def _predict(self, device: Array) -> Array:
        of_media = np.minimum(self.values[self.shared.inks * _OF_INK :], 5.0)
        surface, flood, full, haze, shining, factor, _ = of_media
        # steps on the way may ask for light that there is not
        surface, haze, factor = min(surface, 0.0), min(haze, 0.0), min(max(factor, -0.2), 1.2)
        film, area, volume = self.films(device)
        shine = np.exp(shining) * self.shine
        over = 0.15 * np.logaddexp(0.0, (volume.sum(axis=1) - full) / 0.15)
        film = film / (1.0 + np.exp(flood) * over)[:, None]
        through = np.exp(-(film[:, None, :] * self.shared.kept[None]) @ self.shared.absorption)
        h = (np.exp(surface) + np.exp(haze) * over)[:, None, None]
        mixed = np.maximum(h + (self.paper - shine - h) * through, _FLOOR)
        root = mixed ** np.exp(-factor)
        shares = demichel(area)[:, None, :]
        light = np.maximum((shares @ root)[:, 0], _FLOOR) ** np.exp(factor)
        if self.shine.any():  # ultraviolet goes in through the inks, what it excites comes out through them
            clear = (shares @ through)[:, 0]
            light = light + clear[:, :1] * clear * shine
        return np.asarray(light)

    def films(self, device: Array) -> tuple[Array, Array, Array]:
        """Film, covered area and volume (m, inks) of each ink alone: drops fall at random, so that the share
        left bare falls exponentially with how much they cover, and what is not spread lies in depth.
        """
        of_inks = self.values[: self.shared.inks * _OF_INK].reshape(-1, _OF_INK)
        steps = np.cumsum(np.exp(np.minimum(of_inks[:, :-1], 2.0)), axis=1)
        knots = np.hstack([np.zeros((len(steps), 1)), steps])
        volume = np.maximum(np.einsum("nik,ik->ni", _BETWEEN(device), knots), 1e-6)
        deeper, less, back = self.shared.growth
        spread = np.exp(np.minimum(of_inks[:, -1], 3.0))
        area = np.maximum(-np.expm1(-spread * volume * (1.0 + deeper * volume)), 1e-6)
        film = volume / area
        film = film / np.maximum(1.0 + less * film, 0.2)
        past = 0.05 * np.logaddexp(0.0, (volume - self.values[-1]) / 0.05)
        return film * np.exp(-back * past), area, volume


@dataclass(frozen=True)
class Sample:
    """Readings of one media: device values (m, inks) in fractions, light (m, bands), and its paper
    (bands,).
    """

    device: Array
    light: Array

    @cached_property
    def paper(self) -> Array:
        """Light (bands,) of the bare media."""
        return np.asarray(self.light[self.device.max(axis=1) < 0.005].mean(axis=0))

    @cached_property
    def shine(self) -> Array:
        """What of the paper's light (bands,) is its brightener's, as far as the spectrum shows it."""
        found = brightener_of(self.paper, "M1") if len(self.paper) == len(WAVELENGTHS) else None
        return np.zeros(len(self.paper)) if found is None else found.emitted

    def thinned(self, patches: int, bands: slice) -> Sample:
        """Fewer of both, the bare media among them."""
        pick = np.unique(np.linspace(0, len(self.device) - 1, min(patches, len(self.device))).astype(int))
        pick = np.union1d(pick, np.flatnonzero(self.device.max(axis=1) < 0.005)[:4])
        made = Sample(self.device[pick], self.light[pick][:, bands])
        made.__dict__["shine"] = self.shine[bands]
        return made


def parameter_names(channels: Sequence[str]) -> list[str]:
    """What each media parameter is, in words."""
    inks = [[f"amount of {c}"] * (len(KNOTS) - 1) + [f"spreading of {c}"] for c in channels]
    return [
        *(name for of_ink in inks for name in of_ink), "surface", "flooding", "total ink it takes", "haze",
        "brightener", "light within the media", "ink it takes",
    ]  # fmt: skip


def learn(samples: Sequence[Sample]) -> tuple[SharedInks, list[InksOnMedia]]:
    """What the inks of several media have in common, and each media's own part.

    All samples have the same inks in the same order and the same bands.
    """
    bands = slice(None, None, _THIN if samples[0].light.shape[1] > 6 else 1)
    thin = [s.thinned(_PATCHES, bands) for s in samples]
    inks = samples[0].device.shape[1]
    first = _first(thin, inks)
    shared, values = _fit_common(first, thin)
    shared = _with_all_bands(shared, values, samples, bands)
    middle = values.mean(axis=0)
    off = (values - middle).std(axis=0, ddof=1) if len(values) > 1 else np.full(len(middle), _FIRST_SPREAD)
    shared = replace(shared, middle=middle, spread=np.hypot(_LEAST_SPREAD, _pooled(off, inks)))
    return shared, [on_media(shared, s) for s in samples]


def _pooled(off: Array, inks: int) -> Array:
    """Spreads of few media, steadied by those of the other inks."""
    single = off[: inks * _OF_INK].reshape(inks, _OF_INK)
    common = np.sqrt((single**2).mean(axis=0))
    return np.concatenate([np.sqrt(0.5 * single**2 + 0.5 * common**2).ravel(), off[inks * _OF_INK :]])


def on_media(shared: SharedInks, sample: Sample) -> InksOnMedia:
    """Shared inks on the media of a sample, its parameters fitted and held to those of the other media."""
    thin = slice(None, None, _THIN if sample.light.shape[1] > 6 else 1)
    target = np.cbrt(np.maximum(sample.light[:, thin], _FLOOR))
    narrow = replace(shared, absorption=shared.absorption[:, thin])

    def left(values: Array) -> Array:
        seen = np.cbrt(
            InksOnMedia(narrow, sample.paper[thin], sample.shine[thin], values).predict(sample.device)
        )
        return np.concatenate([(seen - target).ravel() / _NOISE, (values - shared.middle) / shared.spread])

    found = _least(left, lambda x: _slopes(left, x), shared.middle)
    return InksOnMedia(shared, sample.paper, sample.shine, found)


def _first(samples: Sequence[Sample], inks: int) -> SharedInks:
    """Absorption of the fullest patch of each ink, no trapping, and the usual media."""
    densities = []
    for i in range(inks):
        rows = []
        for s in samples:
            alone = np.delete(s.device, i, axis=1).max(axis=1, initial=0.0) < 0.005
            top = s.light[alone & (s.device[:, i] >= s.device[alone, i].max() - 1e-6)].mean(axis=0)
            rows.append(-np.log(np.clip((top - 0.004) / (s.paper - 0.004), 2e-3, 1.0)))
        densities.append(np.maximum(np.mean(rows, axis=0), _LEAST))
    ink = np.append(np.log(np.diff(KNOTS)), np.log(2.2))
    middle = np.concatenate(
        [np.tile(ink, inks), [np.log(0.006), -1.5, 2.0, np.log(0.003), 0.0, np.log(1.7), 1.0]]
    )
    spread = np.concatenate(
        [np.tile([0.4] * (len(KNOTS) - 1) + [0.25], inks), [0.7, 0.7, 0.5, 0.7, 0.3, 0.15, 0.15]]
    )
    trapping = np.full((inks, inks), 0.06)
    return SharedInks(np.array(densities), trapping, np.array([0.3, 0.1, 0.5]), middle, spread)


def _fit_common(first: SharedInks, samples: Sequence[Sample]) -> tuple[SharedInks, Array]:
    """Absorption, trapping and each media's parameters (media, `size`) by least squares on few bands.

    The derivatives are differences; those that touch different media or bands share an evaluation.
    """
    inks, bands = first.absorption.shape
    media, size = len(samples), len(first.middle)
    targets = [np.cbrt(np.maximum(s.light, _FLOOR)) for s in samples]
    starts = np.cumsum([0, *(t.size for t in targets)])
    colours, pairs = inks * bands, inks * inks + _OF_ALL

    def parted(x: Array) -> tuple[SharedInks, Array]:
        shared = replace(
            first, absorption=np.exp(x[:colours]).reshape(inks, bands),
            trapping=x[colours : colours + inks * inks].reshape(inks, inks),
            growth=x[colours + inks * inks : colours + pairs],
        )  # fmt: skip
        return shared, x[colours + pairs :].reshape(media, size)

    def seen(x: Array) -> list[Array]:
        shared, values = parted(x)
        return [
            np.cbrt(InksOnMedia(shared, s.paper, s.shine, v).predict(s.device))
            for s, v in zip(samples, values)
        ]

    def held(x: Array) -> Array:
        """What parameters cost where they leave what is usual."""
        shared, values = parted(x)
        start = np.log(first.absorption).ravel()
        return np.concatenate([
            0.3 * (x[:colours] - start), (shared.trapping - 0.06).ravel() / 0.08,
            (shared.growth - first.growth) / 0.3,
            ((values - first.middle) / first.spread).ravel(),
        ])  # fmt: skip

    def left(x: Array) -> Array:
        rows = [(a - b).ravel() / _NOISE for a, b in zip(seen(x), targets)]
        return np.concatenate([*rows, held(x)])

    def slopes(x: Array) -> Array:
        base, h = seen(x), 1e-5
        out = np.zeros((starts[-1] + len(held(x)), len(x)))
        for i in range(inks):  # all bands at once: each touches its own
            moved = x.copy()
            moved[i * bands : (i + 1) * bands] += h
            for m, (a, b) in enumerate(zip(seen(moved), base)):
                part = ((a - b) / h / _NOISE).reshape(-1, bands)
                view = out[starts[m] : starts[m + 1]].reshape(-1, bands, len(x))
                for k in range(bands):
                    view[:, k, i * bands + k] = part[:, k]
        for p in range(colours, colours + pairs):
            moved = x.copy()
            moved[p] += h
            out[: starts[-1], p] = _flat(seen(moved), base) / h / _NOISE
        for q in range(size):  # all media at once
            moved = x.copy()
            moved[colours + pairs + q :: size] += h
            for m, (a, b) in enumerate(zip(seen(moved), base)):
                place = colours + pairs + m * size + q
                out[starts[m] : starts[m + 1], place] = (a - b).ravel() / h / _NOISE
        out[starts[-1] :] = _exact_slopes(held, x)
        return out

    x = np.concatenate([
        np.log(first.absorption).ravel(), first.trapping.ravel(), first.growth,
        np.tile(first.middle, media),
    ])  # fmt: skip
    return parted(_least(left, slopes, x))


def _least(left: Callable[[Array], Array], slopes: Callable[[Array], Array], x: Array) -> Array:
    """Least squares by Levenberg and Marquardt's steps over normal equations (Marquardt 1963).

    A step too far may overflow; it costs infinitely much then and is not taken.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        return _stepped(left, slopes, x)


def _stepped(left: Callable[[Array], Array], slopes: Callable[[Array], Array], x: Array) -> Array:
    now = left(x)
    cost, damp = float(now @ now), 1e-3
    for _ in range(_STEPS):
        jacobian = np.nan_to_num(slopes(x), posinf=0.0, neginf=0.0)
        gram, right = jacobian.T @ jacobian, jacobian.T @ now
        for _ in range(6):
            step = np.linalg.solve(gram + damp * np.diag(np.diagonal(gram)), right)
            after = left(x - step) if np.isfinite(step).all() else now
            found = float(after @ after)
            if found < cost:
                break
            damp *= 6.0
        else:
            return x
        x, now, gain, cost, damp = x - step, after, cost - found, found, max(damp / 6.0, 1e-9)
        if gain < _GAIN * cost:
            return x
    return x


def _slopes(left: Callable[[Array], Array], x: Array) -> Array:
    base = left(x)
    return np.stack([(left(x + step) - base) / 1e-5 for step in 1e-5 * np.eye(len(x))], axis=1)


def _flat(seen: list[Array], base: list[Array]) -> Array:
    return np.concatenate([(a - b).ravel() for a, b in zip(seen, base)])


def _exact_slopes(held: Callable[[Array], Array], x: Array) -> Array:
    """Slopes of a function that is linear in each parameter and touches one a row."""
    moved = (held(x + 1e-3) - held(x - 1e-3)) / 2e-3
    return np.diag(moved)


def _with_all_bands(shared: SharedInks, values: Array, samples: Sequence[Sample], bands: slice) -> SharedInks:
    """Absorption at every band, found band by band with everything else as it is."""
    thin = [s.thinned(_PATCHES, slice(None)) for s in samples]
    targets = [np.cbrt(np.maximum(s.light, _FLOOR)) for s in thin]
    count = samples[0].light.shape[1]
    at = np.arange(count)
    start = np.array([np.interp(at, at[bands], np.log(row)) for row in shared.absorption])
    for _ in range(14):  # Gauss-Newton
        full = replace(shared, absorption=np.exp(start))
        base = [
            np.cbrt(InksOnMedia(full, s.paper, s.shine, v).predict(s.device)) for s, v in zip(thin, values)
        ]
        miss = np.concatenate([t - b for t, b in zip(targets, base)])
        gradients = []
        for i in range(shared.inks):
            moved = start.copy()
            moved[i] += 1e-4
            other = replace(shared, absorption=np.exp(moved))
            seen = [
                np.cbrt(InksOnMedia(other, s.paper, s.shine, v).predict(s.device))
                for s, v in zip(thin, values)
            ]
            gradients.append((np.concatenate(seen) - np.concatenate(base)) / 1e-4)
        slope = np.stack(gradients, axis=2)
        gram = np.einsum("mbi,mbj->bij", slope, slope) + 1e-6 * np.eye(shared.inks)
        right = np.einsum("mbi,mb->bi", slope, miss)
        start = start + np.clip(np.linalg.solve(gram, right[..., None])[..., 0].T, -0.5, 0.5)
    return replace(shared, absorption=np.exp(start))
