"""How far pairs of colours that match in daylight part company under a light.

ISO/CIE 23603 judges lights that stand for daylight by such pairs. Its specimens are tables of a purchased
standard; those here are our own, made by the same principle: each pair matches exactly under D50 for the 10
degree observer, and one of it differs in spectrum (visible) or fluoresces (ultraviolet). Their size is set so
that the pairs of the visible part by 5 dE*ab under light A. The index therefore ranks lights as the standard
does without being a certificate of it.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_76, xyz_to_lab
from greyanchor.core.colour.illuminants import light
from greyanchor.core.colour.lighting import (
    NM,
    SEEN,
    LightSpectrum,
    daylight_from_300,
    daylight_seen,
    tables,
)

#: lowest wavelength, nm, that a light must be measured from for its index in the ultraviolet
UV_FROM = 350.0
#: largest index of each class of ISO/CIE 23603
CLASSES = (("A", 0.25), ("B", 0.5), ("C", 1.0), ("D", 2.0))
_APART_UNDER_A = 5.0
_EXCITED = slice(0, 161)  # 300 to 460 nm
#: peaks, nm, of five smooth colours: grey, red, yellow, green and blue, and how far they rise
_COLOURS = ((560.0, 0.0), (640.0, 0.45), (590.0, 0.5), (530.0, 0.35), (455.0, 0.4))
#: of each: where a band is added (peak and width, nm), and the three bands that take away what is seen of it
_BANDS = (
    (495.0, 28.0, (445.0, 545.0, 610.0)),
    (580.0, 26.0, (450.0, 535.0, 625.0)),
    (505.0, 24.0, (440.0, 550.0, 605.0)),
    (590.0, 22.0, (455.0, 540.0, 630.0)),
    (485.0, 30.0, (435.0, 555.0, 615.0)),
)
#: brightened papers and a fluorescent ink: reflectance, peak of what is emitted (nm), how much
_FLUORESCENT = ((0.86, 440.0, 0.16), (0.82, 452.0, 0.09), (0.55, 478.0, 0.22))


def class_of(index: float) -> str:
    """Class A to E of an index (ISO/CIE 23603)."""
    return next((name for name, most in CLASSES if index <= most), "E")


def _lab(power: Array, reflected: Array) -> Array:
    """Lab (n, 3) of radiance factors (n, 401) under a light (401,), 10 degree observer."""
    observer = tables()["observer10"]
    k = 100.0 / float(power @ observer[:, 1])
    return xyz_to_lab(k * (reflected * power) @ observer, k * power @ observer)


@lru_cache(maxsize=1)
def _pairs() -> tuple[Array, Array]:
    """Five standards and their metamers under D50 (5, 401) each."""
    nm = NM[SEEN].astype(float)
    standards = np.array([0.34 + rise * np.exp(-(((nm - peak) / 55.0) ** 2)) for peak, rise in _COLOURS])
    seen = tables()["observer10"] * daylight_seen(5003.0)[:, None]
    others = []
    under_a = light("A")[20:]
    for standard, (peak, width, taken) in zip(standards, _BANDS):
        band = np.exp(-(((nm - peak) / width) ** 2))
        away = np.exp(-(((nm[:, None] - np.array(taken)) / 32.0) ** 2))
        black = band - away @ np.linalg.solve(seen.T @ away, seen.T @ band)
        small = standard + 0.01 * black
        apart = float(delta_e_76(_lab(under_a, standard[None]), _lab(under_a, small[None]))[0])
        others.append(standard + 0.01 * black * _APART_UNDER_A / apart)
    return standards, np.array(others)


def visible_index(power: Array) -> float:
    """Mean dE*ab of the five pairs under a light (401,) at 380..780 nm, after ISO/CIE 23603."""
    standards, others = _pairs()
    return float(delta_e_76(_lab(power, standards), _lab(power, others)).mean())


@lru_cache(maxsize=1)
def _fluorescent() -> tuple[Array, Array, Array, Array]:
    """Reflectance (3, 401), emission (3, 401), excitation (161,) and what they look like under D50 in all
    (3, 401).
    """
    nm = NM[SEEN].astype(float)
    excitation = np.exp(-(((NM[_EXCITED] - 365.0) / 38.0) ** 2))
    dark = 1.0 / (1.0 + np.exp((405.0 - nm) / 6.0))  # a brightener takes what excites it
    reflected = np.array([level * (0.25 + 0.75 * dark) for level, _, _ in _FLUORESCENT])
    shape = np.array(
        [np.exp(-(((nm - peak) / np.where(nm < peak, 18.0, 42.0)) ** 2)) for _, peak, _ in _FLUORESCENT]
    )
    day = daylight_from_300(5003.0)
    strength = np.array([much for _, _, much in _FLUORESCENT])[:, None]
    # so that each adds its share at its peak under D50
    held = strength * shape * float(day[NM == 440][0]) / float(day[_EXCITED] @ excitation)
    total = reflected + held * float(day[_EXCITED] @ excitation) / day[SEEN]
    return reflected, held, excitation, total


def ultraviolet_index(spectrum: LightSpectrum) -> float | None:
    """Mean dE*ab of three fluorescent specimens and standards that match them under D50, after ISO/CIE
    23603; None where the light was not measured down to `UV_FROM`. Below where it was measured, it is taken
    to fall as daylight does.
    """
    if spectrum.first > UV_FROM:
        return None
    reflected, emitted, excitation, standards = _fluorescent()
    power = np.array(spectrum.power)
    day = daylight_from_300(5003.0)
    edge = round(spectrum.first) - int(NM[0])
    power[:edge] = day[:edge] * power[edge] / day[edge]
    seen = power[SEEN]
    lit = np.maximum(seen, 1e-6 * seen.max())
    total = reflected + emitted * float(power[_EXCITED] @ excitation) / lit
    return float(delta_e_76(_lab(lit, standards), _lab(lit, total)).mean())
