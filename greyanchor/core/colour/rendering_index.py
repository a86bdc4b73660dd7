"""How colours look under a light beside daylight or a black body of its temperature: Ra, Rf and Rg."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.illuminants import cie_table
from greyanchor.core.colour.lighting import colour_temperature, reference, tables

_CAT02 = np.array([[0.7328, 0.4296, -0.1624], [-0.7036, 1.6975, 0.0061], [0.0030, 0.0136, 0.9834]])
_HPE = np.array(
    [[0.38971, 0.68898, -0.07868], [-0.22981, 1.18340, 0.04641], [0.0, 0.0, 1.0]]
) @ np.linalg.inv(_CAT02)
_HUE_BINS = 16


def special_indices(power: Array) -> Array:
    """R1 to R14 (14,) of a light (401,) at 380..780 nm (CIE 13.3-1995). Ra is the mean of the first eight."""
    light = np.asarray(power, dtype=float)
    against = reference(colour_temperature(light)[0], blend=False)
    table = cie_table()
    observer = np.column_stack([table["x"], table["y"], table["z"]])[20:]

    def uvy(lit: Array) -> tuple[Array, Array, Array]:
        k = 100.0 / float(lit @ observer[:, 1])
        xyz = k * np.vstack([lit, (tables()["tcs"] * lit[:, None]).T]) @ observer
        below = xyz[:, 0] + 15.0 * xyz[:, 1] + 3.0 * xyz[:, 2]
        return 4.0 * xyz[:, 0] / below, 6.0 * xyz[:, 1] / below, xyz[:, 1]

    u, v, y = uvy(light)
    ur, vr, yr = uvy(against)

    def c(u: Array, v: Array) -> Array:
        return (4.0 - u - 10.0 * v) / v

    def d(u: Array, v: Array) -> Array:
        return (1.708 * v + 0.404 - 1.481 * u) / v

    # von Kries: the light's own white is carried onto that of the reference
    cs = c(ur[:1], vr[:1]) / c(u[:1], v[:1]) * c(u, v)
    ds = d(ur[:1], vr[:1]) / d(u[:1], v[:1]) * d(u, v)
    below = 16.518 + 1.481 * cs - ds
    u, v = (10.872 + 0.404 * cs - 4.0 * ds) / below, 5.520 / below

    def uvw(u: Array, v: Array, y: Array) -> Array:
        w = 25.0 * np.cbrt(y[1:]) - 17.0
        return np.stack([13.0 * w * (u[1:] - ur[0]), 13.0 * w * (v[1:] - vr[0]), w], axis=1)

    away = np.linalg.norm(uvw(u, v, y) - uvw(ur, vr, yr), axis=1)
    return np.asarray(100.0 - 4.6 * away)


@dataclass(frozen=True)
class Fidelity:
    """Colour fidelity `rf` and gamut `rg` of a light, 100 where it renders as its reference does."""

    rf: float
    rg: float


def fidelity(power: Array) -> Fidelity:
    """Rf (CIE 224:2017) and Rg (ANSI/IES TM-30) of a light (401,) at 380..780 nm."""
    light = np.asarray(power, dtype=float)
    against = reference(colour_temperature(light)[0], blend=True)
    here, there = _cam02_ucs(light), _cam02_ucs(against)
    away = np.linalg.norm(here - there, axis=1)
    hue = np.degrees(np.arctan2(there[:, 2], there[:, 1])) % 360.0
    bins = (hue / (360.0 / _HUE_BINS)).astype(int)
    held = [k for k in range(_HUE_BINS) if (bins == k).any()]
    areas = [_area(np.array([lit[bins == k, 1:].mean(axis=0) for k in held])) for lit in (here, there)]
    rf = 10.0 * np.log1p(np.exp((100.0 - 6.73 * float(away.mean())) / 10.0))
    return Fidelity(float(rf), 100.0 * areas[0] / areas[1])


def _area(corners: Array) -> float:
    following = np.roll(corners, -1, axis=0)
    return float(np.sum(corners[:, 0] * following[:, 1] - corners[:, 1] * following[:, 0]) / 2.0)


def _cam02_ucs(light: Array) -> Array:
    """J' a' b' (99, 3) of the test colours of CIE 224 under a light, CIECAM02 with L_A 100, Y_b 20, average
    surround, adapted in full.
    """
    observer = tables()["observer10"]
    k = 100.0 / float(light @ observer[:, 1])
    xyz = k * np.vstack([light, (tables()["ces"] * light[:, None]).T]) @ observer
    rgb = xyz @ _CAT02.T
    adapted = (rgb * (100.0 / rgb[0])) @ _HPE.T
    la5 = 500.0
    kl = 1.0 / (la5 + 1.0)
    fl = 0.2 * kl**4 * la5 + 0.1 * (1.0 - kl**4) ** 2 * np.cbrt(la5)
    n = 0.2
    nbb = 0.725 * (1.0 / n) ** 0.2
    z = 1.48 + np.sqrt(n)
    powered = np.sign(adapted) * (fl * np.abs(adapted) / 100.0) ** 0.42
    r, g, b = (400.0 * powered / (27.13 + np.abs(powered)) + 0.1).T
    red, yellow = r - 12.0 * g / 11.0 + b / 11.0, (r + g - 2.0 * b) / 9.0
    hue = np.arctan2(yellow, red)
    achromatic = (2.0 * r + g + b / 20.0 - 0.305) * nbb
    j = 100.0 * (achromatic / achromatic[0]) ** (0.69 * z)
    eccentricity = (np.cos(hue + 2.0) + 3.8) / 4.0
    t = 50000.0 / 13.0 * nbb * eccentricity * np.hypot(red, yellow) / (r + g + 1.05 * b)
    chroma = t**0.9 * np.sqrt(j / 100.0) * (1.64 - 0.29**n) ** 0.73
    m = np.log1p(0.0228 * chroma * fl**0.25) / 0.0228
    uniform = np.stack([1.7 * j / (1.0 + 0.007 * j), m * np.cos(hue), m * np.sin(hue)], axis=1)
    return np.asarray(uniform[1:])
