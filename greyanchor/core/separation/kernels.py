"""The compiled inner loops of `conversion`: blocks of pixels, stage after stage, so that each runs wide.

All arrays are float32 unless said otherwise, grids flat (nodes * values). Indices are unsigned: the compiler
then reads straight on, without asking whether one counts from the end. A block has `BLOCK` pixels, which
stay in the cache between stages. What is compiled is kept on disk: the loops whose number of inks is built in
close over that number and nothing else.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numba import njit

from greyanchor.core.formats.icc import PCS_WHITE

BLOCK = 4096
Pixels = np.ndarray[Any, Any]
#: intervals of the curves between stages, which have one point more than that makes
POINTS = 4096
#: cells along each side of the table that most colours of three channels are read from; divides 255
CELLS = 51
#: parts of a cell's side in a table of its own: one for each step of 8 bits
FINER = 5
#: largest XYZ over its white that the eye's root is tabulated to (b* -128 at L* 100), and how many steps
BRIGHTEST, ROOTS = 4.5, 16384
_WHITE = tuple(np.float32(v) for v in PCS_WHITE)
_ONE, _ZERO = np.float32(1.0), np.float32(0.0)
_FULL = np.float32(65535.0)
_HALF = np.float32(0.5)
#: amounts up to this, of 65535, are none
_TRACE = np.int32(24)


@njit(cache=True, nogil=True, inline="always")
def _curve(table, v):  # type: ignore[no-untyped-def]
    """An evenly sampled curve (POINTS + 2,) at `v`, which is held to 0..1."""
    x = min(max(v, np.float32(0.0)), np.float32(1.0)) * np.float32(POINTS)
    at = np.uint32(x)
    low = table[at]
    return low + (table[at + np.uint32(1)] - low) * (x - np.float32(at))


@njit(cache=True, nogil=True, inline="always")
def _root(table, v):  # type: ignore[no-untyped-def]
    """The eye's root (ROOTS + 2,) at `v`, which is a share of BRIGHTEST."""
    x = min(max(v, np.float32(0.0)), np.float32(1.0)) * np.float32(ROOTS)
    at = np.uint32(x)
    low = table[at]
    return low + (table[at + np.uint32(1)] - low) * (x - np.float32(at))


@njit(cache=True, nogil=True)
def find_runs(flat, starts, same):  # type: ignore[no-untyped-def]
    """Where the colour changes along pixels (n, k): rows of fresh ones, and for each pixel which it is.

    `starts` (n + 1,) of uint64 and `same` (n,) of uint32 are filled in; gives how many are fresh.
    """
    k = np.uint64(flat.shape[1])
    fresh = np.uint64(0)
    for row in range(np.uint64(len(flat))):
        new = row == 0
        if not new:
            for c in range(k):
                new |= flat[row, c] != flat[row - np.uint64(1), c]
        starts[fresh] = row
        fresh += np.uint64(new)
        same[row] = np.uint32(fresh) - np.uint32(1)
    return fresh


@njit(cache=True, nogil=True)
def repeat_runs(starts, same, out):  # type: ignore[no-untyped-def]
    """Copy amounts (n, inks) from fresh pixels to those that repeat them."""
    m = np.uint64(out.shape[1])
    for row in range(np.uint64(len(out))):
        first = starts[same[row]]
        if first != row:
            for c in range(m):
                out[row, c] = out[first, c]


@njit(cache=True, nogil=True, fastmath=True)
def _matrix_xyz(flat, starts, count, source, xyz):  # type: ignore[no-untyped-def]
    """Tone curves (3, values) and a matrix (3, 3)."""
    tables, matrix = source[0], source[1]
    r, g, b = tables[0], tables[1], tables[2]
    for i in range(np.uint32(count)):
        row = starts[i]
        u, v, w = r[flat[row, 0]], g[flat[row, 1]], b[flat[row, 2]]
        xyz[0, i] = u * matrix[0, 0] + v * matrix[1, 0] + w * matrix[2, 0]
        xyz[1, i] = u * matrix[0, 1] + v * matrix[1, 1] + w * matrix[2, 1]
        xyz[2, i] = u * matrix[0, 2] + v * matrix[1, 2] + w * matrix[2, 2]


@njit(cache=True, nogil=True, inline="always")
def _order(x, y, z, sx, sy, sz):  # type: ignore[no-untyped-def]
    """The tetrahedron that a place in a cell lies in: second and third node, and the parts in order."""
    if x >= y:
        if y >= z:
            return sx, sx + sy, x, y, z
        if x >= z:
            return sx, sx + sz, x, z, y
        return sz, sz + sx, z, x, y
    if x >= z:
        return sy, sy + sx, y, x, z
    if y >= z:
        return sy, sy + sz, y, z, x
    return sz, sz + sy, z, y, x


@njit(cache=True, nogil=True, inline="always")
def _tetra(grid, at, a, d, far, p, q, r):  # type: ignore[no-untyped-def]
    """One number of four nodes of a flat grid."""
    return (
        (np.float32(1.0) - p) * grid[at]
        + (p - q) * grid[at + a]
        + (q - r) * grid[at + d]
        + r * grid[at + far]
    )


@njit(cache=True, nogil=True, fastmath=True)
def _table3_xyz(flat, starts, count, source, xyz):  # type: ignore[no-untyped-def]
    """A table of three channels: entry curves (already times cells), flat grid, sides, exits, coding."""
    tables, grid, sides, outward, code = source
    tx, ty, tz = tables[0], tables[1], tables[2]
    sx, sy, sz = np.uint32(3 * sides[1] * sides[2]), np.uint32(3 * sides[2]), np.uint32(3)
    top = np.uint32(sides[0] - 2), np.uint32(sides[1] - 2), np.uint32(sides[2] - 2)
    for i in range(np.uint32(count)):
        row = starts[i]
        x, y, z = tx[flat[row, 0]], ty[flat[row, 1]], tz[flat[row, 2]]
        lx, ly, lz = min(np.uint32(x), top[0]), min(np.uint32(y), top[1]), min(np.uint32(z), top[2])
        at = lx * sx + ly * sy + lz * sz
        a, d, p, q, r = _order(x - np.float32(lx), y - np.float32(ly), z - np.float32(lz), sx, sy, sz)
        far = sx + sy + sz
        for c in range(np.uint32(3)):
            xyz[c, i] = _tetra(grid, at + c, a, d, far, p, q, r)
    if code[0, 0] > _ZERO:
        _decode(xyz, count, outward, code)


@njit(cache=True, nogil=True, fastmath=True)
def _table4_xyz(flat, starts, count, source, xyz):  # type: ignore[no-untyped-def]
    """The same of four channels: a line in the first, tetrahedra in the others."""
    tables, grid, sides, outward, code = source
    tw, tx, ty, tz = tables[0], tables[1], tables[2], tables[3]
    sz, sy = np.uint32(3), np.uint32(3 * sides[3])
    sx, sw = np.uint32(3 * sides[2] * sides[3]), np.uint32(3 * sides[1] * sides[2] * sides[3])
    t0, t1 = np.uint32(sides[0] - 2), np.uint32(sides[1] - 2)
    t2, t3 = np.uint32(sides[2] - 2), np.uint32(sides[3] - 2)
    for i in range(np.uint32(count)):
        row = starts[i]
        w, x, y, z = tw[flat[row, 0]], tx[flat[row, 1]], ty[flat[row, 2]], tz[flat[row, 3]]
        lw, lx, ly, lz = (
            min(np.uint32(w), t0),
            min(np.uint32(x), t1),
            min(np.uint32(y), t2),
            min(np.uint32(z), t3),
        )
        w -= np.float32(lw)
        at = lw * sw + lx * sx + ly * sy + lz * sz
        a, d, p, q, r = _order(x - np.float32(lx), y - np.float32(ly), z - np.float32(lz), sx, sy, sz)
        far = sx + sy + sz
        for c in range(np.uint32(3)):
            low = _tetra(grid, at + c, a, d, far, p, q, r)
            high = _tetra(grid, at + sw + c, a, d, far, p, q, r)
            xyz[c, i] = low + w * (high - low)
    if code[0, 0] > _ZERO:
        _decode(xyz, count, outward, code)


@njit(cache=True, nogil=True, fastmath=True)
def _decode(xyz, count, outward, code):  # type: ignore[no-untyped-def]
    """What a table says, as XYZ: from Lab, or as it is where the table holds XYZ."""
    by_lab = code[0, 0] >= np.float32(10.0)
    knee, slope = np.float32(6.0 / 29.0), np.float32(27.0 / 24389.0)
    o0, o1, o2 = outward[0], outward[1], outward[2]
    for i in range(np.uint32(count)):
        u = _curve(o0, xyz[0, i]) * code[0, 0] + code[1, 0]
        v = _curve(o1, xyz[1, i]) * code[0, 1] + code[1, 1]
        w = _curve(o2, xyz[2, i]) * code[0, 2] + code[1, 2]
        if by_lab:
            fy = (u + np.float32(16.0)) * np.float32(1.0 / 116.0)
            fx = fy + v * np.float32(0.002)
            fz = fy - w * np.float32(0.005)
            u = fx * fx * fx if fx > knee else (np.float32(116.0) * fx - np.float32(16.0)) * slope
            v = fy * fy * fy if fy > knee else (np.float32(116.0) * fy - np.float32(16.0)) * slope
            w = fz * fz * fz if fz > knee else (np.float32(116.0) * fz - np.float32(16.0)) * slope
            u, v, w = u * _WHITE[0], v * _WHITE[1], w * _WHITE[2]
        xyz[0, i], xyz[1, i], xyz[2, i] = u, v, w


_SOURCES = {"matrix": _matrix_xyz, "table3": _table3_xyz, "table4": _table4_xyz}


@njit(cache=True, nogil=True, fastmath=True)
def _asked(xyz, count, shift, roots):  # type: ignore[no-untyped-def]
    """XYZ, scaled and moved by `shift`, to L* / 100, a* and b*, in place; `roots` covers 0..BRIGHTEST."""
    for c in range(3):
        a = shift[0, c] / (_WHITE[c] * np.float32(BRIGHTEST))
        b = shift[1, c] / (_WHITE[c] * np.float32(BRIGHTEST))
        row = xyz[c]
        for i in range(np.uint32(count)):
            row[i] = _root(roots, row[i] * a + b)
    for i in range(np.uint32(count)):
        fx, fy, fz = xyz[0, i], xyz[1, i], xyz[2, i]
        xyz[0, i] = np.float32(1.16) * fy - np.float32(0.16)
        xyz[1, i] = np.float32(500.0) * (fx - fy)
        xyz[2, i] = np.float32(200.0) * (fy - fz)


@lru_cache(maxsize=16)
def _into_inks(inks: int) -> Callable[..., None]:
    """From L* / 100, a* and b* through a printer's table and curves to amounts of `inks` inks."""
    m = inks

    @njit(cache=True, nogil=True, fastmath=True)
    def run(xyz, starts, count, lighter, limited, target, got, out):  # type: ignore[no-untyped-def]
        inward, code, grid, sides, outward, total, curves = target
        wide = np.uint32(m)
        s1, s0 = np.uint32(sides[2]) * wide, np.uint32(sides[1] * sides[2]) * wide
        n0, n1, n2 = np.float32(sides[0] - 1), np.float32(sides[1] - 1), np.float32(sides[2] - 1)
        t0, t1, t2 = np.uint32(sides[0] - 2), np.uint32(sides[1] - 2), np.uint32(sides[2] - 2)
        ia, ib = inward[1], inward[2]
        for i in range(np.uint32(count)):
            # `lighter` holds the nudge and the entry curve in one
            p = _curve(lighter, xyz[0, i]) * n0
            q = _curve(ia, xyz[1, i] * code[0, 1] + code[1, 1]) * n1
            r = _curve(ib, xyz[2, i] * code[0, 2] + code[1, 2]) * n2
            l0, l1, l2 = min(np.uint32(p), t0), min(np.uint32(q), t1), min(np.uint32(r), t2)
            p -= np.float32(l0)
            q -= np.float32(l1)
            r -= np.float32(l2)
            at = l0 * s0 + l1 * s1 + l2 * wide
            p1, q1, r1 = _ONE - p, _ONE - q, _ONE - r
            w00, w01, w10, w11 = p1 * q1, p1 * q, p * q1, p * q
            for c in range(wide):
                j = at + c
                near = w00 * grid[j] + w01 * grid[j + s1] + w10 * grid[j + s0] + w11 * grid[j + s0 + s1]
                j += wide
                far = w00 * grid[j] + w01 * grid[j + s1] + w10 * grid[j + s0] + w11 * grid[j + s0 + s1]
                got[i, c] = near * r1 + far * r
        if limited:
            _clamp(got, count, outward, total)
        for c in range(m):
            curve = curves[c]
            for i in range(np.uint32(count)):
                amount = np.int32(_curve(curve, got[i, c]) * _FULL + _HALF)
                # rounding on the way must not leave a trace of ink on bare paper
                out[starts[i], c] = np.uint16(amount) if amount > _TRACE else np.uint16(0)

    return run


class Chain:
    """The whole way of a colour, for pictures of one kind onto a printer of `inks` inks.

    Parameters
    ----------
    kind
        ``matrix``, ``table3`` or ``table4``.
    inks
        Channels of the printer's table.
    limited
        Whether sums are held to a total.
    direct
        Whether the source's table holds L* / 100, a* and b* as the printer is asked for them.
    arrays
        Those of source, colour and target, as `conversion` makes them.
    """

    def __init__(
        self, kind: str, inks: int, limited: bool, direct: bool, arrays: tuple[Any, Any, Any]
    ) -> None:
        self._source_xyz = _SOURCES[kind]
        self._into = _into_inks(inks)
        self._limited, self._direct, self._inks = limited, direct, inks
        self._source, (self._shift, self._roots, self._lighter), self._target = arrays

    def some(self, flat: Pixels, rows: Pixels, out: Pixels) -> None:
        """Fill in amounts (n, inks) of 16 bits for those `rows` (uint64) of pixels (n, k)."""
        xyz = np.empty((3, BLOCK), dtype=np.float32)
        got = np.empty((BLOCK, self._inks), dtype=np.float32)
        for first in range(0, len(rows), BLOCK):
            part = rows[first : first + BLOCK]
            count = len(part)
            self._source_xyz(flat, part, count, self._source, xyz)
            if not self._direct:
                _asked(xyz, count, self._shift, self._roots)
            self._into(xyz, part, count, self._lighter, self._limited, self._target, got, out)

    def all(self, flat: Pixels, out: Pixels) -> None:
        """Fill in amounts for all pixels; what a neighbour has is copied."""
        starts = np.empty(len(flat) + 1, dtype=np.uint64)
        same = np.empty(len(flat), dtype=np.uint32)
        fresh = int(find_runs(flat, starts, same))
        self.some(flat, starts[:fresh], out)
        if fresh < len(flat):
            repeat_runs(starts, same, out)


@njit(cache=True, nogil=True, fastmath=True)
def _clamp(got, count, outward, total):  # type: ignore[no-untyped-def]
    """Amounts after their exit curves, held to a sum: black stays, the others give way."""
    m = got.shape[1]
    most, black = total[0], np.int64(total[1])
    for i in range(count):
        summed = np.float32(0.0)
        for c in range(m):
            got[i, c] = _curve(outward[c], got[i, c])
            summed += got[i, c]
        if summed > most:
            held = min(got[i, black], most) if black >= 0 else np.float32(0.0)
            rest = summed - (got[i, black] if black >= 0 else np.float32(0.0))
            less = (most - held) / max(rest, np.float32(1e-9))
            for c in range(m):
                got[i, c] = held if c == black else got[i, c] * less


@lru_cache(maxsize=16)
def folded(inks: int) -> Callable[..., int]:
    """The loop over a picture of three channels, most of whose colours are read from a table.

    Called with pixels (n, 3), `(scale, table, slots, uses)`, the amounts (n, inks) to fill in, and room for
    rows (n + 1,) of uint64 that it leaves; gives how many. Scale is cells per step of the picture; the table
    (nodes * inks,) is times 65535, those of single cells after that of the whole; for each cell, slots is 0
    where the whole's says it well, the number of its own table, or -1; uses counts what was left since.
    """
    m = inks

    @njit(cache=True, nogil=True, fastmath=True)
    def run(flat, fold, out, rows):  # type: ignore[no-untyped-def]
        scale, table, slots, uses = fold
        u, top, finest = np.uint64, np.int32(CELLS - 1), np.int32(FINER - 1)
        wide = u(m)
        bx, by = u((CELLS + 1) ** 2) * wide, u(CELLS + 1) * wide
        fx, fy = u((FINER + 1) ** 2) * wide, u(FINER + 1) * wide
        each, start = u((FINER + 1) ** 3) * wide, u((CELLS + 1) ** 3) * wide
        left = u(0)
        for row in range(u(len(flat))):
            x, y, z = flat[row, 0] * scale, flat[row, 1] * scale, flat[row, 2] * scale
            lx, ly, lz = min(np.int32(x), top), min(np.int32(y), top), min(np.int32(z), top)
            x -= np.float32(lx)
            y -= np.float32(ly)
            z -= np.float32(lz)
            cell = u((lx * CELLS + ly) * CELLS + lz)
            slot = slots[cell]
            if slot == 0:
                sx, sy = bx, by
                at = u(lx) * bx + u(ly) * by + u(lz) * wide
            elif slot > 0:
                x *= np.float32(FINER)
                y *= np.float32(FINER)
                z *= np.float32(FINER)
                lx, ly, lz = min(np.int32(x), finest), min(np.int32(y), finest), min(np.int32(z), finest)
                x -= np.float32(lx)
                y -= np.float32(ly)
                z -= np.float32(lz)
                sx, sy = fx, fy
                at = start + u(slot - 1) * each + u(lx) * fx + u(ly) * fy + u(lz) * wide
            else:
                uses[cell] += np.int32(1)
                rows[left] = row
                left += u(1)
                continue
            a, d, p, q, r = _order(x, y, z, sx, sy, wide)
            w0, w1, w2 = _ONE - p, p - q, q - r
            a, d, far = at + a, at + d, at + sx + sy + wide
            for c in range(wide):
                v = w0 * table[at + c] + w1 * table[a + c] + w2 * table[d + c] + r * table[far + c]
                out[row, c] = np.uint16(np.int32(v + _HALF))
        return left

    return run


@njit(cache=True, nogil=True)
def keep_pure(flat, kept, full, out):  # type: ignore[no-untyped-def]
    """Overwrite pixels of one ink alone, or of pure black, by the ramps (channels, 256, inks) of `kept`."""
    n, k = flat.shape
    for row in range(n):
        inked, alone = 0, 0
        for c in range(k):
            if flat[row, c] > 0:
                inked += 1
                alone = c
        if (k == 4 and inked == 1 and kept[alone, 0, 0] >= 0) or (k == 3 and inked == 0):
            v = np.float32(flat[row, alone]) * np.float32(255.0) / np.float32(full)
            low = min(np.int32(v), np.int32(254))
            share = v - np.float32(low)
            for c in range(out.shape[1]):
                w = np.float32(kept[alone, low, c])
                if share > _ZERO:
                    w += share * (np.float32(kept[alone, low + 1, c]) - w)
                out[row, c] = np.uint16(w + _HALF)
