"""What a picture is taken for that carries no profile."""

from __future__ import annotations

import struct
from functools import lru_cache

import numpy as np

from greyanchor.core.artwork.pictures import Picture
from greyanchor.core.colour.rgb_spaces import rgb_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.formats.icc import PCS_WHITE, IccProfile
from greyanchor.core.formats.icc_tables import Lut, encode_lab, encode_lut16
from greyanchor.core.separation.profiles import ProfileColour

NAMES = {
    "grey": "grey with the tone curve of sRGB (IEC 61966-2-1)",
    "rgb": "sRGB (IEC 61966-2-1)",
    "cmyk": "Generic coated, computed from ISO 12647-2:2013",
}
_SIDE = 17
#: sRGB's tone curve as ICC.1:2022, 10.18 writes it (function 3)
_SRGB_CURVE = (2.4, 1.0 / 1.055, 0.055 / 1.055, 1.0 / 12.92, 0.04045)


def default_source(kind: str) -> ProfileColour:
    """Source of an untagged picture of a kind: ``grey``, ``rgb`` or ``cmyk``."""
    if kind not in NAMES:
        raise BadInput(f"no default source for pictures of the kind {kind!r}")
    return ProfileColour(_made(kind))


def source_of(picture: Picture) -> ProfileColour:
    """The profile that a picture carries, or the default of its kind."""
    if picture.profile is None:
        return default_source(picture.kind)
    return ProfileColour(icc.loads(picture.profile, "the profile of the picture"))


@lru_cache(maxsize=4)
def _made(kind: str) -> IccProfile:
    if kind == "cmyk":
        return _press()
    curve = b"para\0\0\0\0" + struct.pack(">HH5i", 3, 0, *(round(v * 65536) for v in _SRGB_CURVE))
    tags = {"wtpt": icc.xyz_tag(PCS_WHITE), "desc": icc.unicode_tag(NAMES[kind])}
    if kind == "grey":
        return _profile("GRAY", 1, {**tags, "kTRC": curve})
    matrix = rgb_to_xyz("srgb")
    for i, name in enumerate("rgb"):
        tags |= {f"{name}XYZ": icc.xyz_tag(matrix[:, i]), f"{name}TRC": curve}
    return _profile("RGB", 3, tags)


def _profile(space: str, channels: int, tags: dict[str, bytes]) -> IccProfile:
    return IccProfile((4, 4), "mntr", space, "XYZ", channels, "", tags)


def _press() -> IccProfile:
    """The generic coated aim as a table from C M Y K to colour; it has none the other way."""
    from greyanchor.core.verification.generic_aims import GENERIC_AIMS  # takes long to load

    aim = GENERIC_AIMS["generic-coated"]
    axis = np.linspace(0.0, 1.0, _SIDE)
    nodes = np.stack(np.meshgrid(axis, axis, axis, axis, indexing="ij"), axis=-1).reshape(-1, 4)
    white = icc.lab_to_xyz(aim.lab(np.zeros((1, 4))))[0] / 100.0
    relative = icc.xyz_to_lab(icc.lab_to_xyz(aim.lab(nodes)) * (PCS_WHITE / white))
    straight = [np.linspace(0.0, 1.0, 2)]
    lut = Lut(straight * 4, encode_lab(relative).reshape(*([_SIDE] * 4), 3), straight * 3)
    tags = {"wtpt": icc.xyz_tag(white), "desc": icc.description_tag(NAMES["cmyk"]), "A2B0": encode_lut16(lut)}
    return IccProfile((2, 4), "prtr", "CMYK", "Lab", 4, "", tags)
