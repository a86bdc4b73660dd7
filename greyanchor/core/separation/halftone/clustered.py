"""Clustered dots at any frequency and angle, by supercells; and the hybrid, whose dots thin out.

A screen's cells rarely fit the dots of a printer. A supercell of n x n cells does: its side runs from one dot
exactly to another, and the cells within differ by a dot at most, spread evenly, so that a flat
tone shows no pattern of its own.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.separation.halftone.voidcluster import void_and_cluster

DOTS = ("round", "ellipse", "square", "line")
#: a supercell is as good as asked for when it is this near
_FREQUENCY_WITHIN, _ANGLE_WITHIN = 0.001, 0.05
#: dots of a supercell: enough for every tone of 14 bits, and no more than stay in the cache
_LEAST_DOTS, _MOST_DOTS = 1 << 14, 1 << 21
_MOST_CELLS = 128
#: dots of a cell that stay together in the highlights and shadows of the hybrid
SMALLEST = 4
#: the plastic number's powers: a sequence that fills the square evenly whatever its length (R2)
_R2 = (0.7548776662466927, 0.5698402909980532)


@dataclass(frozen=True)
class Lattice:
    """A supercell.

    Attributes
    ----------
    a, b
        Its side in dots, (a, b); the other side is (-b, a).
    cells
        Cells along a side.
    frequency, angle
        What it really has: lines an inch and degrees.
    """

    a: int
    b: int
    cells: int
    frequency: float
    angle: float

    @property
    def height(self) -> int:
        """Rows after which the screen repeats, moved by `shift`."""
        return math.gcd(self.a, self.b) or max(self.a, self.b)

    @property
    def width(self) -> int:
        """Dots after which a row repeats."""
        return (self.a**2 + self.b**2) // self.height

    @property
    def shift(self) -> int:
        """How far the screen has moved along the row after `height` rows."""
        _, v, u = _euclid(self.a, self.b)
        return -(u * self.a - v * self.b) % self.width


def _euclid(a: int, b: int) -> tuple[int, int, int]:
    """Greatest divisor g of a and b, and v, u with v a + u b = g."""
    if b == 0:
        return a, 1, 0
    g, v, u = _euclid(b, a % b)
    return g, u, v - (a // b) * u


def check_period(frequency: float, resolution: float) -> float:
    """Dots of a cell along a side. Raises `BadInput` for fewer than two or more than 400."""
    period = resolution / frequency
    if not 2.0 <= period <= 400.0:
        raise BadInput(
            f"{frequency:g} lines an inch at {resolution:g} dpi make cells {period:.1f} dots wide; 2 to 400 "
            f"are possible: ask for {resolution / 400.0:.3g} to {resolution / 2.0:g} lines"
        )
    return period


def lattice(frequency: float, angle: float, resolution: float) -> Lattice:
    """The smallest supercell that is as good as asked for, or the best of those that are not too large.

    Raises `BadInput` for a frequency that leaves a cell fewer than two dots or more than 400 wide.
    """
    period = check_period(frequency, resolution)
    radians = math.radians(angle % 90.0)
    best: tuple[float, Lattice] | None = None
    for cells in range(1, _MOST_CELLS + 1):
        a = round(cells * period * math.cos(radians))
        b = round(cells * period * math.sin(radians))
        made = _of_sides(a, b, cells, angle, resolution)
        if made is None:
            continue
        off = _off(made, frequency, angle)
        if best is None or off < best[0]:
            best = off, made
        if off <= 1.0:
            break
    assert best is not None
    return best[1]


def _of_sides(a: int, b: int, cells: int, angle: float, resolution: float) -> Lattice | None:
    """A supercell of sides (a, b) near an angle; None for one that is too small or too large."""
    size = a * a + b * b
    if not _LEAST_DOTS <= size <= _MOST_DOTS:
        return None
    turned = math.degrees(math.atan2(b, a)) - angle % 90.0
    turned -= 90.0 * round(turned / 90.0)  # 0 and 90 degrees are one screen
    return Lattice(a, b, cells, resolution * cells / math.sqrt(size), angle + turned)


def _off(made: Lattice, frequency: float, angle: float) -> float:
    """How far a supercell is off, 1 where it is just as good as asked for."""
    off = abs(made.frequency / frequency - 1.0) / _FREQUENCY_WITHIN
    return max(off, abs(made.angle - angle) / _ANGLE_WITHIN)


def candidates(
    frequency: float, angle: float, resolution: float, most_dots: int, within: float
) -> list[Lattice]:
    """Every supercell of at most so many dots that is off by less than `within` times what one alone may be,
    the smallest first.
    """
    period = check_period(frequency, resolution)
    radians = math.radians(angle % 90.0)
    out = []
    for cells in range(1, min(_MOST_CELLS, int(math.sqrt(most_dots) / period)) + 1):
        x, y = cells * period * math.cos(radians), cells * period * math.sin(radians)
        reach = math.ceil(cells * period * within * max(_FREQUENCY_WITHIN, math.radians(_ANGLE_WITHIN)))
        for a in range(round(x) - reach, round(x) + reach + 1):
            for b in range(round(y) - reach, round(y) + reach + 1):
                made = _of_sides(a, b, cells, angle, resolution) if min(a, b) >= 0 else None
                if made is not None and _off(made, frequency, angle) <= within:
                    out.append(made)
    return sorted(out, key=lambda m: m.a**2 + m.b**2)


def _spot(dot: str, u: Array, v: Array) -> Array:
    """How early a place in a cell prints; `u` and `v` run from -0.5 to 0.5."""
    if dot == "round":
        return np.cos(2.0 * np.pi * u) + np.cos(2.0 * np.pi * v)
    if dot == "ellipse":
        return np.cos(2.0 * np.pi * u) + 0.72 * np.cos(2.0 * np.pi * v)
    if dot == "square":
        return -(np.abs(u) + np.abs(v))
    return -np.abs(v)


@lru_cache(maxsize=32)
def thresholds(
    frequency: float, angle: float, dot: str, resolution: float, hybrid: bool = False
) -> tuple[np.ndarray[Any, Any], Lattice]:
    """Thresholds (height, width) of 0..65534 over one period of the screen, and its supercell.

    A dot prints where the tone, 0..65535, is above its threshold.
    """
    made = lattice(frequency, angle, resolution)
    return tile(made, dot, SMALLEST if hybrid else 0), made


@lru_cache(maxsize=16)
def tile(made: Lattice, dot: str, smallest: int = 0, is_hole: bool = False) -> np.ndarray[Any, Any]:
    """Thresholds (height, width) of 0..65534 over one period of a supercell.

    The corner where a sheet begins is the middle of a dot, or of the hole between dots where `is_hole`: all
    screens of a set have it in common, so that their rosettes have dots or holes in their middles.
    `smallest` is how many dots of a cell stay together in the highlights and shadows of a hybrid; 0 for
    none.
    """
    if dot not in DOTS:
        raise BadInput(f"no dot shape {dot!r}; use one of {', '.join(DOTS)}")
    a, b, n = made.a, made.b, made.cells
    y, x = np.mgrid[0 : made.height, 0 : made.width] + 0.5
    origin = 0.0 if is_hole else 0.5
    across = (x * a + y * b) * n / (a * a + b * b) + origin
    down = (y * a - x * b) * n / (a * a + b * b) + origin
    cell_x, cell_y = np.floor(across).astype(int), np.floor(down).astype(int)
    spot = _spot(dot, across - cell_x - 0.5, down - cell_y - 0.5).ravel()
    cell = ((cell_x % n) * n + cell_y % n).ravel()
    order = np.lexsort((-spot, cell))
    first = np.flatnonzero(np.r_[True, np.diff(cell[order]) != 0])
    count = np.diff(np.r_[first, len(cell)])
    rank = np.arange(len(cell)) - np.repeat(first, count)
    sizes = np.repeat(count, count).astype(float)
    owner = cell[order]
    # places of equal rank differ from cell to cell, spread evenly, and not by row
    turn = ((owner // n) * _R2[0] + (owner % n) * _R2[1]) % 1.0
    key = (rank + turn) / sizes
    if smallest:
        key = _thinned(key, rank, sizes, owner, n, smallest)
    place = np.empty(len(cell), dtype=np.int64)
    place[order[np.argsort(key, kind="stable")]] = np.arange(len(cell))
    made_of = ((place + 0.5) * (65535.0 / len(cell))).astype(np.uint16)
    return made_of.reshape(made.height, made.width)


def _thinned(key: Array, rank: Array, sizes: Array, owner: Array, n: int, smallest: int) -> Array:
    """Keys whose first and last few dots of a cell come together, one cell after another in blue noise."""
    turn = (
        (void_and_cluster(n, n, 5).ravel() + 0.5) / (n * n) if n > 4 else (np.arange(n * n) + 0.5) / (n * n)
    )
    least = np.minimum(smallest, sizes // 4)
    share = least / sizes
    early, late = rank < least, rank >= sizes - least
    out = key.copy()
    out[early] = (turn[owner] * share + 1e-9 * rank)[early]
    out[late] = (1.0 - share + turn[owner] * share + 1e-9 * rank)[late]
    return out
