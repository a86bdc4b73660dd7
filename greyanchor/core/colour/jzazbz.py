"""JzAzBz, the space in which colours are moved with their hue held.

Safdar, Cui, Kim & Luo, "Perceptually uniform color space for image signals including high dynamic
range and wide gamut", Optics Express 25 (2017) 15131. Chosen because, of the modern spaces, it keeps
the Munsell renotation colours of one hue closest to one hue angle (docs/profiles.md gives figures).
"""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import D50_WHITE, Array, bradford_matrix, lab_to_xyz, xyz_to_lab

#: CIE 1931 white of D65, and the luminance (cd/m2) that white is shown at
D65_WHITE = np.array([95.047, 100.0, 108.883])
WHITE_LUMINANCE = 100.0
_B, _G, _D, _D0 = 1.15, 0.66, -0.56, 1.6295499532821566e-11
_M1 = np.array(
    [[0.41478972, 0.579999, 0.0146480], [-0.2015100, 1.120649, 0.0531008], [-0.0166008, 0.264800, 0.6684799]]
)
_M2 = np.array([[0.5, 0.5, 0.0], [3.524000, -4.066708, 0.542708], [0.199076, 1.096799, -1.295875]])
_C1, _C2, _C3 = 3424.0 / 2**12, 2413.0 / 2**7, 2392.0 / 2**7
_N, _P = 2610.0 / 2**14, 1.7 * 2523.0 / 2**5
_TO_D65 = bradford_matrix(D50_WHITE, D65_WHITE)
_TO_D50 = np.linalg.inv(_TO_D65)


def from_xyz(xyz: Array) -> Array:
    """Jz, az, bz (n, 3) of XYZ (n, 3) under D65, absolute in cd/m2."""
    x, y, z = np.moveaxis(np.asarray(xyz, dtype=float), -1, 0)
    shifted = np.stack([_B * x - (_B - 1.0) * z, _G * y - (_G - 1.0) * x, z], axis=-1)
    cone = np.maximum(shifted @ _M1.T, 0.0) / 10000.0
    powered = cone**_N
    coded = ((_C1 + _C2 * powered) / (1.0 + _C3 * powered)) ** _P
    izazbz = coded @ _M2.T
    light = (1.0 + _D) * izazbz[..., :1] / (1.0 + _D * izazbz[..., :1]) - _D0
    return np.concatenate([light, izazbz[..., 1:]], axis=-1)


def to_xyz(jab: Array) -> Array:
    """Inverse of `from_xyz`: Jab (..., 3) to XYZ (..., 3) under D65 in cd/m2."""
    light = jab[..., :1] + _D0
    iz = light / (1.0 + _D - _D * light)
    coded = np.concatenate([iz, jab[..., 1:]], axis=-1) @ np.linalg.inv(_M2).T
    root = np.maximum(coded, 1e-9) ** (1.0 / _P)
    cone = 10000.0 * np.maximum((_C1 - root) / (_C3 * root - _C2), 0.0) ** (1.0 / _N)
    shifted = cone @ np.linalg.inv(_M1).T
    x = (shifted[..., 0] + (_B - 1.0) * shifted[..., 2]) / _B
    y = (shifted[..., 1] + (_G - 1.0) * x) / _G
    return np.stack([x, y, shifted[..., 2]], axis=-1)


def from_lab(lab: Array) -> Array:
    """Jz, az, bz (n, 3) of Lab (n, 3), D50, adapted to D65 by Bradford, white at `WHITE_LUMINANCE`."""
    return from_xyz(lab_to_xyz(lab) @ _TO_D65.T * (WHITE_LUMINANCE / 100.0))


def to_lab(jab: Array) -> Array:
    """Inverse of `from_lab`: Jab (..., 3) to Lab (..., 3) under D50."""
    return np.asarray(xyz_to_lab(to_xyz(jab) @ _TO_D50.T * (100.0 / WHITE_LUMINANCE)))
