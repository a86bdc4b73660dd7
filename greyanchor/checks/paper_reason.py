"""Where the paper decides a verdict: its greys beside those of the aim, drawn."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.checks.models import Check
from greyanchor.core.calibration import g7
from greyanchor.core.colour.colorimetry import (
    Array,
    correct_substrate,
    delta_e_2000,
    lab_to_xyz,
    xyz_to_lab,
)
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.explained import paper_picture
from greyanchor.profiles.queries import aim_of

#: greys that are shown, from paper to dark
_SHOWN = 7
#: dE00 between the papers below which no paper decides anything
_APART = 1.0


def paper_decides(check: Check) -> bool:
    """Whether the paper fails, or the verdict would be another one with the paper taken otherwise."""
    failing = any(c["id"] == "substrate" and c["verdict"] == "fail" for c in check.criteria)
    other = check.other_paper.get("verdict")
    return failing or (other is not None and other != check.verdict)


def paper_reason(check: Check) -> dict[str, Any] | None:
    """The drawing and its figure; None where the paper decides nothing, or the strip shows no greys."""
    result = check.result
    if not result.get("device") or not paper_decides(check):
        return None
    device = np.array(result["device"], dtype=float)
    if device.shape[1] != 4:
        return None
    device = device / 100.0 if device.max() > 1.5 else device
    aim, seen = np.array(result["aim"]), np.array(result["measured"])
    bare = np.flatnonzero(device.sum(axis=1) < 1e-6)
    greys = np.flatnonzero(g7.is_cmy_step(device))
    if not len(bare) or len(greys) < 3:
        return None
    greys = greys[np.argsort(device[greys, 0], kind="stable")]
    greys = greys[np.linspace(0, len(greys) - 1, min(_SHOWN - 1, len(greys))).round().astype(int)]
    shown = np.concatenate([bare[:1], greys])
    own = _own(check, device[shown])
    if own is None:
        return None
    paper, here = lab_to_xyz(own[0]), lab_to_xyz(seen[bare[0]])
    apart = float(delta_e_2000(own[0], seen[bare[0]]))
    if apart < _APART:
        return None
    carried = aim[shown]
    if not check.corrected:
        xyz = lab_to_xyz(own)
        carried = xyz_to_lab(correct_substrate(xyz, paper, here, xyz.min(axis=0)))
    rows = [
        ("this print", seen[shown]),
        ("the aim on its own paper", own),
        ("the aim on this paper", carried),
    ]
    tones = ["paper", *(f"{100 * device[i, 0]:.0f} %" for i in greys)]
    return {"picture": paper_picture(rows, tones), "apart": apart}


def _own(check: Check, device: Array) -> Array | None:
    """The aim's own Lab (n, 3) of patches, on its own paper; None where it does not hold them all."""
    if check.aim is None:
        return None
    chart = ReadingSet(
        ids=tuple(str(i) for i in range(len(device))), channels=tuple("CMYK"), device=np.round(device, 4)
    )
    try:
        found = aim_of(check.aim).lab_for(chart)
    except BadInput:
        return None
    return None if np.isnan(found).any() else found
