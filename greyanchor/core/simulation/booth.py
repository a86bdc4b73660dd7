"""Simulated viewing booths: daylight tubes that age, beside windows."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.optimize import nnls

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.illuminants import cie_table
from greyanchor.core.colour.lighting import EFFICACY, NM, SEEN, daylight_from_300, tables

#: phosphors, nm: peak and width
_PHOSPHORS = ((412.0, 22.0), (448.0, 24.0), (478.0, 26.0), (515.0, 28.0), (552.0, 32.0), (592.0, 34.0),
              (632.0, 36.0), (668.0, 34.0))  # fmt: skip
#: lines of mercury, nm, and their share of the light
_LINES = ((365.0, 0.006), (404.7, 0.004), (435.8, 0.012), (546.1, 0.012), (578.0, 0.004))
#: what they let out below what is seen, nm: peak, width, and its share of daylight's power there
_ULTRAVIOLET = (362.0, 30.0, 0.75)
#: hours in which each phosphor loses a third of its light; the blue ones go first
_LASTS = (9000.0, 11000.0, 16000.0, 30000.0, 45000.0, 60000.0, 80000.0, 80000.0)


@dataclass(frozen=True)
class Booth:
    """A booth as it stands.

    Attributes
    ----------
    hours
        Hours that its tubes have burned.
    lux
        Of new tubes in its middle.
    window
        lx of daylight of 7,500 K that falls in beside them.
    evenness
        Share of the middle's light that reaches its corners.
    """

    hours: float = 0.0
    lux: float = 2050.0
    window: float = 0.0
    evenness: float = 0.86

    def power(self, spot: int = 0) -> Array:
        """W/m2/nm (481,) at 300..780 nm, in the middle (spot 0) or at one of its corners (1 to 4)."""
        shares, shapes = _tube()
        aged = shares * (2.0 / 3.0) ** (self.hours / np.array([*_LASTS, 60000.0, 9000.0]))
        tube = aged @ shapes * self.lux
        spread = 1.0 if spot == 0 else self.evenness - 0.03 * (spot % 3)
        day = daylight_from_300(7500.0)
        return np.asarray(spread * tube + self.window * day / _lux(day))


def _lux(power: Array) -> float:
    return float(EFFICACY * power[SEEN] @ cie_table()["y"][20:])


@lru_cache(maxsize=1)
def _tube() -> tuple[Array, Array]:
    """Shares (10,) and shapes (10, 481) of phosphors, lines and ultraviolet that make 1 lx of about D50."""
    shapes = np.array([np.exp(-(((NM - peak) / width) ** 2)) for peak, width in _PHOSPHORS])
    lines = sum(share * np.exp(-(((NM - at) / 3.0) ** 2)) for at, share in _LINES)
    day = daylight_from_300(5003.0)
    day, lines = day / _lux(day), lines / _lux(np.asarray(lines)) * 0.03
    seen = tables()["observer10"]
    # their form, and above all their colour, are daylight's
    colour = 400.0 * seen.T / np.linalg.norm(seen.T @ day[SEEN])
    rows = np.vstack([np.eye(401) / np.linalg.norm(day), colour])
    shares, _ = nnls(rows @ shapes[:, SEEN].T, rows @ (day - lines)[SEEN])
    peak, width, share = _ULTRAVIOLET
    below = share * np.interp(peak, NM, day) * np.exp(-(((NM - peak) / width) ** 2))
    made = np.append(shares, [1.0, 1.0])
    shapes = np.vstack([shapes, np.asarray(lines), below])
    return made / _lux(made @ shapes), shapes


@dataclass(frozen=True)
class LightMeter:
    """A spectral light meter, 340 to 780 nm in steps of 5 nm.

    Attributes
    ----------
    noise
        Repeatability of its scale, and a tenth of it of each band.
    dark
        W/m2/nm that it reports in the dark until it was calibrated on the dark.
    """

    noise: float = 0.004
    dark: float = 0.0004

    def read(self, power: Array, seed: tuple[int, ...], is_zeroed: bool = True) -> tuple[Array, Array]:
        """Wavelengths (89,) and W/m2/nm (89,) of a light (481,)."""
        random = np.random.default_rng(list(seed))
        nm = np.arange(340.0, 781.0, 5.0)
        # a slit of 5 nm
        kernel = np.maximum(1.0 - np.abs(NM[None, :] - nm[:, None]) / 5.0, 0.0)
        seen = kernel @ power / kernel.sum(axis=1)
        scale = 1.0 + self.noise * random.standard_normal()
        bands = 1.0 + 0.1 * self.noise * random.standard_normal(len(nm))
        return nm, np.asarray(seen * scale * bands + (0.0 if is_zeroed else self.dark))
