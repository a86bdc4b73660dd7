"""R G B colour spaces of published standards, as matrices."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import D50_WHITE, Array, bradford_matrix, xyz_to_lab
from greyanchor.core.errors import BadInput

#: chromaticities (x, y) of red, green, blue and white: IEC 61966-2-1, IEC 61966-2-5, SMPTE EG 432-1 with D65,
#: ITU-R BT.2020
_PRIMARIES = {
    "srgb": ("sRGB, IEC 61966-2-1", (0.640, 0.330), (0.300, 0.600), (0.150, 0.060), (0.3127, 0.3290)),
    "oprgb": ("opRGB, IEC 61966-2-5", (0.640, 0.330), (0.210, 0.710), (0.150, 0.060), (0.3127, 0.3290)),
    "p3": ("P3 with D65, SMPTE EG 432-1", (0.680, 0.320), (0.265, 0.690), (0.150, 0.060), (0.3127, 0.3290)),
    "bt2020": ("ITU-R BT.2020", (0.708, 0.292), (0.170, 0.797), (0.131, 0.046), (0.3127, 0.3290)),
}
NAMES = {name: facts[0] for name, facts in _PRIMARIES.items()}
USUAL = "srgb"


def rgb_to_xyz(name: str) -> Array:
    """Matrix (3, 3) from linear RGB of a named space to XYZ (Y = 1) adapted to D50 by Bradford.

    Raises `BadInput` for a space that is not known by name.

    >>> (rgb_to_xyz("srgb") @ np.ones(3)).round(3).tolist()
    [0.964, 1.0, 0.825]
    """
    if name not in _PRIMARIES:
        raise BadInput(
            f"no source gamut called {name!r}; use one of {', '.join(_PRIMARIES)} or an ICC profile"
        )
    red, green, blue, white = (np.array([x, y, 1.0 - x - y]) / y for x, y in _PRIMARIES[name][1:])
    columns = np.column_stack([red, green, blue])
    columns = columns * np.linalg.solve(columns, white)
    return np.asarray(bradford_matrix(100.0 * white, D50_WHITE) @ columns)


def rgb_to_lab(linear: Array, name: str = USUAL) -> Array:
    """Media-relative Lab (n, 3), D50, of linear RGB (n, 3) in 0..1."""
    matrix = rgb_to_xyz(name)
    white = matrix.sum(axis=1)
    return xyz_to_lab(100.0 * linear @ matrix.T * (D50_WHITE / 100.0 / white))
