"""A spectral CMYK inkjet printer that behaves like one, faults included.

Device values ask for ink volume; dots spread by an amount that depends on media and settings;
film thickness follows from volume over covered area; the media holds only so much ink, past which
colour stalls, hooks and hazes; inks trap unevenly on one another. Light is mixed over the
sixteen Neugebauer primaries (whose thickness changes from patch to patch) in Yule-Nielsen space.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from greyanchor.core.colorimetry import WAVELENGTHS, Array
from greyanchor.core.environment import PrintEnvironment
from greyanchor.core.simulation.inks import ink_absorption

_SUBSETS = np.array([[(s >> i) & 1 for i in range(4)] for s in range(16)], dtype=float)
_PRINT_ORDER = (3, 0, 1, 2)
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

    `volume` (4,) multiplies each ink; `slope` (2, 4) changes it across and along the sheet from
    -half to +half; all are small numbers around 1 and 0. `wet` is 1 for a sheet just printed and 0
    for a dry one: wet ink lies thicker and shines, so that it reads darker and purer.
    """

    volume: Array
    slope: Array
    wet: float = 0.0

    @classmethod
    def nominal(cls) -> PrintState:
        """The machine on its best day: the truth that benchmarks are held against."""
        return cls(np.ones(4), np.zeros((2, 4)))


@dataclass(frozen=True)
class SimulatedPress:
    """The stand-in printer for one environment.

    `overdrive` is the ink volume at a device value of 100 %, relative to what the coating was
    made for; raw machines can lay down more than is good. `lights` are light inks after the first
    four: the channel each belongs to, and its strength as a share of its parent's.
    """

    media: MediaModel
    environment: PrintEnvironment
    overdrive: float = 1.30
    absorption: Array | None = None
    lights: tuple[tuple[int, float], ...] = ()

    @property
    def channels(self) -> tuple[str, ...]:
        """Raw channels in printing order."""
        return (*"CMYK", *(f"L{'CMYK'[parent]}" for parent, _ in self.lights))

    @property
    def _alpha(self) -> Array:
        return ink_absorption(self.environment.ink_set) if self.absorption is None else self.absorption

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

        `drift_by` (4,) multiplies the ink volumes on top; `wet` is how much of its drying is still to come.
        """
        random = np.random.default_rng([seed, 7])
        drift = 1.0 + np.array([-0.0011, 0.0006, -0.0002, 0.0003]) * age_days
        drift = drift if drift_by is None else drift * drift_by
        hot = max(0.0, self.environment.heat - self.media.best_heat - 6.0) / 10.0
        return PrintState(
            volume=drift * (1.0 + 0.002 * random.standard_normal(4)),
            slope=(0.002 + 0.01 * hot) * random.standard_normal((2, 4)),
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
        """Reflectance (n, 36) of printed device values (n, 4), or (n, 4 + light inks), fractions.

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
        parents = [*range(4), *(parent for parent, _ in self.lights)][: asked.shape[1]]
        volume = asked * self.overdrive * state.volume[parents]
        if place is not None:
            volume = volume * (1.0 + place @ state.slope[:, parents])
        if seed is not None:
            noise = np.random.default_rng([seed, 11]).standard_normal(volume.shape)
            volume = volume * np.maximum(1.0 + self.grain * noise, 0.0)
        return self._light(self._folded(volume), condition, state.wet)

    def printed_volume(self, device: Array) -> Array:
        """Ink volume (n, 4) of raw device values on the machine's best day, 1.0 for nominal full."""
        return self._folded(np.clip(np.asarray(device, dtype=float), 0.0, 1.0) * self.overdrive)

    def _folded(self, volume: Array) -> Array:
        """Light ink as the volume (n, 4) of its parent that has the same pigment."""
        whole = volume[:, :4].copy()
        for (parent, strength), light in zip(self.lights, volume[:, 4:].T):
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
        trapping = np.ones((16, 4))
        for position, ink in enumerate(_PRINT_ORDER):
            for earlier in _PRINT_ORDER[:position]:
                trapping[:, ink] *= 1.0 - (0.05 + 0.02 * position) * _SUBSETS[:, earlier]
        thickness = film[:, None, :] * (_SUBSETS * trapping)[None]
        density = thickness @ self._alpha
        through = 10.0 ** (-density)
        n = 1.7
        reflect = haze[:, None, None] + (1.0 - haze[:, None, None]) * self.media.base() * through
        root = reflect ** (1.0 / n)
        demichel = np.prod(np.where(_SUBSETS[None] > 0, area[:, None, :], 1.0 - area[:, None, :]), axis=2)
        mixed = np.einsum("ns,nsb->nb", demichel, root) ** n
        excited = _EXCITATION[condition] * np.einsum("ns,ns->n", demichel, through[:, :, :3].mean(axis=2))
        mean_through = np.einsum("ns,nsb->nb", demichel, through)
        return np.asarray(mixed + excited[:, None] * mean_through * self.media.emission())


def _softplus(x: Array, width: float) -> Array:
    return width * np.logaddexp(0.0, x / width)
