"""Marks around pieces on a run: where they lie and how large they are, in mm."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from greyanchor.core.layout.pieces import Placed

#: mm from a piece to its crop marks, and their length
CROP_APART, CROP_LONG = 2.0, 5.0
#: mm that crop marks need around a piece
CROP_ROOM = CROP_APART + CROP_LONG
#: discs that a cutter finds again: radius, the edge of the run that they stand in, how far apart, mm
DISC, EDGE, DISCS_APART = 2.5, 12.0, 500.0
_THIN, _CROSS, _TICK = 0.25, 4.0, 4.0

Kind = Literal["crop", "cutter", "fold", "eyelet"]


@dataclass(frozen=True)
class Bar:
    """A filled rectangle: left, top, width and height, mm."""

    kind: Kind
    x: float
    y: float
    width: float
    height: float


@dataclass(frozen=True)
class Disc:
    """A filled disc: middle and radius, mm."""

    kind: Kind
    x: float
    y: float
    radius: float


Mark = Bar | Disc


def crop_marks(piece: Placed) -> Iterator[Bar]:
    """Two lines at each corner, in line with the edges that are cut."""
    left, top, right, bottom = piece.x, piece.y, piece.x + piece.width, piece.y + piece.height
    for x in (left, right):
        for y in (top - CROP_APART - CROP_LONG, bottom + CROP_APART):
            yield Bar("crop", x - _THIN / 2, y, _THIN, CROP_LONG)
    for y in (top, bottom):
        for x in (left - CROP_APART - CROP_LONG, right + CROP_APART):
            yield Bar("crop", x, y - _THIN / 2, CROP_LONG, _THIN)


def fold_marks(piece: Placed, hem: float) -> Iterator[Bar]:
    """Where a hem of so many mm is folded back: a line at the hem's outer edge, at each end of each fold."""
    left, top, right, bottom = piece.x, piece.y, piece.x + piece.width, piece.y + piece.height
    tick = min(_TICK, hem)
    for x in (left, right):
        for y in (top - hem, bottom + hem - tick):
            yield Bar("fold", x - _THIN / 2, y, _THIN, tick)
    for y in (top, bottom):
        for x in (left - hem, right + hem - tick):
            yield Bar("fold", x, y - _THIN / 2, tick, _THIN)


def eyelets(piece: Placed, hem: float, apart: float) -> list[tuple[float, float]]:
    """Where eyelets are punched: at each corner and evenly between, at most `apart` mm from one another.

    They lie in the middle of the hem, so that the marks are at the back when it is folded.
    """
    half = hem / 2.0
    left, top = piece.x - half, piece.y - half
    wide, tall = piece.width + hem, piece.height + hem
    across = np.linspace(left, left + wide, max(1, int(np.ceil(wide / apart - 1e-9))) + 1)
    along = np.linspace(top, top + tall, max(1, int(np.ceil(tall / apart - 1e-9))) + 1)
    found = [(float(x), y) for y in (top, top + tall) for x in across]
    return found + [(x, float(y)) for x in (left, left + wide) for y in along[1:-1]]


def eyelet_marks(places: Iterable[tuple[float, float]]) -> Iterator[Bar]:
    """A cross at each place."""
    for x, y in places:
        yield Bar("eyelet", x - _CROSS / 2, y - _THIN / 2, _CROSS, _THIN)
        yield Bar("eyelet", x - _THIN / 2, y - _CROSS / 2, _THIN, _CROSS)


def cutter_marks(width: float, top: float, bottom: float) -> Iterator[Disc]:
    """Discs in both edges of a run, from `top` to `bottom`, that a cutter finds again."""
    steps = max(1, int(np.ceil((bottom - top - EDGE) / DISCS_APART)))
    for y in np.linspace(top + EDGE / 2, bottom - EDGE / 2, steps + 1):
        for x in (EDGE / 2, width - EDGE / 2):
            yield Disc("cutter", x, float(y), DISC)
