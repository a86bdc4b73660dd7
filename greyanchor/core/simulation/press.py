"""A spectral CMYK inkjet printer that behaves like one, faults included.

Device values ask for ink volume; dots spread by an amount that depends on media and settings;
film thickness follows from volume over covered area; the media holds only so much ink, past which
colour stalls, hooks and hazes; inks trap unevenly on one another. Light is mixed over the
Neugebauer primaries, two to the power of the inks (whose thickness changes from patch to patch) in Yule-
Nielsen space.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.inks import extra_absorption, ink_absorption

_PRINT_ORDER = (3, 0, 1, 2, 4, 5, 6, 7)
_MOST_INKS = 8
WHITE = "W"
#: reflectance of a thick layer of white ink, and how much of what is below it one full layer hides
_WHITE_LIGHT, _HIDES = 0.86, 2.3
#: spectra are mixed for this many patches at a time: seven inks have 128 overprints each
_BLOCK = 1024
_EXCITATION = {"M0": 0.7, "M1": 1.0, "M2": 0.0, "M3": 0.0}


@dataclass(frozen=True)
class MediaModel:
    """What a media does to ink and light.

    Attributes
    ----------
    white
        Reflectance factor of the base without brightener, around 600 nm.
    tint
        Loss of reflectance from 730 nm down to 380 nm (yellowness of the base).
    brightener
        Peak gain of reflectance factor near 440 nm under M1.
    spread
        Dot gain, 1.0 for a coated proofing paper.
    capacity
        Volume of one ink, relative to nominal full, that the coating takes up.
    total_capacity
        The same for all inks together.
    surface
        Light reflected by the surface that never meets ink.
    grain
        Relative unevenness of the ink film at eight passes.
    best_heat
        Platen temperature it likes, in degrees Celsius.
    """

    name: str = "Harbour Proof Semimatt 235"
    white: float = 0.90
    tint: float = 0.06
    brightener: float = 0.05
    spread: float = 1.0
    capacity: float = 1.0
    total_capacity: float = 2.6
    surface: float = 0.006
    grain: float = 0.004
    best_heat: float = 36.0

    def base(self) -> Array:
        """Reflectance factor (36,) of the media without brightener."""
        x = (WAVELENGTHS - 380.0) / 350.0
        cut = 1.0 - 0.30 / (1.0 + np.exp((WAVELENGTHS - 392.0) / 8.0))
        return self.white * (1.0 - self.tint * (1.0 - x) ** 2) * cut

    def emission(self) -> Array:
        """Reflectance factor (36,) that the brightener adds under full M1 excitation."""
        distance = WAVELENGTHS - 438.0
        return self.brightener * np.exp(-0.5 * (distance / np.where(distance < 0, 14.0, 26.0)) ** 2)


@dataclass(frozen=True)
class PrintState:
    """What differs between two sheets of one environment.

    `volume` (inks,) multiplies each ink; `slope` (2, inks) changes it across and along the sheet from
    -half to +half; all are small numbers around 1 and 0. `wet` is 1 for a sheet just printed and 0
    for a dry one: wet ink lies thicker and shines, so that it reads darker and purer.
    """

    volume: Array
    slope: Array
    wet: float = 0.0

    @classmethod
    def nominal(cls) -> PrintState:
        """The machine on its best day: the truth that benchmarks are held against."""
        return cls(np.ones(_MOST_INKS), np.zeros((2, _MOST_INKS)))


@dataclass(frozen=True)
class SimulatedPress:
    """The stand-in printer for one environment.

    `overdrive` is the ink volume at a device value of 100 %, relative to what the coating was
    made for; raw machines can lay down more than is good. `extras` are further inks after C, M, Y and K;
    `lights` inks of other weights after those: name, place of the pigment among the inks, and strength as a
    share of the full ink's. `white` printers have white ink after all of them, `white_over` whether it is
    printed over the colours. `driven` printers take R, G and B and part them among their inks themselves.
    """

    media: MediaModel
    environment: PrintEnvironment
    overdrive: float = 1.30
    absorption: Array | None = None
    lights: tuple[tuple[str, int, float], ...] = ()
    extras: tuple[str, ...] = ()
    driven: bool = False
    white: bool = False
    white_over: bool = False

    @property
    def channels(self) -> tuple[str, ...]:
        """Raw channels in printing order."""
        return (*"CMYK", *self.extras, *(name for name, _, _ in self.lights), *([WHITE] * self.white))

    @property
    def inks(self) -> int:
        """Number of pigments: light inks have their parents'."""
        return 4 + len(self.extras)

    def as_raw(self, values: Array, channels: tuple[str, ...]) -> Array:
        """Raw device values (n, inks) of values (n, channels); channels that are not named stay empty.

        Raises `BadInput` when the printer has no such channel.
        """
        if channels == ("R", "G", "B"):
            if not self.driven:
                raise BadInput("this stand-in printer takes amounts of ink, not R, G and B")
            return _driver(values)
        known = self.channels
        foreign = [c for c in channels if c not in known]
        if foreign or not channels:
            took = "R G B, or " * self.driven + " ".join(known)
            raise BadInput(
                f"the stand-in printer prints {took}, not {'+'.join(channels) or 'charts without channels'}"
            )
        width = len(known) if any(c in known[self.inks :] for c in channels) else self.inks
        raw = np.zeros((len(values), width))
        raw[:, [known.index(c) for c in channels]] = values
        return raw

    @property
    def _alpha(self) -> Array:
        if self.absorption is not None:
            return self.absorption
        return np.vstack(
            [ink_absorption(self.environment.ink_set), *(extra_absorption(e) for e in self.extras)]
        )

    @property
    def spread(self) -> float:
        """Dot gain of media and settings together."""
        hurry = np.log2(8.0 / self.environment.passes)
        cold = max(0.0, self.media.best_heat - self.environment.heat - 4.0) / 20.0
        bidirectional = 0.03 if self.environment.direction == "both ways" else 0.0
        coarse = 0.04 * np.log2(1200.0 / self.environment.resolution)
        return float(self.media.spread * (1.0 + 0.07 * hurry + 0.18 * cold + bidirectional + coarse))

    @property
    def grain(self) -> float:
        """Relative unevenness of the ink film from patch to patch."""
        hurry = 8.0 / self.environment.passes
        hot = max(0.0, self.environment.heat - self.media.best_heat - 6.0) / 10.0
        loose = max(0.0, 30.0 - self.environment.vacuum) / 30.0
        diffusion = 1.15 if self.environment.halftone == "error diffusion" else 1.0
        return float(self.media.grain * diffusion * (hurry**0.7 + 1.2 * hot + 0.8 * loose))

    @property
    def capacity(self) -> float:
        """How much of one ink the media takes under these settings."""
        hurry = np.log2(8.0 / self.environment.passes)
        off = abs(self.environment.heat - self.media.best_heat)
        harm = max(0.0, off - 5.0) / 40.0
        return float(self.media.capacity * (1.0 - 0.05 * hurry - harm))

    def sheet(
        self, seed: int, age_days: float = 0.0, drift_by: Array | None = None, wet: float = 0.0
    ) -> PrintState:
        """The state of the machine for the sheet numbered `seed`, `age_days` after its calibration.

        `drift_by` (inks,), or (4,) for C, M, Y and K alone, multiplies the ink volumes on top; `wet` is how
        much of its drying is still to come.
        """
        random = np.random.default_rng([seed, 7])
        drift = np.ones(self.inks)
        drift[:4] += np.array([-0.0011, 0.0006, -0.0002, 0.0003]) * age_days
        if drift_by is not None:
            drift[: len(drift_by)] *= drift_by
        hot = max(0.0, self.environment.heat - self.media.best_heat - 6.0) / 10.0
        return PrintState(
            volume=drift * (1.0 + 0.002 * random.standard_normal(self.inks)),
            slope=(0.002 + 0.01 * hot) * random.standard_normal((2, self.inks)),
            wet=wet,
        )

    def spectra(
        self,
        device: npt.ArrayLike,
        state: PrintState | None = None,
        place: Array | None = None,
        seed: int | None = None,
        condition: str = "M1",
    ) -> Array:
        """Reflectance (n, 36) of printed device values (n, inks), or (n, inks + light inks), fractions.

        Parameters
        ----------
        state
            The sheet's state; the nominal machine when None.
        place
            Position of each patch on the sheet (n, 2), -0.5..0.5 across and along.
        seed
            Seeds the grain; no grain when None.
        condition
            ISO 13655 condition: brightener is excited under M0 and M1 only.
        """
        asked = np.clip(np.asarray(device, dtype=float), 0.0, 1.0)
        state = state or PrintState.nominal()
        asked, covered = self._without_white(asked)
        parents = [*range(self.inks), *(parent for _, parent, _ in self.lights)][: asked.shape[1]]
        volume = asked * self.overdrive * state.volume[parents]
        if place is not None:
            volume = volume * (1.0 + place @ state.slope[:, parents])
        if seed is not None:
            noise = np.random.default_rng([seed, 11]).standard_normal(volume.shape)
            # the same pigment in more and paler dots is as the root of their strength as uneven
            fine = [1.0] * self.inks + [float(np.sqrt(strength)) for _, _, strength in self.lights]
            volume = volume * np.maximum(1.0 + self.grain * np.array(fine[: volume.shape[1]]) * noise, 0.0)
        folded = self._folded(volume)
        blocks = [folded[i : i + _BLOCK] for i in range(0, len(folded), _BLOCK)] or [folded]
        seen = np.vstack([self._light(block, condition, state.wet) for block in blocks])
        return seen if covered is None else self._under_white(seen, covered)

    def _without_white(self, asked: Array) -> tuple[Array, Array | None]:
        """Raw values without those of white ink, and these (n,), where there are any."""
        inks = self.inks + len(self.lights)
        return (asked[:, :inks], asked[:, inks]) if self.white and asked.shape[1] > inks else (asked, None)

    def _under_white(self, seen: Array, white: Array) -> Array:
        """Reflectance (n, 36) with a layer of white ink over the colours, or between them and the media: it
        hides what is below it, and scatters light of its own (two layers with light between them).
        """
        hides = (1.0 - np.exp(-_HIDES * white * (1.0 + 0.35 * white)))[:, None]
        own = _WHITE_LIGHT * hides * (1.0 - 0.05 * (WAVELENGTHS < 410.0))
        if self.white_over:
            return np.asarray(own + (1.0 - hides) ** 2 * seen / (1.0 - own * seen))
        base = self.media.base()
        laid = own + (1.0 - hides) ** 2 * base / (1.0 - own * base)
        return np.asarray(seen * laid / base)

    def printed_volume(self, device: Array) -> Array:
        """Ink volume (n, inks) of raw device values on the machine's best day, 1.0 for nominal full; white
        ink does not count.
        """
        inks, _ = self._without_white(np.clip(np.asarray(device, dtype=float), 0.0, 1.0))
        return self._folded(inks * self.overdrive)

    def _folded(self, volume: Array) -> Array:
        """Light ink as the volume (n, inks) of its parent that has the same pigment."""
        whole = volume[:, : self.inks].copy()
        for (_, parent, strength), light in zip(self.lights, volume[:, self.inks :].T):
            whole[:, parent] += strength * light
        return whole

    def _light(self, volume: Array, condition: str, wet: float = 0.0) -> Array:
        total = volume.sum(axis=1, keepdims=True)
        over = _softplus(volume - self.capacity, 0.05)
        flood = _softplus(total - self.media.total_capacity * self.capacity, 0.12)
        area = 1.0 - np.exp(-2.5 * self.spread * volume * (1.0 + 0.55 * volume))
        film = volume / np.maximum(area, 1e-9)
        film = np.where(volume > 1e-9, film, 1.0 / (2.5 * self.spread))
        film = 2.5 * film / (1.0 + 0.30 * film)  # deeper ink works less
        film = film * np.exp(-0.9 * over) / (1.0 + 0.30 * flood) * (1.0 + 0.05 * wet)
        haze = (
            self.media.surface * (1.0 - 0.4 * wet)
            + 0.012 * over.sum(axis=1) ** 1.5
            + 0.006 * flood[:, 0] ** 1.5
        )
        subsets = _subsets(self.inks)
        order = [i for i in _PRINT_ORDER if i < self.inks]
        trapping = np.ones(subsets.shape)
        for position, ink in enumerate(order):
            for earlier in order[:position]:
                trapping[:, ink] *= 1.0 - (0.05 + 0.02 * min(position, 3)) * subsets[:, earlier]
        thickness = film[:, None, :] * (subsets * trapping)[None]
        density = thickness @ self._alpha
        through = 10.0 ** (-density)
        n = 1.7
        reflect = haze[:, None, None] + (1.0 - haze[:, None, None]) * self.media.base() * through
        root = reflect ** (1.0 / n)
        demichel = np.prod(np.where(subsets[None] > 0, area[:, None, :], 1.0 - area[:, None, :]), axis=2)
        mixed = np.einsum("ns,nsb->nb", demichel, root) ** n
        excited = _EXCITATION[condition] * np.einsum("ns,ns->n", demichel, through[:, :, :3].mean(axis=2))
        mean_through = np.einsum("ns,nsb->nb", demichel, through)
        return np.asarray(mixed + excited[:, None] * mean_through * self.media.emission())


@lru_cache(maxsize=4)
def _subsets(inks: int) -> Array:
    """The overprints of `inks` inks as rows of 0 and 1."""
    return np.array([[(s >> i) & 1 for i in range(inks)] for s in range(2**inks)], dtype=float)


def _driver(rgb: Array) -> Array:
    """Raw C, M, Y and K (n, 4) of R, G and B (n, 3): what a printer that takes pictures does by itself."""
    colour = 1.0 - np.clip(rgb, 0.0, 1.0)
    grey = colour.min(axis=1, keepdims=True)
    black = np.clip((grey - 0.3) / 0.7, 0.0, 1.0) ** 1.7
    colour = np.clip(colour - 0.55 * black, 0.0, 1.0)
    return np.hstack([0.74 * colour**1.3, 0.80 * black])


def _softplus(x: Array, width: float) -> Array:
    return width * np.logaddexp(0.0, x / width)
