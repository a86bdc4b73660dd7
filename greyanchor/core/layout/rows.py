"""Pieces placed as they come, or in rows."""

from __future__ import annotations

from collections.abc import Sequence

from greyanchor.core.layout.pieces import TOLERANCE, Layout, Piece, Placed, check_fits

ALIGNED = ("left", "middle", "right")


def as_they_come(
    pieces: Sequence[Piece], media_width: float, gap: float = 0.0, align: str = "left"
) -> Layout:
    """One after another, left to right, in the order given; what does not fit begins the next row.

    No piece is turned but one that would not fit otherwise. Raises `BadInput` for one that is too wide.
    """
    check_fits(pieces, media_width, gap)
    return _rows([c for p in pieces for c in _copies(p, media_width)], media_width, gap, align)


def in_rows(pieces: Sequence[Piece], media_width: float, gap: float = 0.0, align: str = "left") -> Layout:
    """Rows of pieces of like height, the highest first, so that each row can be cut off straight.

    Pieces that may be turned lie so that they are lower. Raises `BadInput` for one that is too wide.
    """
    check_fits(pieces, media_width, gap)
    copies = [c for p in pieces for c in _copies(p, media_width, flat=True)]
    order = sorted(range(len(copies)), key=lambda i: (-copies[i].height, -copies[i].width, i))
    rows: list[list[int]] = []
    room: list[float] = []
    for i in order:
        wide = copies[i].width
        for row, left in enumerate(room):
            if wide <= left + TOLERANCE:
                rows[row].append(i)
                room[row] -= wide + gap
                break
        else:
            rows.append([i])
            room.append(media_width - wide - gap)
    arranged = _laid([[copies[i] for i in row] for row in rows], media_width, gap, align)
    place = {(p.id, p.copy): p for p in arranged.placed}
    return Layout(media_width, tuple(place[c.id, c.copy] for c in copies))


def _copies(piece: Piece, media_width: float, flat: bool = False) -> list[Placed]:
    wide, tall = piece.width, piece.height
    turned = piece.turn and (
        wide > media_width + TOLERANCE or (flat and tall > wide and tall <= media_width + TOLERANCE)
    )
    if turned:
        wide, tall = tall, wide
    return [Placed(piece.id, n, 0.0, 0.0, wide, tall, turned) for n in range(1, piece.copies + 1)]


def _rows(copies: list[Placed], media_width: float, gap: float, align: str) -> Layout:
    rows: list[list[Placed]] = []
    used = 0.0
    for copy in copies:
        if rows and used + gap + copy.width <= media_width + TOLERANCE:
            rows[-1].append(copy)
            used += gap + copy.width
        else:
            rows.append([copy])
            used = copy.width
    return _laid(rows, media_width, gap, align)


def _laid(rows: list[list[Placed]], media_width: float, gap: float, align: str) -> Layout:
    placed, y = [], 0.0
    for row in rows:
        wide = sum(c.width for c in row) + gap * (len(row) - 1)
        x = {"left": 0.0, "middle": (media_width - wide) / 2.0, "right": media_width - wide}[align]
        for copy in row:
            placed.append(Placed(copy.id, copy.copy, x, y, copy.width, copy.height, copy.turned))
            x += copy.width + gap
        y += max(c.height for c in row) + gap
    return Layout(media_width, tuple(placed))
