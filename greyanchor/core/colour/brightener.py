"""What brightener does to the white of a paper: under M0, M1 and M2, and in a booth with its own
ultraviolet.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array, delta_e_2000, spectra_to_lab
from greyanchor.core.colour.lighting import NM, LightSpectrum, daylight_from_300
from greyanchor.core.colour.metamers import UV_FROM
from greyanchor.core.errors import BadInput

#: where a paper without brightener is taken to lie on a straight line, nm
_PLAIN = (500, 600)
_EMITS = (410, 490)
#: K of light A, whose ultraviolet M0 has (ISO 13655)
_M0_KELVIN = 2856.0


@dataclass(frozen=True)
class Brightened:
    """A paper's brightener.

    Attributes
    ----------
    plain
        Reflectance (36,) without it, as estimated.
    emitted
        What it adds under M1 (36,).
    """

    plain: Array
    emitted: Array

    def under(self, share: float) -> Array:
        """Lab (3,), D50, with a share of the ultraviolet of M1."""
        return np.asarray(spectra_to_lab((self.plain + share * self.emitted)[None])[0])

    @property
    def strength(self) -> float:
        """dE00 that it makes of the white under M1."""
        return float(delta_e_2000(self.under(1.0), self.under(0.0)))


def excited(power: Array) -> float:
    """How much a light (481,) at 300..780 nm makes a brightener shine, beside what it sends in the blue, in
    shares of D50's: 1 for M1.
    """

    def of(light: Array) -> float:
        excitation = np.exp(-(((NM - 365.0) / 38.0) ** 2)) * (NM <= 460)
        return float(light @ excitation / light[(NM >= 430) & (NM <= 460)].mean())

    return of(np.asarray(power, dtype=float)) / of(daylight_from_300(5003.0))


def share_of(condition: str) -> float:
    """Share of M1's ultraviolet in a measurement condition (ISO 13655): M0 is taken to be light A, M2 and M3
    have none.
    """
    if condition == "M1":
        return 1.0
    if condition == "M0":
        nm = NM * 1e-9
        body = nm**-5.0 / np.expm1(1.438776877e-2 / (nm * _M0_KELVIN))
        return excited(body)
    if condition in ("M2", "M3"):
        return 0.0
    raise BadInput(f"there is no measurement condition {condition}; there are M0, M1, M2 and M3")


def share_in(light: LightSpectrum) -> float | None:
    """The same of a light; None where it was not measured far enough into the ultraviolet."""
    return excited(np.array(light.power)) if light.first <= UV_FROM else None


def brightener_of(white: Array, condition: str) -> Brightened | None:
    """The brightener of a paper by its reflectance (36,); None where the condition shows none.

    The plain paper is a straight line through 500 to 600 nm carried on to the blue, and never above where it
    is at 500 nm: what the reading stands above it between 410 and 490 nm is emitted. An estimate, to be said
    as one.
    """
    share = share_of(condition)
    if share < 0.05:
        return None
    seen = np.asarray(white, dtype=float)
    straight = (_PLAIN[0] <= WAVELENGTHS) & (_PLAIN[1] >= WAVELENGTHS)
    line = np.polyval(np.polyfit(WAVELENGTHS[straight], seen[straight], 1), WAVELENGTHS)
    line = np.minimum(line, float(seen[_PLAIN[0] == WAVELENGTHS][0]))
    where = (_EMITS[0] <= WAVELENGTHS) & (_EMITS[1] >= WAVELENGTHS)
    emitted = np.where(where, np.maximum(seen - line, 0.0), 0.0)
    return Brightened(seen - emitted, emitted / share)
