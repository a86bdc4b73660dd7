"""Groups of patches that criteria speak of, recognised by device values."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from greyanchor.core.charts.patches import near_neutral
from greyanchor.core.colorimetry import Array

Mask = npt.NDArray[np.bool_]
_NONE, _FULL = 0.0005, 0.9995


def groups(device: Array) -> dict[str, Mask]:
    """Masks (n,) by group name for CMYK device fractions (n, 4).

    ``substrate``, ``primaries`` (C M Y K solids), ``chromatic_primaries`` (C M Y), ``secondaries``,
    ``greys`` (composed: no K, C above 0, M and Y within 1 % of the near-neutral scale), ``black``
    (K alone, and no ink), ``outer_gamut`` (a channel at 100 %, at most two chromatic ones, no K), ``all``.
    """
    off, full = device < _NONE, device > _FULL
    alone = [full[:, i] & np.delete(off, i, axis=1).all(axis=1) for i in range(4)]
    wanted = near_neutral(device[:, 0])
    near = np.abs(device[:, 1:3] - wanted[:, 1:3]).max(axis=1) <= 0.01 + 1e-6
    chromatic = (~off[:, :3]).sum(axis=1)
    return {
        "all": np.ones(len(device), dtype=bool),
        "substrate": off.all(axis=1),
        "primaries": np.any(alone, axis=0),
        "chromatic_primaries": np.any(alone[:3], axis=0),
        "k_solid": alone[3],
        "secondaries": (full[:, :3].sum(axis=1) == 2) & (chromatic == 2) & off[:, 3],
        "greys": off[:, 3] & (~off[:, 0]) & near,
        "black": off[:, :3].all(axis=1) & ~off[:, 3],
        "outer_gamut": full[:, :3].any(axis=1) & (chromatic <= 2) & off[:, 3],
    }
