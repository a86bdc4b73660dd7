"""ICC profiles: the container, its tags, and lookup tables (ICC.1:2022 / ISO 15076-1, ICC.1:2001-04).

Writing: output profiles with 16-bit lookup tables (`lut16Type`), version 2 or 4.
Reading: any lookup-table profile, versions 2 and 4 (`lut8Type`, `lut16Type`, `lutAToBType`,
`lutBToAType`); numbers leave as device fractions 0..1 and PCS Lab.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

import numpy as np

from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.files import read_limited
from greyanchor.core.formats.icc_tables import Lut, decode_lab, decode_lut, encode_lab
from greyanchor.core.measurement.readings import GREY

#: PCS illuminant as the ICC encodes it, XYZ with Y = 1.
PCS_WHITE = np.array([0.9642, 1.0, 0.8249])
MAX_BYTES = 64 * 1024 * 1024
_NAMED_SPACES = {tuple("CMYK"): b"CMYK", tuple("RGB"): b"RGB ", tuple("CMY"): b"CMY "}
_SPACE_CHANNELS = {
    b"GRAY": 1,
    **{space: len(channels) for channels, space in _NAMED_SPACES.items()},
    **{f"{n:X}CLR".encode(): n for n in range(2, 16)},
    b"Lab ": 3,
    b"XYZ ": 3,
}
_PERCEPTUAL_BLACK_L = 3.1373


# --- writing ---------------------------------------------------------------------------------


def text_tag(text: str) -> bytes:
    """`textType`: 7-bit ASCII."""
    return b"text\0\0\0\0" + text.encode("ascii", "replace") + b"\0"


def unicode_tag(text: str) -> bytes:
    """`multiLocalizedUnicodeType` with one English record (version 4)."""
    coded = text.encode("utf-16-be")
    return struct.pack(">4s4xII2s2sII", b"mluc", 1, 12, b"en", b"GB", len(coded), 28) + coded


def description_tag(text: str) -> bytes:
    """`textDescriptionType` with ASCII and Unicode parts (version 2)."""
    plain = text.encode("ascii", "replace") + b"\0"
    coded = text.encode("utf-16-be") + b"\0\0"
    return (
        b"desc\0\0\0\0"
        + struct.pack(">I", len(plain))
        + plain
        + struct.pack(">II", 0, len(coded) // 2)
        + coded
        + struct.pack(">HB67x", 0, 0)
    )


def xyz_tag(xyz: Array) -> bytes:
    """`XYZType` of one colour (3,), Y = 1 for the perfect diffuser (ICC.1:2022, 10.31)."""
    return b"XYZ \0\0\0\0" + struct.pack(">3i", *(round(float(v) * 65536) for v in xyz))


def matrix_tag(matrix: Array) -> bytes:
    """`s15Fixed16ArrayType` of a matrix (3, 3), for `chad` (ICC.1:2022, 9.2.15 and 10.22)."""
    return b"sf32\0\0\0\0" + struct.pack(
        ">9i", *(round(float(v) * 65536) for v in np.asarray(matrix).ravel())
    )


def space_of(channels: tuple[str, ...]) -> bytes:
    """Signature of the colour space that a profile of `channels` is for; one ink alone is grey."""
    if len(channels) == 1:
        return b"GRAY"
    return _NAMED_SPACES.get(channels, f"{len(channels):X}CLR".encode())


def colorant_tag(names: tuple[str, ...], lab: Array) -> bytes:
    """`colorantTableType`: names and PCS Lab (n, 3) of the inks (ICC.1:2022, 10.5)."""
    body = b"clrt\0\0\0\0" + struct.pack(">I", len(names))
    codes = np.round(encode_lab(lab) * 65535.0).astype(int)
    for name, code in zip(names, codes):
        body += struct.pack(">32s3H", name.encode("latin-1", "replace")[:31], *(int(c) for c in code))
    return body


def build(
    tags: Mapping[str, bytes], channels: tuple[str, ...], version: int, when: datetime, intent: int = 0
) -> bytes:
    """A whole output (`prtr`) profile from its tags; PCS is Lab. Version 4 carries the MD5 profile id."""
    header = struct.pack(
        ">I4sI4s4s4s6H4s4sI4s4sQI3i4s16s28x",
        0,
        b"\0\0\0\0",
        0x04400000 if version == 4 else 0x02400000,
        b"prtr",
        space_of(channels),
        b"Lab ",
        when.year,
        when.month,
        when.day,
        when.hour,
        when.minute,
        when.second,
        b"acsp",
        b"\0\0\0\0",
        0,
        b"\0\0\0\0",
        b"\0\0\0\0",
        0,
        intent,
        *(round(v * 65536) for v in PCS_WHITE),
        b"\0\0\0\0",
        b"\0" * 16,
    )
    return _assemble(header, tags)


def _assemble(header: bytes, tags: Mapping[str, bytes]) -> bytes:
    """Header, tag table and tags; equal tags share their bytes. Size and version 4's profile id are set
    again.
    """
    table, body, placed = b"", bytearray(), {}
    offset = 128 + 4 + 12 * len(tags)
    for signature, data in tags.items():
        key = hashlib.md5(data, usedforsecurity=False).digest()
        if key not in placed:
            placed[key] = (offset + len(body), len(data))
            body += data + b"\0" * (-len(data) % 4)
        table += struct.pack(">4sII", signature.encode("latin-1").ljust(4), *placed[key])
    head = struct.pack(">I", offset + len(body)) + header[4:]
    profile = head + struct.pack(">I", len(tags)) + table + bytes(body)
    if header[8] != 4:
        return profile
    blank = (
        profile[:44] + b"\0" * 4 + profile[48:64] + b"\0" * 4 + profile[68:84] + b"\0" * 16 + profile[100:]
    )
    identity = hashlib.md5(blank, usedforsecurity=False).digest()
    return profile[:84] + identity + profile[100:]


def dumps(profile: IccProfile) -> bytes:
    """The bytes of a profile that was read: the same, when nothing was changed."""
    return _assemble(profile.header, profile.tags)


# --- reading ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class IccProfile:
    """A parsed profile.

    Attributes
    ----------
    version
        Major and minor, such as ``(4, 4)``.
    device_class, space, pcs
        Four-letter signatures, stripped.
    channels
        Number of device channels.
    created
        Date in the header.
    tags
        Raw tag data by signature, in order.
    profile_id
        Hex digits, empty when the header has none.
    header
        The 128 bytes of the header, as read.
    """

    version: tuple[int, int]
    device_class: str
    space: str
    pcs: str
    channels: int
    created: str
    tags: dict[str, bytes]
    profile_id: str = ""
    header: bytes = field(default=b"", repr=False)
    luts: dict[str, tuple[Lut, bool]] = field(default_factory=dict, compare=False, repr=False)

    @property
    def description(self) -> str:
        """The title of the profile, from its ``desc`` tag; empty without one."""
        return tag_text(self.tags.get("desc", b""))

    @property
    def inks(self) -> tuple[str, ...]:
        """Channel names: those of the colour space, else those of the colorant table, else numbers."""
        known = {"CMYK": tuple("CMYK"), "RGB": tuple("RGB"), "CMY": tuple("CMY"), "GRAY": GREY}
        if self.space in known:
            return known[self.space]
        data = self.tags.get("clrt", b"")
        if len(data) >= 12 + 38 * self.channels:
            names = [data[12 + 38 * i : 44 + 38 * i] for i in range(self.channels)]
            found = tuple(n.split(b"\0")[0].decode("latin-1") for n in names)
            if all(found) and len(set(found)) == self.channels:
                return found
        return tuple(str(i + 1) for i in range(self.channels))

    @property
    def white(self) -> Array:
        """Media white point (3,), XYZ with Y = 1 for the perfect diffuser. Raises `BadInput` where the
        profile has none.
        """
        data = self.tags.get("wtpt", b"")
        if len(data) < 20:
            raise BadInput("the profile has no media white point")
        return np.array(struct.unpack_from(">3i", data, 8)) / 65536.0

    def lut(self, name: str) -> tuple[Lut, bool]:
        """The table `name` (``A2B1``) and whether its Lab is coded the legacy way. Raises `BadInput`
        where there is none.
        """
        if name not in self.luts:
            if name not in self.tags:
                raise BadInput(f"the profile has no {name} table")
            self.luts[name] = decode_lut(self.tags[name], name)
        return self.luts[name]

    def device_to_lab(self, device: Array, intent: str = "absolute") -> Array:
        """Lab (n, 3) of device fractions (n, channels); ``absolute``, ``relative``, ``perceptual`` or
        ``saturation``.
        """
        name = self._table("A2B", intent)
        lut, legacy = self.lut(name)
        lab = decode_lab(lut.evaluate(np.asarray(device, dtype=float)), legacy)
        return self._absolute(lab, 1) if intent == "absolute" else lab

    def table_lab(self) -> Array:
        """Absolute Lab (n, 3) of all nodes of the colorimetric device-to-Lab table."""
        lut, legacy = self.lut(self._table("A2B", "absolute"))
        nodes = lut.grid.reshape(-1, lut.grid.shape[-1])
        ends = [np.interp(v, np.linspace(0.0, 1.0, len(c)), c) for v, c in zip(nodes.T, lut.outputs)]
        return self._absolute(decode_lab(np.column_stack(ends), legacy), 1)

    def lab_to_device(self, lab: Array, intent: str = "absolute") -> Array:
        """Device fractions (n, channels) for Lab (n, 3)."""
        name = self._table("B2A", intent)
        lut, legacy = self.lut(name)
        wanted = (
            self._absolute(np.asarray(lab, dtype=float), -1)
            if intent == "absolute"
            else np.asarray(lab, dtype=float)
        )
        return lut.evaluate(encode_lab(wanted, legacy))

    def _table(self, direction: str, intent: str) -> str:
        number = {"perceptual": 0, "relative": 1, "absolute": 1, "saturation": 2}[intent]
        name = f"{direction}{number}"
        return name if name in self.tags else f"{direction}0"

    def _absolute(self, lab: Array, way: int) -> Array:
        scale = (self.white / PCS_WHITE) ** way
        return xyz_to_lab(lab_to_xyz(lab) * scale)


def tag_text(data: bytes) -> str:
    """The text of a `desc`, `mluc` or `text` tag; empty when it holds none."""
    if data[:4] == b"mluc" and len(data) >= 28:
        size, at = struct.unpack_from(">II", data, 20)
        return data[at : at + size].decode("utf-16-be", "replace")
    if data[:4] == b"desc" and len(data) >= 12:
        (size,) = struct.unpack_from(">I", data, 8)
        return data[12 : 12 + size].rstrip(b"\0").decode("ascii", "replace")
    if data[:4] == b"text":
        return data[8:].rstrip(b"\0").decode("latin-1")
    return ""


def read(path: str | Path) -> IccProfile:
    """Read a profile from a file; errors name it."""
    return loads(read_limited(path, MAX_BYTES), Path(path).name)


def is_profile(data: bytes) -> bool:
    """Whether `data` carries the signature of an ICC profile."""
    return len(data) >= 132 and data[36:40] == b"acsp"


def loads(data: bytes, source: str = "profile") -> IccProfile:
    """Parse profile bytes; `BadInput` when they are not a profile or are cut off."""
    if not is_profile(data):
        raise BadInput("this is not an ICC profile", source)
    (size,) = struct.unpack_from(">I", data, 0)
    if size > len(data):
        raise BadInput(f"the profile is cut off: {len(data)} of {size} bytes are there", source)
    space = data[16:20]
    if space not in _SPACE_CHANNELS:
        raise BadInput(f"the colour space {space.decode('latin-1')!r} is not one a printer has", source)
    (count,) = struct.unpack_from(">I", data, 128)
    if count > 200 or 132 + 12 * count > len(data):
        raise BadInput("the tag table is damaged", source)
    tags = {}
    for i in range(count):
        name, offset, length = struct.unpack_from(">4sII", data, 132 + 12 * i)
        if offset < 128 or offset + length > len(data):
            raise BadInput(f"the tag {name.decode('latin-1')!r} lies outside the file", source)
        tags[name.decode("latin-1").strip()] = data[offset : offset + length]
    date = struct.unpack_from(">6H", data, 24)
    identity = data[84:100]
    return IccProfile(
        version=(data[8], data[9] >> 4),
        device_class=data[12:16].decode("latin-1").strip(),
        space=space.decode("latin-1").strip(),
        pcs=data[20:24].decode("latin-1").strip(),
        channels=_SPACE_CHANNELS[space],
        created="{:04d}-{:02d}-{:02d} {:02d}:{:02d}:{:02d}".format(*date),
        tags=tags,
        profile_id=identity.hex() if any(identity) else "",
        header=data[:128],
    )


def perceptual_black(version: int) -> float:
    """L* of the perceptual PCS black point: 3.1373 in version 4 (ICC.1:2022, 6.3.4.3), 0 in version 2."""
    return _PERCEPTUAL_BLACK_L if version == 4 else 0.0
