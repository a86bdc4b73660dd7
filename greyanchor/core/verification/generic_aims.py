"""Generic aims, computed from published solids: something to hold a print to before a shop has its own.

Each stands for a printing condition of ISO 12647-2:2013 and for no measured press. Paper, solids and
overprints are the standard's; tints come from Yule-Nielsen mixing of the sixteen overprints, with a
mechanical gain by which the tone value increase at 50 % is that of the standard's curve. ISO 12647-7 proofs
such a condition with tolerances of its own and no other colours.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from greyanchor.core.characterization.neugebauer import demichel
from greyanchor.core.charts.patches import control_strip, profile_patches
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.measurement.readings import ReadingSet

#: how much of the light full black lets through, as the overprints of colour and black show
_FULL_BLACK_TRANSMITS = 0.35
_CMY = ((1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 1, 1), (1, 0, 1), (1, 1, 0), (1, 1, 1))
_Lab = tuple[float, float, float]


@dataclass(frozen=True)
class GenericAim:
    """A printing condition.

    Attributes
    ----------
    key, title
        What commands and pages call it.
    derivation
        Where its colours come from, in a sentence.
    paper, black
        Lab, D50, 2 degree, absolute.
    solids
        Lab of C, M, Y and their overprints R, G, B and all three, by which inks are there.
    scattering
        Yule-Nielsen factor: the optical part of the tone value increase.
    gain
        Mechanical part at 50 % of C, M, Y, K, as a fraction.
    increase
        Tone value increase at 50 % that the standard's curve asks for, percent.
    """

    key: str
    title: str
    derivation: str
    paper: _Lab
    black: _Lab
    solids: Mapping[tuple[int, int, int], _Lab]
    scattering: float
    gain: tuple[float, float, float, float]
    increase: float

    def primaries(self) -> Array:
        """XYZ (16, 3) of the overprints; black over colour is colour seen through the black film."""
        paper, black = lab_to_xyz(self.paper), lab_to_xyz(self.black)
        out = np.zeros((16, 3))
        for s in range(16):
            inks = (s & 1, s >> 1 & 1, s >> 2 & 1)
            xyz = lab_to_xyz(self.solids[inks]) if any(inks) else paper
            if s >> 3 & 1:
                xyz = black * (_FULL_BLACK_TRANSMITS + (1.0 - _FULL_BLACK_TRANSMITS) * xyz / paper)
            out[s] = xyz
        return out

    def lab(self, device: Array) -> Array:
        """Lab (n, 3), D50 absolute, that the condition asks for at CMYK fractions (n, 4)."""
        values = np.asarray(device, dtype=float)
        spread = values + 4.0 * np.array(self.gain) * values * (1.0 - values)
        roots = self.primaries() ** (1.0 / self.scattering)
        return xyz_to_lab((demichel(spread) @ roots) ** self.scattering)


def _solids(*lab: _Lab) -> dict[tuple[int, int, int], _Lab]:
    return dict(zip(_CMY, lab))


COATED = GenericAim(
    "generic-coated",
    "Generic coated",
    "computed from the solids of ISO 12647-2:2013, print substrate 1 (premium coated), and its tone value "
    "curve A (16 % at 50 %); no measured press",
    (95.0, 1.5, -6.0),
    (16.0, 0.0, 0.0),
    _solids(
        (56.0, -36.0, -51.0),
        (48.0, 75.0, -4.0),
        (89.0, -4.0, 93.0),
        (48.0, 68.0, 47.0),
        (50.0, -65.0, 26.0),
        (25.0, 20.0, -46.0),
        (23.0, 0.0, -1.0),
    ),
    1.9,
    (0.0678, 0.0691, 0.0326, -0.012),
    16.0,
)
UNCOATED = GenericAim(
    "generic-uncoated",
    "Generic uncoated",
    "computed from the solids of ISO 12647-2:2013, print substrate 5 (wood-free uncoated), and its tone "
    "value curve C (22 % at 50 %); no measured press",
    (93.5, 2.5, -10.0),
    (33.0, 1.0, 1.0),
    _solids(
        (59.0, -24.0, -48.0),
        (55.0, 60.0, -2.0),
        (89.0, -3.0, 76.0),
        (54.0, 55.0, 26.0),
        (53.0, -41.0, 13.0),
        (39.0, 9.0, -30.0),
        (36.0, -1.0, -3.0),
    ),
    2.0,
    (0.1437, 0.1484, 0.1146, 0.0895),
    22.0,
)
GENERIC_AIMS = {aim.key: aim for aim in (COATED, UNCOATED)}


def aim_lab(device: Array, aim: GenericAim = COATED) -> Array:
    """Lab (n, 3), D50 absolute, that an aim asks for at CMYK fractions (n, 4).

    >>> aim_lab(np.zeros((1, 4))).round(1).tolist()
    [[95.0, 1.5, -6.0]]
    """
    return aim.lab(device)


@lru_cache(maxsize=4)
def aim_data(key: str = COATED.key) -> ReadingSet:
    """Characterization data of an aim: the control strip, the near-neutral scales and 1,000 profile patches.

    It is computed once; its arrays cannot be written to.
    """
    aim = GENERIC_AIMS[key]
    device = np.vstack([control_strip(), profile_patches(1000, 3.3)])
    _, first = np.unique(np.round(device, 5), axis=0, return_index=True)
    device = device[np.sort(first)]
    lab = aim.lab(device)
    for values in (device, lab):
        values.flags.writeable = False
    return ReadingSet(
        ids=tuple(str(i + 1) for i in range(len(device))),
        channels=tuple("CMYK"),
        device=device,
        measured_lab=lab,
        condition="M1",
        meta={"DESCRIPTOR": aim.title, "PRINT_CONDITIONS": aim.derivation},
    )
