"""Lookup tables of ICC profiles: `lut16Type` and `lutAToBType` both ways, and `lut8Type`, `lutBToAType` for
reading.

Numbers are fractions 0..1 of the encoded range; `encode_lab` and `decode_lab` turn PCS Lab into them and
back.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

MAX_INPUTS, MAX_OUTPUTS = 8, 15
_MAX_CURVE = 65536


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
    """`lut16Type` bytes (ICC.1:2022, 10.10); all grid sides must be equal. Raises `BadInput` for a grid
    that is not.
    """
    sides = set(lut.grid.shape[:-1])
    if len(sides) != 1:
        raise BadInput("a lut16 table needs the same number of nodes on each side")
    head = struct.pack(">4s4xBBBx", b"mft2", len(lut.inputs), len(lut.outputs), sides.pop())
    matrix = struct.pack(">9i", *(65536 if i % 4 == 0 else 0 for i in range(9)))
    counts = struct.pack(">HH", len(lut.inputs[0]), len(lut.outputs[0]))
    body = b"".join(map(_u16, lut.inputs)) + _u16(lut.grid) + b"".join(map(_u16, lut.outputs))
    return head + matrix + counts + body


def encode_lut_a_to_b(lut: Lut) -> bytes:
    """`lutAToBType` bytes (ICC.1:2022, 10.12), where each side of the grid may have its own number of nodes;
    no matrix, and straight curves behind the grid. Version 4 only, and Lab is coded its way.

    Raises `BadInput` for a table with curves behind its grid.
    """
    if any(len(c) > 2 for c in lut.outputs):
        raise BadInput("curves behind the grid of a lutAToB table are not written")
    sides = lut.grid.shape[:-1]
    behind = struct.pack(">4s4xI", b"curv", 0) * len(lut.outputs)
    grid = bytes([*sides, *[0] * (16 - len(sides))]) + b"\x02\0\0\0" + _u16(lut.grid)
    grid += b"\0" * (-len(grid) % 4)
    before = b""
    for curve in lut.inputs:
        before += struct.pack(">4s4xI", b"curv", len(curve)) + _u16(curve)
        before += b"\0" * (-len(before) % 4)
    grid_at = 32 + len(behind)
    head = struct.pack(
        ">4s4xBBxx5I", b"mAB ", len(lut.inputs), len(lut.outputs), 32, 0, 0, grid_at, grid_at + len(grid)
    )
    return head + behind + grid + before


def decode_lut(data: bytes, name: str) -> tuple[Lut, bool]:
    """A table and whether its Lab is coded the version 2 (legacy 16-bit) way.

    `name` is for messages. Raises `BadInput` for another type of tag and for damaged data.
    """
    try:
        kind = data[:4]
        if kind in (b"mft1", b"mft2"):
            return _decode_simple(data, kind), kind == b"mft2"
        if kind in (b"mAB ", b"mBA "):
            return _decode_elements(data, kind == b"mAB "), False
    except (struct.error, ValueError, IndexError) as error:
        raise BadInput(f"the table {name} is damaged: {error}") from error
    raise BadInput(f"the table {name} has the type {kind!r}, which is not a lookup table")


def check_size(channels: int, outputs: int, sides: list[int]) -> None:
    """More inputs than a printer has would make one evaluation endless: 2^n corners are looked up for each
    colour.
    """
    if not 1 <= channels <= MAX_INPUTS or not 1 <= outputs <= MAX_OUTPUTS:
        raise ValueError(f"{channels} channels to {outputs}: no printer has these")
    if len(sides) != channels or min(sides) < 2:
        raise ValueError("a side of its grid has fewer than two nodes")


def _decode_simple(data: bytes, kind: bytes) -> Lut:
    channels, outputs, side = struct.unpack_from(">BBB", data, 8)
    check_size(channels, outputs, [side] * channels)
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
    check_size(channels, outputs, sides)
    width = data[clut_at + 16]
    form, full = (">u1", 255.0) if width == 1 else (">u2", 65535.0)
    nodes = math.prod(sides) * outputs
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
            if points > _MAX_CURVE:
                raise ValueError(f"a curve of {points} points")
            raw = np.frombuffer(data, ">u2", points, at + 12).astype(float)
            size = 12 + 2 * points
            curves.append(x if points == 0 else x ** (raw[0] / 256.0) if points == 1 else raw / 65535.0)
        elif kind == b"para":
            (function,) = struct.unpack_from(">H", data, at + 8)
            number = (1, 3, 4, 5, 7)[function]
            p = [v / 65536.0 for v in struct.unpack_from(f">{number}i", data, at + 12)]
            size = 12 + 4 * number
            curves.append(np.clip(parametric(function, p, x), 0.0, 1.0))
        else:
            raise ValueError(f"unknown curve type {kind!r}")
        at += (size + 3) // 4 * 4
    return curves


def parametric(function: int, p: list[float], x: Array) -> Array:
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
    """PCS Lab (..., 3) as fractions of 16 bits (..., 3); `legacy` is the version 2 coding, which
    `lut16Type` always uses (ICC.1:2022, 6.3.4 and 10.10).
    """
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
    """Inverse of `encode_lab`: fractions (..., 3) to Lab (..., 3)."""
    if legacy:
        v = values * 65535.0
        return np.stack([v[..., 0] / 652.8, v[..., 1] / 256.0 - 128.0, v[..., 2] / 256.0 - 128.0], axis=-1)
    return np.stack(
        [values[..., 0] * 100.0, values[..., 1] * 255.0 - 128.0, values[..., 2] * 255.0 - 128.0], axis=-1
    )
