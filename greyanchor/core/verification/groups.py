"""Groups of patches that criteria speak of, recognised by device values and names."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from greyanchor.core.charts.patches import near_neutral
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.verification.spots import tint_of

Mask = npt.NDArray[np.bool_]
_NONE, _FULL = 0.0005, 0.9995

#: groups by name, with how people read them
GROUPS = {
    "all": "all patches",
    "substrate": "unprinted media",
    "primaries": "C M Y K solids",
    "chromatic_primaries": "C M Y solids",
    "k_solid": "K solid",
    "secondaries": "R G B overprints",
    "greys": "composed greys",
    "black": "K alone",
    "outer_gamut": "gamut surface",
    "spots": "spot colour solids",
    "spot_tints": "spot colour tints",
    "skin": "skin tones",
}


def groups(device: Array, spots: Sequence[str] | None = None) -> dict[str, Mask]:
    """Masks (n,) by group name for CMYK device fractions (n, 4).

    ``substrate``, ``primaries`` (C M Y K solids), ``chromatic_primaries`` (C M Y), ``secondaries``,
    ``greys`` (composed: no K, C above 0, M and Y within 1 % of the near-neutral scale), ``black``
    (K alone), ``outer_gamut`` (a channel at 100 %, at most two chromatic ones, no K), ``skin`` (M and Y
    together 15..75 %, little C, K up to 40 %), ``all``. `spots` names the spot colour of each patch
    (empty text for none): those belong to ``spots``, ``spot_tints`` and ``all`` only.
    """
    process = process_groups(device)
    if spots is None:
        return process
    tints = np.array([tint_of(name)[1] if name else 0.0 for name in spots])
    named = tints > 0
    masks = {name: mask & ~named for name, mask in process.items()}
    return {**masks, "all": process["all"], "spots": tints >= 100.0, "spot_tints": named & (tints < 100.0)}


def process_groups(device: Array) -> dict[str, Mask]:
    """The groups of `groups` for patches (n, 4) without spot colours, fractions: masks (n,) by name."""
    off, full = device < _NONE, device > _FULL
    alone = [full[:, i] & np.delete(off, i, axis=1).all(axis=1) for i in range(4)]
    wanted = near_neutral(device[:, 0])
    near = np.abs(device[:, 1:3] - wanted[:, 1:3]).max(axis=1) <= 0.01 + 1e-6
    chromatic = (~off[:, :3]).sum(axis=1)
    none = np.zeros(len(device), dtype=bool)
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
        "skin": _skin(device),
        "spots": none,
        "spot_tints": none,
    }


def _skin(device: Array) -> Mask:
    c, m, y, k = device.T
    return np.asarray(
        (m >= 0.15)
        & (m <= 0.75)
        & (y >= m - 0.1)
        & (y <= m + 0.25)
        & (c > _NONE)
        & (c <= 0.65 * m)
        & (k <= 0.4)
    )
