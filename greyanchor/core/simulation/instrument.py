"""A strip-reading spectrophotometer with noise, a white tile and the odd slip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colorimetry import WAVELENGTHS, Array
from greyanchor.core.errors import NotReadable


@dataclass(frozen=True)
class StripReader:
    """Reads rows of patches as spectra, 380..730 nm at 10 nm.

    Attributes
    ----------
    serial
        Made-up serial number; seeds the small bias that every instrument has of its own.
    noise
        Repeatability, 1.0 for about 0.15 dE00 on a double reading of mixed patches.
    misread_rate
        Chance that a row is read wrongly by hand: shifted, backwards or short.
    calibration_minutes
        How long a white calibration holds.
    """

    serial: str = "SR-1042"
    noise: float = 1.0
    misread_rate: float = 0.04
    calibration_minutes: float = 30.0

    def read_row(self, spectra: Array, seed: tuple[int, ...], minutes_since_white: float | None) -> Array:
        """What the instrument sees of a row (n, 36), which for a slip may have another length.

        `seed` identifies sheet, pass, row and attempt: the same motion gives the same numbers.
        Raises `NotReadable` when the white calibration is missing or has expired.
        """
        if minutes_since_white is None:
            raise NotReadable("the instrument has not seen its white tile yet: calibrate, then read the row")
        if minutes_since_white > self.calibration_minutes:
            raise NotReadable(
                "the white calibration has expired: calibrate on the tile, then read the row again"
            )
        random = np.random.default_rng(list(seed))
        slip = random.random() < self.misread_rate
        kind = int(random.integers(3))
        seen = self._measure(spectra, random, minutes_since_white)
        if not slip or len(spectra) < 4:
            return seen
        if kind == 0:
            return seen[::-1]
        if kind == 1:
            return np.vstack([seen[1:], seen[-1:]])
        return seen[:-1]

    def measure(self, spectra: Array, seed: tuple[int, ...]) -> Array:
        """Spectra (n, 36) with noise alone: a careful hand, just after white calibration."""
        return self._measure(spectra, np.random.default_rng(list(seed)), 0.0)

    def _measure(self, spectra: Array, random: np.random.Generator, minutes: float) -> Array:
        n = len(spectra)
        x = (WAVELENGTHS - 555.0) / 175.0
        shapes = np.stack([np.ones_like(x), x, x**2 - 0.4])
        gain = 0.0080 * self.noise * random.standard_normal((n, 3)) * np.array([1.0, 0.7, 0.5]) @ shapes
        floor = 0.00020 * self.noise * random.standard_normal((n, len(x)))
        fine = 0.0050 * self.noise * random.standard_normal((n, len(x)))
        warm = 1.0 + 0.00002 * minutes
        return np.maximum(spectra * (1.0 + gain + fine) * warm + floor, 0.0)
