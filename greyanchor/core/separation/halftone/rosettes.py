"""Screens that lie over one another: supercells that keep in step, rosettes, and beats that are seen.

Three screens of one frequency, 30 degrees apart, have directions 120 degrees apart whose vectors add up to
nothing: then the rosette is the same all over the sheet. Supercells are off by a little each, and the sum of
their vectors is how fast the rosette changes; so three are chosen together whose errors cancel.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import combinations

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.separation.halftone.clustered import Lattice, candidates, lattice

#: a rosette may change by less than this share of a cell over a metre
DRIFT = 0.1
#: what is aimed at when three are chosen
_GOAL = 0.02
#: dots of a supercell tried, the smallest first, and how far off each may be then
_TRIES = ((1 << 16, 2.0), (1 << 18, 2.0), (1 << 19, 2.0), (1 << 20, 3.0), (1 << 21, 3.0))
_MOST_CANDIDATES = 700
#: frequencies are one where they differ by less than this share
_SAME_LINES = 1e-3
#: a beat is seen that is longer than so many cells, and shorter than a sheet
_SEEN_CELLS, _SHEET_MM = 4.6, 1000.0
#: two screens are one where a beat would be longer than this, mm
_ONE_MM = 20_000.0
_MM = 25.4


@dataclass(frozen=True)
class Asked:
    """Lines an inch and angle, degrees, of one screen."""

    lines: float
    angle: float


def vector(made: Lattice, resolution: float) -> complex:
    """Cycles a mm along and across (as real and imaginary part) of one direction of a screen."""
    side = complex(made.a, made.b)
    return made.cells / abs(side) ** 2 * side * resolution / _MM


def in_threes(asked: Sequence[Asked]) -> list[tuple[int, int, int]]:
    """Places of three screens that make a rosette: one frequency, 30 degrees apart; none twice."""
    out: list[tuple[int, int, int]] = []
    used: set[int] = set()
    for three in combinations(range(len(asked)), 3):
        angles = sorted(asked[i].angle % 90.0 for i in three)
        gaps = (angles[1] - angles[0], angles[2] - angles[1], 90.0 - angles[2] + angles[0])
        lines = [asked[i].lines for i in three]
        same = max(lines) / min(lines) - 1.0 < _SAME_LINES
        if same and max(abs(g - 30.0) for g in gaps) < 0.2 and not used & set(three):
            out.append(three)
            used |= set(three)
    return out


def lattices(asked: Sequence[Asked], resolution: float) -> list[Lattice]:
    """Supercells of screens that are printed over one another: screens asked alike are alike, three that make
    a rosette keep in step, others are the nearest.

    Raises `BadInput` for a frequency that the resolution cannot hold.
    """
    return list(_lattices(tuple(asked), resolution))


@lru_cache(maxsize=32)
def _lattices(asked: tuple[Asked, ...], resolution: float) -> tuple[Lattice, ...]:
    different = list(dict.fromkeys(asked))
    made = {one: lattice(one.lines, one.angle, resolution) for one in different}
    for three in in_threes(different):
        chosen = [different[i] for i in three]
        made |= dict(zip(chosen, _in_step(chosen, resolution)))
    return tuple(made[one] for one in asked)


def _in_step(three: Sequence[Asked], resolution: float) -> list[Lattice]:
    """Three supercells whose vectors add up to nearly nothing."""
    from scipy.spatial import cKDTree

    best: tuple[float, list[Lattice]] | None = None
    for most_dots, within in _TRIES:
        found = [candidates(o.lines, o.angle, resolution, most_dots, within) for o in three]
        if not all(found):
            continue
        found = [f[:_MOST_CANDIDATES] for f in found]
        turned = [_turned([vector(m, resolution) for m in f], i, three) for i, f in enumerate(found)]
        sums = (turned[0][:, None] + turned[1][None, :]).reshape(-1)
        tree = cKDTree(np.column_stack([turned[2].real, turned[2].imag]))
        off, nearest = tree.query(np.column_stack([-sums.real, -sums.imag]))
        pick = int(off.argmin())
        i, j = divmod(pick, len(turned[1]))
        drift = float(off[pick]) * 1000.0
        if best is None or drift < best[0]:
            best = drift, [found[0][i], found[1][j], found[2][int(nearest[pick])]]
        if drift <= _GOAL:
            break
    return best[1] if best else [lattice(o.lines, o.angle, resolution) for o in three]


def _turned(vectors: Sequence[complex], place: int, three: Sequence[Asked]) -> Array:
    """Vectors of one of three screens, of their four directions the one that is 120 degrees from the others'.

    From the first screen the others are 30 and 60 degrees on, so that these are turned by one quarter and by
    two; one more where an angle has passed 90 degrees.
    """
    order = sorted(range(3), key=lambda i: (three[i].angle - three[0].angle) % 90.0)
    wraps = three[place].angle % 90.0 < three[0].angle % 90.0
    return np.array(vectors) * 1j ** ((order.index(place) + wraps) % 4)


def drift_over_metre(three: Sequence[Lattice], resolution: float) -> float:
    """By what share of a cell the rosette of three screens changes over a metre."""
    vectors = [vector(m, resolution) for m in three]
    turns = [1j**q for q in range(4)]
    return 1000.0 * min(abs(vectors[0] + vectors[1] * p + vectors[2] * q) for p in turns for q in turns)


@dataclass(frozen=True)
class Beat:
    """Two or three screens (`places`) that beat, and how long one period is, mm."""

    places: tuple[int, ...]
    length_mm: float


def beats(made: Sequence[Lattice], resolution: float) -> list[Beat]:
    """Screens that beat visibly with one another: their difference frequency is far below their own, and not
    so low that a sheet shows less than one period.
    """
    out = []
    vectors = [vector(m, resolution) for m in made]
    for i, j in combinations(range(len(made)), 2):
        differences = [abs(vectors[i] - vectors[j] * 1j**q) for q in range(4)]
        length = 1.0 / max(min(differences), 1.0 / _ONE_MM / 10.0)
        cell = 1.0 / min(abs(vectors[i]), abs(vectors[j]))
        if _SEEN_CELLS * cell < length < _ONE_MM:
            out.append(Beat((i, j), length))
    known = {b.places for b in out}
    for three in combinations(range(len(made)), 3):
        if any(pair in known for pair in combinations(three, 2)) or _alike(vectors, three):
            continue
        speed = drift_over_metre([made[i] for i in three], resolution) / 1000.0
        cell = max(1.0 / abs(vectors[i]) for i in three)
        length = 1.0 / max(speed, 1e-9)
        if 4.0 * _SEEN_CELLS * cell < length < _SHEET_MM / DRIFT:
            out.append(Beat(three, length))
    return out


def _alike(vectors: Sequence[complex], three: Sequence[int]) -> bool:
    """Whether two of three screens are one, so that the third is the only one to beat with."""
    pairs = combinations(three, 2)
    return any(min(abs(vectors[i] - vectors[j] * 1j**q) for q in range(4)) < 1.0 / _ONE_MM for i, j in pairs)
