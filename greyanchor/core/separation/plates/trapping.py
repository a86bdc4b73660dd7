"""Simple choke and spread: lighter inks reach a little under darker ones, and an underbase draws back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each

Pixels = np.ndarray[Any, Any]
Planes = Callable[[int, int], Pixels]
#: points; the most that is called simple
MOST_POINTS = 5.0
#: an edge is where an ink would grow by more than this share of a solid: pictures are left alone
_EDGE = 0.25
#: lightness of inks that are not known, and of the usual ones
_UNKNOWN_L = 50.0
_LIGHTNESS = {"C": 55.0, "M": 48.0, "Y": 89.0, "K": 16.0, "White": 96.0, "W": 96.0}


@dataclass(frozen=True)
class Trap:
    """How plates meet.

    Attributes
    ----------
    spread
        Points by which each ink reaches under a darker one beside it.
    choke
        Points by which a plate draws back all around, by ink: an underbase.
    lightness
        L* of each ink's solid, for those that are known.
    """

    spread: float = 0.0
    choke: Mapping[str, float] = field(default_factory=dict)
    lightness: Mapping[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for points in (self.spread, *self.choke.values()):
            if not 0.0 <= points <= MOST_POINTS:
                raise BadInput(f"a trap of {points:g} points lies outside 0..{MOST_POINTS:g}")

    def __bool__(self) -> bool:
        return self.spread > 0.0 or any(v > 0.0 for v in self.choke.values())

    def darkness(self, ink: str) -> float:
        """How dark an ink is beside others."""
        return 100.0 - self.lightness.get(ink, _LIGHTNESS.get(ink, _UNKNOWN_L))


def dots_of(points: float, resolution: float) -> int:
    """Dots of a distance in points."""
    return round(points / 72.0 * resolution)


class Trapped:
    """Planes whose edges reach under one another; rows are asked for from the top down, without gaps.

    Parameters
    ----------
    planes
        Gives amounts (inks, rows, columns) of rows.
    inks, height
        What there is of them.
    """

    def __init__(
        self, planes: Planes, inks: Sequence[str], height: int, trap: Trap, resolution: float
    ) -> None:
        self._planes, self._inks, self._height = planes, list(inks), height
        self._spread = dots_of(trap.spread, resolution)
        self._choke = [dots_of(trap.choke.get(i, 0.0), resolution) for i in inks]
        dark = [trap.darkness(i) for i in inks]
        self._darker = [[j for j in range(len(dark)) if dark[j] > dark[i]] for i in range(len(dark))]
        self._reach = max(self._spread, *self._choke)
        self._held: Pixels | None = None
        self._top = 0

    def __call__(self, first: int, last: int) -> Pixels:
        """Amounts (inks, rows, columns) of rows ``first`` to ``last``."""
        from_row, to_row = max(first - self._reach, 0), min(last + self._reach, self._height)
        source = self._rows(from_row, to_row)
        inside = slice(first - from_row, last - from_row)
        made = each(lambda i: self._trapped(source, i, inside), range(len(self._inks)))
        return np.stack(made)

    def _rows(self, first: int, last: int) -> Pixels:
        """Rows of the planes, of which those read before are held as far as they are needed again."""
        if self._held is None:
            self._held, self._top = self._planes(first, last), first
        else:
            end = self._top + self._held.shape[1]
            kept = self._held[:, first - self._top :]
            if last > end:
                kept = np.concatenate([kept, self._planes(end, last)], axis=1)
            self._held, self._top = kept, first
        return self._held

    def _trapped(self, source: Pixels, ink: int, inside: slice) -> Pixels:
        own = source[ink]
        if self._choke[ink]:
            return _filtered(own, self._choke[ink], grow=False)[inside]
        if not self._spread or not self._darker[ink]:
            return own[inside]
        below = source[self._darker[ink]].max(axis=0)
        reached = np.minimum(_filtered(own, self._spread, grow=True), below)
        at_edge = reached.astype(np.int32) - own > _EDGE * 65535.0
        return np.where(at_edge, reached, own)[inside]


def _filtered(plane: Pixels, dots: int, grow: bool) -> Pixels:
    """The largest or smallest amount within so many dots across and along."""
    from scipy.ndimage import maximum_filter1d, minimum_filter1d

    of = maximum_filter1d if grow else minimum_filter1d
    return np.asarray(
        of(of(plane, 2 * dots + 1, axis=1, mode="nearest"), 2 * dots + 1, axis=0, mode="nearest")
    )
