"""Northlight Coated: an aim of our own, computed from published solids.

Solids, overprints and paper follow ISO 12647-2:2013 for premium coated paper (print substrate 1,
black backing); tints come from Yule-Nielsen mixing of the sixteen overprints with a tone value
increase of about 16 % at 50 %. It stands for no measured press.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from greyanchor.core.characterization.neugebauer import demichel
from greyanchor.core.charts.patches import control_strip, profile_patches
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.measurement.readings import ReadingSet

_PAPER = (95.0, 1.5, -6.0)
_SOLIDS = {
    (1, 0, 0): (56.0, -36.0, -51.0),
    (0, 1, 0): (48.0, 75.0, -4.0),
    (0, 0, 1): (89.0, -4.0, 93.0),
    (0, 1, 1): (48.0, 68.0, 47.0),
    (1, 0, 1): (50.0, -65.0, 26.0),
    (1, 1, 0): (25.0, 20.0, -46.0),
    (1, 1, 1): (23.0, 0.0, -1.0),
}
_BLACK = (16.0, 0.0, 0.0)
_N = 1.9
_MECHANICAL_GAIN = np.array([0.06, 0.06, 0.03, -0.008])
_FULL_BLACK_TRANSMITS = 0.35


def _primaries() -> Array:
    """XYZ (16, 3) of the overprints; black over colour is colour seen through the black film."""
    paper, black = lab_to_xyz(_PAPER), lab_to_xyz(_BLACK)
    out = np.zeros((16, 3))
    for s in range(16):
        colour = (s & 1, s >> 1 & 1, s >> 2 & 1)
        xyz = paper if colour == (0, 0, 0) else lab_to_xyz(_SOLIDS[colour])
        if s >> 3 & 1:
            share = _FULL_BLACK_TRANSMITS + (1.0 - _FULL_BLACK_TRANSMITS) * xyz / paper
            xyz = black * share
        out[s] = xyz
    return out


def aim_lab(device: Array) -> Array:
    """Lab (n, 3), D50 absolute, that Northlight Coated asks for at CMYK fractions (n, 4).

    >>> aim_lab(np.zeros((1, 4))).round(1).tolist()
    [[95.0, 1.5, -6.0]]
    """
    values = np.asarray(device, dtype=float)
    # mechanical part of the gain; Yule-Nielsen mixing adds the optical part, most for black
    spread = values + 4.0 * _MECHANICAL_GAIN * values * (1.0 - values)
    roots = _primaries() ** (1.0 / _N)
    return xyz_to_lab((demichel(spread) @ roots) ** _N)


@lru_cache(maxsize=1)
def aim_data() -> ReadingSet:
    """Characterization data of the aim: the control strip, the near-neutral scales and 1,000 profile patches.

    It is computed once; its arrays cannot be written to.
    """
    device = np.vstack([control_strip(), profile_patches(1000, 3.3)])
    _, first = np.unique(np.round(device, 5), axis=0, return_index=True)
    device = device[np.sort(first)]
    lab = aim_lab(device)
    for values in (device, lab):
        values.flags.writeable = False
    return ReadingSet(
        ids=tuple(str(i + 1) for i in range(len(device))),
        channels=tuple("CMYK"),
        device=device,
        measured_lab=lab,
        condition="M1",
        meta={
            "DESCRIPTOR": "Northlight Coated",
            "PRINT_CONDITIONS": "computed from ISO 12647-2:2013, premium coated paper",
        },
    )
