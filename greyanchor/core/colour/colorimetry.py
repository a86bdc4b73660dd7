"""Spectra to XYZ to Lab, colour differences, adaptation and substrate correction.

Spectra are reflectance factors (1.0 = perfect diffuser), shape (..., 36), 380..730 nm at 10 nm.
XYZ is scaled so that the perfect diffuser has Y = 100. Lab is D50, 2 degree unless stated otherwise.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.illuminants import Light, cie_table, light

WAVELENGTHS = np.arange(380, 731, 10)
BANDS = len(WAVELENGTHS)
#: ISO 13655, Table 1: white point of D50 for the 2 degree observer.
D50_WHITE = np.array([96.422, 100.0, 82.521])

_EPSILON = (6.0 / 29.0) ** 3
_KAPPA_SLOPE = (29.0 / 6.0) ** 2 / 3.0
_BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])

Array = npt.NDArray[Any]


def _lagrange_rows(start: float, step: float, count: int, fine: Array) -> Array:
    """Matrix (fine, count) that interpolates tabulated values to the wavelengths `fine`.

    Cubic Lagrange inside, quadratic in the first and last interval, end values held outside:
    the interpolation ASTM E2022 builds its weighting factors from.
    """
    rows = np.zeros((len(fine), count))
    for i, wavelength in enumerate(fine):
        position = (wavelength - start) / step
        if position <= 0:
            rows[i, 0] = 1.0
            continue
        if position >= count - 1:
            rows[i, -1] = 1.0
            continue
        k = int(position)
        first, last = max(k - 1, 0), min(k + 2, count - 1)
        nodes = np.arange(first, last + 1)
        for node in nodes:
            others = nodes[nodes != node]
            rows[i, node] = np.prod((position - others) / (node - others))
    return rows


@lru_cache(maxsize=32)
def weights(name: Light = "D50") -> Array:
    """Tristimulus weighting factors (36, 3) for the light `name`, 2 degree observer.

    Built as in ASTM E2022 from 1 nm tables; the power outside 380..730 nm falls to the end bands.
    Columns sum to the white point with Y = 100.
    """
    table = cie_table()
    fine = np.asarray(table["nm"], dtype=float)
    power = light(name)
    observer = np.column_stack([table["x"], table["y"], table["z"]])
    kernel = _lagrange_rows(WAVELENGTHS[0], 10.0, BANDS, fine)
    factors = kernel.T @ (observer * power[:, None])
    factors *= 100.0 / factors[:, 1].sum()
    if name == "D50":  # ISO 13655 states the white point to three decimals; hold to it exactly
        factors *= D50_WHITE / factors.sum(axis=0)
    factors.setflags(write=False)
    return np.asarray(factors, dtype=float)


def white_point(name: Light = "D50") -> Array:
    """XYZ of the perfect diffuser under the light `name`, shape (3,), Y = 100."""
    return np.asarray(weights(name).sum(axis=0), dtype=float)


def spectra_to_xyz(spectra: npt.ArrayLike, name: Light = "D50") -> Array:
    """XYZ (..., 3) of reflectance spectra (..., 36) under the light `name` (ISO 13655).

    >>> spectra_to_xyz(np.ones(36)).round(4).tolist()
    [96.422, 100.0, 82.521]
    """
    return np.asarray(np.asarray(spectra, dtype=float) @ weights(name))


def resample_spectra(values: npt.ArrayLike, wavelengths: npt.ArrayLike) -> Array:
    """Spectra (n, m) at evenly spaced `wavelengths` brought to 380..730 nm at 10 nm, shape (n, 36).

    Finer steps are averaged with a triangle as wide as a 10 nm band, coarser ones interpolated;
    bands beyond the measured range repeat the nearest measured value.
    """
    measured = np.asarray(values, dtype=float)
    nm = np.asarray(wavelengths, dtype=float)
    step = float(nm[1] - nm[0])
    if step < 9.99:
        distance = np.abs(WAVELENGTHS[:, None] - np.clip(nm, None, None)[None, :])
        triangle = np.clip(1.0 - distance / 10.0, 0.0, None)
        inside = triangle.sum(axis=1, keepdims=True) > 1e-9
        nearest = (distance == distance.min(axis=1, keepdims=True)).astype(float)
        kernel = np.where(inside, triangle, nearest)
        kernel /= kernel.sum(axis=1, keepdims=True)
    else:
        kernel = _lagrange_rows(float(nm[0]), step, len(nm), WAVELENGTHS.astype(float))
    return np.asarray(measured @ kernel.T)


def _f(t: Array) -> Array:
    return np.where(t > _EPSILON, np.cbrt(np.maximum(t, 0.0)), _KAPPA_SLOPE * t + 4.0 / 29.0)


def xyz_to_lab(xyz: npt.ArrayLike, white: npt.ArrayLike = D50_WHITE) -> Array:
    """CIE 1976 L*a*b* (..., 3) of XYZ (..., 3) relative to `white` (CIE 15:2018, 8.2.1).

    >>> xyz_to_lab([20.0, 20.0, 10.0]).round(2).tolist()
    [51.84, 3.57, 17.99]
    """
    f = _f(np.asarray(xyz, dtype=float) / np.asarray(white, dtype=float))
    x, y, z = f[..., 0], f[..., 1], f[..., 2]
    return np.stack([116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)], axis=-1)


def lab_to_xyz(lab: npt.ArrayLike, white: npt.ArrayLike = D50_WHITE) -> Array:
    """Inverse of `xyz_to_lab`: Lab (..., 3) to XYZ (..., 3), Y = 100 for the perfect diffuser (CIE
    15:2018).

    >>> lab_to_xyz([100.0, 0.0, 0.0]).round(4).tolist()
    [96.422, 100.0, 82.521]
    """
    values = np.asarray(lab, dtype=float)
    fy = (values[..., 0] + 16.0) / 116.0
    f = np.stack([fy + values[..., 1] / 500.0, fy, fy - values[..., 2] / 200.0], axis=-1)
    t = np.where(f > 6.0 / 29.0, f**3, (f - 4.0 / 29.0) / _KAPPA_SLOPE)
    return np.asarray(t * np.asarray(white, dtype=float))


def spectra_to_lab(spectra: npt.ArrayLike, name: str = "D50") -> Array:
    """L*a*b* (..., 3) of spectra (..., 36) relative to the perfect diffuser under the light `name`.

    >>> spectra_to_lab(np.full(36, 0.5)).round(2).tolist()
    [76.07, -0.0, 0.0]
    """
    return xyz_to_lab(spectra_to_xyz(spectra, name), white_point(name))


def adapt_bradford(xyz: npt.ArrayLike, source_white: npt.ArrayLike, target_white: npt.ArrayLike) -> Array:
    """XYZ (..., 3) seen under `source_white` carried to `target_white` (ICC.1:2022, Annex E).

    >>> adapt_bradford(white_point("D65"), white_point("D65"), white_point("D50")).round(3).tolist()
    [96.422, 100.0, 82.521]
    """
    return np.asarray(np.asarray(xyz, dtype=float) @ bradford_matrix(source_white, target_white).T)


def bradford_matrix(source_white: npt.ArrayLike, target_white: npt.ArrayLike) -> Array:
    """The 3 x 3 linear Bradford matrix from one white point to another (ICC.1:2022, Annex E)."""
    source = _BRADFORD @ np.asarray(source_white, dtype=float)
    target = _BRADFORD @ np.asarray(target_white, dtype=float)
    return np.asarray(np.linalg.inv(_BRADFORD) @ np.diag(target / source) @ _BRADFORD)


def delta_e_76(a: npt.ArrayLike, b: npt.ArrayLike) -> Array:
    """CIELAB colour difference dE*ab of Lab arrays (..., 3), shape (...).

    >>> float(delta_e_76([50.0, 3.0, 4.0], [50.0, 0.0, 0.0]))
    5.0
    """
    return np.asarray(np.linalg.norm(np.asarray(a, dtype=float) - np.asarray(b, dtype=float), axis=-1))


def delta_e_2000(a: npt.ArrayLike, b: npt.ArrayLike) -> Array:
    """CIEDE2000 of Lab arrays (..., 3), shape (...), with kL = kC = kH = 1.

    ISO/CIE 11664-6; checked with the 34 published pairs of Sharma, Wu and Dalal (2005).

    >>> round(float(delta_e_2000([50.0, 2.6772, -79.7751], [50.0, 0.0, -82.7485])), 4)
    2.0425
    """
    first, second = np.asarray(a, dtype=float), np.asarray(b, dtype=float)
    l1, a1, b1 = first[..., 0], first[..., 1], first[..., 2]
    l2, a2, b2 = second[..., 0], second[..., 1], second[..., 2]
    c7 = ((np.hypot(a1, b1) + np.hypot(a2, b2)) / 2.0) ** 7
    g = 0.5 * (1.0 - np.sqrt(c7 / (c7 + 25.0**7)))
    a1, a2 = (1.0 + g) * a1, (1.0 + g) * a2
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1 = np.degrees(np.arctan2(b1, a1)) % 360.0
    h2 = np.degrees(np.arctan2(b2, a2)) % 360.0
    achromatic = c1 * c2 == 0
    dh = (h2 - h1 + 180.0) % 360.0 - 180.0
    dh = np.where((np.abs(h2 - h1) <= 180.0), h2 - h1, dh)
    dh = np.where(achromatic, 0.0, dh)
    d_h = 2.0 * np.sqrt(c1 * c2) * np.sin(np.radians(dh) / 2.0)
    total = h1 + h2
    near = np.abs(h1 - h2) <= 180.0
    mean_h = np.where(near, total / 2.0, np.where(total < 360.0, total / 2.0 + 180.0, total / 2.0 - 180.0))
    mean_h = np.where(achromatic, total, mean_h)
    mean_l, mean_c = (l1 + l2) / 2.0, (c1 + c2) / 2.0
    t = (
        1.0
        - 0.17 * np.cos(np.radians(mean_h - 30.0))
        + 0.24 * np.cos(np.radians(2.0 * mean_h))
        + 0.32 * np.cos(np.radians(3.0 * mean_h + 6.0))
        - 0.20 * np.cos(np.radians(4.0 * mean_h - 63.0))
    )
    s_l = 1.0 + 0.015 * (mean_l - 50.0) ** 2 / np.sqrt(20.0 + (mean_l - 50.0) ** 2)
    s_c = 1.0 + 0.045 * mean_c
    s_h = 1.0 + 0.015 * mean_c * t
    m7 = mean_c**7
    rotation = (
        -2.0
        * np.sqrt(m7 / (m7 + 25.0**7))
        * np.sin(np.radians(60.0 * np.exp(-(((mean_h - 275.0) / 25.0) ** 2))))
    )
    dl, dc, dhue = (l2 - l1) / s_l, (c2 - c1) / s_c, d_h / s_h
    return np.asarray(np.sqrt(np.maximum(dl**2 + dc**2 + dhue**2 + rotation * dc * dhue, 0.0)))


class LabDifference(NamedTuple):
    """Parts of a CIELAB difference, each of shape (...): sample minus aim."""

    de76: Array
    de00: Array
    dl: Array
    dc: Array
    dh: Array
    dch: Array


def lab_difference(aim: npt.ArrayLike, sample: npt.ArrayLike) -> LabDifference:
    """Every difference the trade quotes, sample minus aim, for Lab arrays (..., 3).

    ``dch`` is sqrt(da^2 + db^2); ``dh`` the CIELAB hue difference, signed counter-clockwise
    (CIE 15:2018, 8.2.3), which is sign * sqrt(dE^2 - dL^2 - dC^2).
    """
    p, q = np.asarray(aim, dtype=float), np.asarray(sample, dtype=float)
    delta = q - p
    dc = np.hypot(q[..., 1], q[..., 2]) - np.hypot(p[..., 1], p[..., 2])
    dch = np.hypot(delta[..., 1], delta[..., 2])
    turn = p[..., 1] * q[..., 2] - p[..., 2] * q[..., 1]
    dh = np.where(turn < 0, -1.0, 1.0) * np.sqrt(np.maximum(dch**2 - dc**2, 0.0))
    return LabDifference(delta_e_76(p, q), delta_e_2000(p, q), delta[..., 0], dc, dh, dch)


def chroma(lab: npt.ArrayLike) -> Array:
    """CIELAB chroma C*ab of Lab arrays (..., 3)."""
    values = np.asarray(lab, dtype=float)
    return np.asarray(np.hypot(values[..., 1], values[..., 2]))


def correct_substrate(
    xyz: npt.ArrayLike, aim_substrate: npt.ArrayLike, substrate: npt.ArrayLike, darkest: npt.ArrayLike
) -> Array:
    """Aim XYZ (n, 3) carried from the aim's paper to the shop's by tristimulus linear scaling.

    T' = (T - Tmin) (Tsub - Tmin) / (Taim - Tmin) + Tmin per X, Y, Z, with Tmin (3,) the `darkest` X, Y and
    Z of the whole aim, whichever patches are asked for (ISO 13655, Annex; CGATS TR 016). Raises nothing;
    the aim's paper maps to `substrate`.
    """
    aim, darkest = np.asarray(xyz, dtype=float), np.asarray(darkest, dtype=float)
    scale = (np.asarray(substrate, dtype=float) - darkest) / (
        np.asarray(aim_substrate, dtype=float) - darkest
    )
    return np.asarray((aim - darkest) * scale + darkest)


def lab_to_srgb(lab: npt.ArrayLike) -> Array:
    """Display colour (..., 3) in 0..1 of Lab (D50), for patches on a page (IEC 61966-2-1).

    Adapted to D65 by Bradford and clipped: for looking at, never for computing.
    """
    xyz = adapt_bradford(lab_to_xyz(lab), D50_WHITE, [95.047, 100.0, 108.883]) / 100.0
    matrix = np.array(
        [
            [3.2404542, -1.5371385, -0.4985314],
            [-0.9692660, 1.8760108, 0.0415560],
            [0.0556434, -0.2040259, 1.0572252],
        ]
    )
    linear = np.clip(xyz @ matrix.T, 0.0, 1.0)
    return np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
