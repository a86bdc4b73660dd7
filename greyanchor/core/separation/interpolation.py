"""Lookup tables read the way colour engines read them.

Tables of device values: tetrahedra in the last three channels, lines in the others. Tables of Lab: lines in
all three, as lightness is no diagonal there. Where a table has a corner the two lie percents of ink apart,
and what is printed has to be what any other program prints.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit

from greyanchor.core.colour.colorimetry import Array


@njit(cache=True, nogil=True, fastmath=False)
def _tetrahedron(grid, at, x, y, z, sx, sy, sz, share, out):  # type: ignore[no-untyped-def]
    """Add `share` of the value in one cell, whose first node is `at`, to `out`."""
    m = out.shape[0]
    if x >= y:
        if y >= z:
            a, b, p, q, r = sx, sx + sy, x, y, z
        elif x >= z:
            a, b, p, q, r = sx, sx + sz, x, z, y
        else:
            a, b, p, q, r = sz, sz + sx, z, x, y
    elif x >= z:
        a, b, p, q, r = sy, sy + sx, y, x, z
    elif y >= z:
        a, b, p, q, r = sy, sy + sz, y, z, x
    else:
        a, b, p, q, r = sz, sz + sy, z, y, x
    w0, w1, w2, w3 = share * (1.0 - p), share * (p - q), share * (q - r), share * r
    far = at + sx + sy + sz
    for j in range(m):
        out[j] += w0 * grid[at, j] + w1 * grid[at + a, j] + w2 * grid[at + b, j] + w3 * grid[far, j]


@njit(cache=True, nogil=True)
def _evaluate(grid, sides, values, tetrahedral, out):  # type: ignore[no-untyped-def]
    n, k = values.shape
    strides = np.ones(k, dtype=np.int64)
    for i in range(k - 2, -1, -1):
        strides[i] = strides[i + 1] * sides[i + 1]
    low = np.zeros(k, dtype=np.int64)
    step = np.zeros(k, dtype=np.int64)
    part = np.zeros(k)
    lines = k - 3 if tetrahedral and k >= 3 else k
    for row in range(n):
        base = 0
        for i in range(k):
            v = min(max(values[row, i], 0.0), 1.0) * (sides[i] - 1)
            low[i] = min(int(v), sides[i] - 1)
            part[i] = v - low[i]
            step[i] = strides[i] if low[i] < sides[i] - 1 else 0
            base += low[i] * strides[i]
        out[row, :] = 0.0
        for corner in range(1 << lines):
            at, share = base, 1.0
            for i in range(lines):
                if (corner >> i) & 1:
                    at += step[i]
                    share *= part[i]
                else:
                    share *= 1.0 - part[i]
            if share == 0.0:
                continue
            if lines < k:
                _tetrahedron(
                    grid,
                    at,
                    part[k - 3],
                    part[k - 2],
                    part[k - 1],
                    step[k - 3],
                    step[k - 2],
                    step[k - 1],
                    share,
                    out[row],
                )
            else:
                for j in range(out.shape[1]):
                    out[row, j] += share * grid[at, j]


def interpolate(grid: Array, values: Array, tetrahedral: bool = True) -> Array:
    """Values (n, m) of a table `grid` (s1, ..., sk, m) at `values` (n, k) in 0..1.

    Where it is `tetrahedral`, the last three inputs are interpolated in tetrahedra and those before them
    linearly; else, and with fewer inputs, all of them linearly. Inputs outside 0..1 count as the nearest end.
    """
    sides = np.array(grid.shape[:-1], dtype=np.int64)
    flat = np.ascontiguousarray(grid.reshape(-1, grid.shape[-1]), dtype=np.float64)
    given = np.ascontiguousarray(values, dtype=np.float64)
    out = np.empty((len(given), flat.shape[1]))
    _evaluate(flat, sides, given, tetrahedral, out)
    return out


@njit(cache=True, nogil=True)
def _apply_curves(tables, lengths, values, out):  # type: ignore[no-untyped-def]
    n, k = values.shape
    for i in range(k):
        last = lengths[i] - 1
        for row in range(n):
            v = min(max(values[row, i], 0.0), 1.0) * last
            at = min(int(v), last - 1)
            part = v - at
            out[row, i] = tables[i, at] * (1.0 - part) + tables[i, at + 1] * part


def apply_curves(curves: Sequence[Array], values: Array) -> Array:
    """Each channel of `values` (n, k) through its own curve (points,), evenly spaced over 0..1."""
    longest = max(len(c) for c in curves)
    tables = np.zeros((len(curves), longest))
    for i, curve in enumerate(curves):
        tables[i, : len(curve)] = curve
    lengths = np.array([len(c) for c in curves], dtype=np.int64)
    given = np.ascontiguousarray(values, dtype=np.float64)
    out = np.empty_like(given)
    _apply_curves(tables, lengths, given, out)
    return out
