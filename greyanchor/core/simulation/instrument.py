"""Spectrophotometers with noise, a white tile and the odd slip: by hand, on a table, inside the printer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.errors import NotReadable


@dataclass(frozen=True)
class Spot:
    """What lies under the aperture: `grain` is the relative unevenness of the ink film that one reading
    catches, `dots` how many readings of a patch are averaged."""

    grain: float = 0.0
    dots: int = 1


@dataclass(frozen=True)
class Spectrophotometer:
    """Reads patches as spectra, 380..730 nm at 10 nm.

    Attributes
    ----------
    serial
        Made-up serial number.
    noise
        Repeatability, 1.0 for about 0.15 dE00 on a double reading of mixed patches.
    misread_rate
        Chance of a slip: a row read by hand shifted, backwards or short, or a corner set beside its place.
    calibration_minutes
        How long a white calibration holds.
    """

    serial: str = "SR-1042"
    noise: float = 1.0
    misread_rate: float = 0.04
    calibration_minutes: float = 30.0

    def measure(self, spectra: Array, seed: tuple[int, ...], spot: Spot = Spot()) -> Array:
        """Spectra (n, 36) with noise alone: a careful hand, just after white calibration."""
        return self._measure(spectra, np.random.default_rng(list(seed)), 0.0, spot)

    def _check_white(self, minutes: float | None) -> float:
        if minutes is None:
            raise NotReadable("the instrument has not seen its white tile yet: calibrate, then read the row")
        if minutes > self.calibration_minutes:
            raise NotReadable(
                "the white calibration has expired: calibrate on the tile, then read the row again"
            )
        return minutes

    def _measure(self, spectra: Array, random: np.random.Generator, minutes: float, spot: Spot) -> Array:
        n = len(spectra)
        x = (WAVELENGTHS - 555.0) / 175.0
        shapes = np.stack([np.ones_like(x), x, x**2 - 0.4])
        gain = 0.0080 * self.noise * random.standard_normal((n, 3)) * np.array([1.0, 0.7, 0.5]) @ shapes
        floor = 0.00020 * self.noise * random.standard_normal((n, len(x)))
        fine = 0.0050 * self.noise * random.standard_normal((n, len(x)))
        warm = 1.0 + 0.00002 * minutes
        if spot.grain > 0:
            film = 1.0 + spot.grain / np.sqrt(spot.dots) * random.standard_normal((n, 1))
            paper = spectra.max(axis=1, keepdims=True)
            spectra = paper * (np.maximum(spectra, 1e-6) / paper) ** film
        return np.maximum(spectra * (1.0 + gain + fine) * warm + floor, 0.0)


@dataclass(frozen=True)
class StripReader(Spectrophotometer):
    """Pushed along one row at a time by hand."""

    def read_row(
        self, spectra: Array, seed: tuple[int, ...], minutes_since_white: float | None, spot: Spot = Spot()
    ) -> Array:
        """What the instrument sees of a row (n, 36), which for a slip may have another length.

        `seed` identifies sheet, pass, row and attempt: the same motion gives the same numbers.
        Raises `NotReadable` when the white calibration is missing or has expired.
        """
        minutes = self._check_white(minutes_since_white)
        random = np.random.default_rng(list(seed))
        slip = random.random() < self.misread_rate
        kind = int(random.integers(3))
        seen = self._measure(spectra, random, minutes, spot)
        if not slip or len(spectra) < 4:
            return seen
        if kind == 0:
            return seen[::-1]
        if kind == 1:
            return np.vstack([seen[1:], seen[-1:]])
        return seen[:-1]


@dataclass(frozen=True)
class SheetReader(Spectrophotometer):
    """Reads a whole sheet alone: on a table after three corners were set, or inside the printer."""

    def corner(self, place: Array, seed: tuple[int, ...]) -> Array:
        """Where the head stands (2,), mm, when a hand has set it on a corner at `place`; off by a patch for a
        slip.
        """
        random = np.random.default_rng(list(seed))
        slip = random.random() < self.misread_rate
        at = place + 0.25 * random.standard_normal(2)
        return at + (np.array([8.0, -6.0]) if slip else 0.0)

    def read_sheet(
        self, spectra: Array, seed: tuple[int, ...], minutes_since_white: float | None, spot: Spot = Spot()
    ) -> Array:
        """Spectra (n, 36) of a sheet; `NotReadable` when the white calibration is missing or has expired."""
        minutes = self._check_white(minutes_since_white)
        return self._measure(spectra, np.random.default_rng(list(seed)), minutes, spot)
