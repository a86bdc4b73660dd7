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

from greyanchor.core.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput

#: PCS illuminant as the ICC encodes it, XYZ with Y = 1.
PCS_WHITE = np.array([0.9642, 1.0, 0.8249])
MAX_BYTES = 64 * 1024 * 1024
_SPACES = {4: b"CMYK", 3: b"RGB ", 1: b"GRAY", **{n: f"{n:X}CLR".encode() for n in range(5, 16)}}
_SPACE_CHANNELS = {v: k for k, v in _SPACES.items()} | {
    b"CMY ": 3,
    b"Lab ": 3,
    b"XYZ ": 3,
    b"2CLR": 2,
    b"3CLR": 3,
    b"4CLR": 4,
}
_PERCEPTUAL_BLACK_L = 3.1373


# --- lookup tables ---------------------------------------------------------------------------


@dataclass(frozen=True)
class Lut:
    """A table: curves into a grid, n-linear interpolation, curves out.

    Attributes
    ----------
    inputs
        Input curves, each (points,) in 0..1.
    grid
        Values (g1, ..., gn, outputs) in 0..1; the first channel varies slowest.
    outputs
        Output curves, each (points,).
    """

    inputs: list[Array]
    grid: Array
    outputs: list[Array]

    def evaluate(self, values: Array) -> Array:
        """Outputs (n, m) in 0..1 for inputs (n, channels) in 0..1, multilinear."""
        shaped = np.column_stack([_curve(self.inputs[i], values[:, i]) for i in range(len(self.inputs))])
        found = interpolate_grid(self.grid, shaped)
        return np.column_stack([_curve(self.outputs[i], found[:, i]) for i in range(len(self.outputs))])


def _curve(table: Array, x: Array) -> Array:
    return np.interp(np.clip(x, 0.0, 1.0), np.linspace(0.0, 1.0, len(table)), table)


def interpolate_grid(grid: Array, at: Array) -> Array:
    """Multilinear interpolation of `grid` (g1..gn, k) at `at` (m, n) in 0..1, shape (m, k)."""
    sizes = np.array(grid.shape[:-1])
    position = np.clip(at, 0.0, 1.0) * (sizes - 1)
    low = np.minimum(position.astype(int), np.maximum(sizes - 2, 0))
    part = position - low
    strides = np.concatenate([np.cumprod(sizes[::-1])[::-1][1:], [1]])
    flat = grid.reshape(-1, grid.shape[-1])
    out = np.zeros((len(at), grid.shape[-1]))
    for corner in range(2 ** len(sizes)):
        bits = np.array([(corner >> i) & 1 for i in range(len(sizes))])
        weight = np.prod(np.where(bits, part, 1.0 - part), axis=1)
        index = ((np.minimum(low + bits, sizes - 1)) * strides).sum(axis=1)
        out += weight[:, None] * flat[index]
    return out


def _u16(values: Array) -> bytes:
    return np.clip(np.round(np.asarray(values) * 65535.0), 0, 65535).astype(">u2").tobytes()


def encode_lut16(lut: Lut) -> bytes:
    """`lut16Type` bytes (ICC.1:2022, 10.10); all grid sides must be equal."""
    sides = set(lut.grid.shape[:-1])
    if len(sides) != 1:
        raise BadInput("a lut16 table needs the same number of nodes on each side")
    head = struct.pack(">4s4xBBBx", b"mft2", len(lut.inputs), len(lut.outputs), sides.pop())
    matrix = struct.pack(">9i", *(65536 if i % 4 == 0 else 0 for i in range(9)))
    counts = struct.pack(">HH", len(lut.inputs[0]), len(lut.outputs[0]))
    body = b"".join(map(_u16, lut.inputs)) + _u16(lut.grid) + b"".join(map(_u16, lut.outputs))
    return head + matrix + counts + body


def _decode_lut(data: bytes, name: str) -> tuple[Lut, bool]:
    """A table and whether its Lab is coded the version 2 (legacy 16-bit) way."""
    try:
        kind = data[:4]
        if kind in (b"mft1", b"mft2"):
            return _decode_simple(data, kind), kind == b"mft2"
        if kind in (b"mAB ", b"mBA "):
            return _decode_elements(data, kind == b"mAB "), False
    except (struct.error, ValueError, IndexError) as error:
        raise BadInput(f"the table {name} is damaged: {error}") from error
    raise BadInput(f"the table {name} has the type {kind!r}, which is not a lookup table")


def _decode_simple(data: bytes, kind: bytes) -> Lut:
    channels, outputs, side = struct.unpack_from(">BBB", data, 8)
    if kind == b"mft1":
        entries, exits, at, form, full = 256, 256, 48, ">u1", 255.0
    else:
        entries, exits = struct.unpack_from(">HH", data, 48)
        at, form, full = 52, ">u2", 65535.0
    nodes = side**channels * outputs
    count = channels * entries + nodes + outputs * exits
    values = np.frombuffer(data, form, count, at).astype(float) / full
    first, second = channels * entries, channels * entries + nodes
    return Lut(
        list(values[:first].reshape(channels, entries)),
        values[first:second].reshape(*([side] * channels), outputs),
        list(values[second:].reshape(outputs, exits)),
    )


def _decode_elements(data: bytes, forward: bool) -> Lut:
    channels, outputs = struct.unpack_from(">BB", data, 8)
    b_at, matrix_at, _, clut_at, a_at = struct.unpack_from(">5I", data, 12)
    if matrix_at or not (clut_at and a_at and b_at):
        raise ValueError(
            "tables with a matrix stage, or without a grid, are not device profiles of a printer"
        )
    a_count, b_count = (channels, outputs) if forward else (outputs, channels)
    a_curves, b_curves = _read_curves(data, a_at, a_count), _read_curves(data, b_at, b_count)
    sides = list(data[clut_at : clut_at + channels])
    width = data[clut_at + 16]
    form, full = (">u1", 255.0) if width == 1 else (">u2", 65535.0)
    nodes = int(np.prod(sides)) * outputs
    grid = np.frombuffer(data, form, nodes, clut_at + 20).astype(float) / full
    grid = grid.reshape(*sides, outputs)
    return Lut(a_curves, grid, b_curves) if forward else Lut(b_curves, grid, a_curves)


def _read_curves(data: bytes, at: int, count: int) -> list[Array]:
    curves = []
    x = np.linspace(0.0, 1.0, 1024)
    for _ in range(count):
        kind = data[at : at + 4]
        if kind == b"curv":
            (points,) = struct.unpack_from(">I", data, at + 8)
            raw = np.frombuffer(data, ">u2", points, at + 12).astype(float)
            size = 12 + 2 * points
            curves.append(x if points == 0 else x ** (raw[0] / 256.0) if points == 1 else raw / 65535.0)
        elif kind == b"para":
            (function,) = struct.unpack_from(">H", data, at + 8)
            number = (1, 3, 4, 5, 7)[function]
            p = [v / 65536.0 for v in struct.unpack_from(f">{number}i", data, at + 12)]
            size = 12 + 4 * number
            curves.append(np.clip(_parametric(function, p, x), 0.0, 1.0))
        else:
            raise ValueError(f"unknown curve type {kind!r}")
        at += (size + 3) // 4 * 4
    return curves


def _parametric(function: int, p: list[float], x: Array) -> Array:
    """ICC.1:2022, 10.18, functions 0 to 4."""
    g = p[0]
    if function == 0:
        return np.asarray(x**g)
    a, b = p[1], p[2]
    base = np.maximum(a * x + b, 0.0) ** g
    if function == 1:
        return np.where(x >= -b / a, base, 0.0)
    if function == 2:
        return np.where(x >= -b / a, base + p[3], p[3])
    if function == 3:
        return np.where(x >= p[4], base, p[3] * x)
    return np.where(x >= p[4], base + p[5], p[3] * x + p[6])


def encode_lab(lab: Array, legacy: bool = True) -> Array:
    """PCS Lab as fractions of 16 bits; `legacy` is the version 2 coding, which `lut16Type` always uses."""
    top = 65280.0 if legacy else 65535.0
    scaled = np.stack(
        [lab[..., 0] / 100.0, (lab[..., 1] + 128.0) / 255.0, (lab[..., 2] + 128.0) / 255.0], axis=-1
    )
    if legacy:
        scaled = np.stack(
            [lab[..., 0] / 100.0 * top, (lab[..., 1] + 128.0) * 256.0, (lab[..., 2] + 128.0) * 256.0], axis=-1
        )
        scaled = scaled / 65535.0
    return np.clip(scaled, 0.0, 1.0)


def decode_lab(values: Array, legacy: bool = True) -> Array:
    """Inverse of `encode_lab`."""
    if legacy:
        v = values * 65535.0
        return np.stack([v[..., 0] / 652.8, v[..., 1] / 256.0 - 128.0, v[..., 2] / 256.0 - 128.0], axis=-1)
    return np.stack(
        [values[..., 0] * 100.0, values[..., 1] * 255.0 - 128.0, values[..., 2] * 255.0 - 128.0], axis=-1
    )


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
        b"desc\0\0\0\0" + struct.pack(">I", len(plain)) + plain
        + struct.pack(">II", 0, len(coded) // 2) + coded + struct.pack(">HB67x", 0, 0)
    )  # fmt: skip


def xyz_tag(xyz: Array) -> bytes:
    """`XYZType` of one colour, Y = 1 for the perfect diffuser."""
    return b"XYZ \0\0\0\0" + struct.pack(">3i", *(round(float(v) * 65536) for v in xyz))


def matrix_tag(matrix: Array) -> bytes:
    """`s15Fixed16ArrayType` of a 3 x 3 matrix, for `chad`."""
    return b"sf32\0\0\0\0" + struct.pack(
        ">9i", *(round(float(v) * 65536) for v in np.asarray(matrix).ravel())
    )


def build(tags: Mapping[str, bytes], channels: int, version: int, when: datetime, intent: int = 0) -> bytes:
    """A whole output (`prtr`) profile from its tags; PCS is Lab. Version 4 carries the MD5 profile id."""
    table, body, placed = b"", b"", {}
    offset = 128 + 4 + 12 * len(tags)
    for signature, data in tags.items():
        key = hashlib.md5(data, usedforsecurity=False).digest()
        if key not in placed:
            padded = data + b"\0" * (-len(data) % 4)
            placed[key] = (offset + len(body), len(data))
            body += padded
        table += struct.pack(">4sII", signature.encode(), *placed[key])
    size = offset + len(body)
    header = struct.pack(
        ">I4sI4s4s4s6H4s4sI4s4sQI3i4s16s28x",
        size, b"\0\0\0\0", 0x04400000 if version == 4 else 0x02400000, b"prtr", _SPACES[channels], b"Lab ",
        when.year, when.month, when.day, when.hour, when.minute, when.second,
        b"acsp", b"\0\0\0\0", 0, b"\0\0\0\0", b"\0\0\0\0", 0, intent,
        *(round(v * 65536) for v in PCS_WHITE), b"\0\0\0\0", b"\0" * 16,
    )  # fmt: skip
    profile = header + struct.pack(">I", len(tags)) + table + body
    if version != 4:
        return profile
    blank = (
        profile[:44] + b"\0" * 4 + profile[48:64] + b"\0" * 4 + profile[68:84] + b"\0" * 16 + profile[100:]
    )
    identity = hashlib.md5(blank, usedforsecurity=False).digest()
    return profile[:84] + identity + profile[100:]


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
    """

    version: tuple[int, int]
    device_class: str
    space: str
    pcs: str
    channels: int
    created: str
    tags: dict[str, bytes]
    profile_id: str = ""
    luts: dict[str, tuple[Lut, bool]] = field(default_factory=dict, compare=False, repr=False)

    @property
    def description(self) -> str:
        return tag_text(self.tags.get("desc", b""))

    @property
    def white(self) -> Array:
        """Media white point, XYZ with Y = 1 for the perfect diffuser."""
        data = self.tags.get("wtpt", b"")
        if len(data) < 20:
            raise BadInput("the profile has no media white point")
        return np.array(struct.unpack_from(">3i", data, 8)) / 65536.0

    def lut(self, name: str) -> tuple[Lut, bool]:
        """The table `name` (``A2B1``) and whether its Lab is coded the legacy way."""
        if name not in self.luts:
            if name not in self.tags:
                raise BadInput(f"the profile has no {name} table")
            self.luts[name] = _decode_lut(self.tags[name], name)
        return self.luts[name]

    def device_to_lab(self, device: Array, intent: str = "absolute") -> Array:
        """Lab (n, 3) of device fractions (n, channels); ``absolute``, ``relative``, ``perceptual`` or ``saturation``."""
        name = self._table("A2B", intent)
        lut, legacy = self.lut(name)
        lab = decode_lab(lut.evaluate(np.asarray(device, dtype=float)), legacy)
        return self._absolute(lab, 1) if intent == "absolute" else lab

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
    source = Path(path)
    try:
        if source.stat().st_size > MAX_BYTES:
            raise BadInput(f"the file is larger than {MAX_BYTES // 2**20} MB", source.name)
        data = source.read_bytes()
    except OSError as error:
        raise BadInput(f"cannot be read: {error.strerror or error}", source.name) from error
    return loads(data, source.name)


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
    )


def perceptual_black(version: int) -> float:
    """L* of the perceptual PCS black point: 3.1373 in version 4 (ICC.1:2022, 6.3.4.3), 0 in version 2."""
    return _PERCEPTUAL_BLACK_L if version == 4 else 0.0
