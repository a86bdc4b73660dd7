"""What is placed on media, and where it lies."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from greyanchor.core.errors import BadInput

#: mm that two pieces may share through rounding
TOLERANCE = 1e-6
#: pieces of one layout, copies counted
MOST_PIECES = 5000
_LONGEST = 1_000_000.0


@dataclass(frozen=True)
class Piece:
    """A rectangle to be placed.

    Attributes
    ----------
    id
        What it is called.
    width, height
        mm, before it is turned.
    copies
        How many of it.
    turn
        Whether it may be turned by a quarter.
    title
        What messages call it; its id where empty.
    """

    id: str
    width: float
    height: float
    copies: int = 1
    turn: bool = False
    title: str = ""

    @property
    def called(self) -> str:
        """What messages call it."""
        return self.title or self.id

    def __post_init__(self) -> None:
        if not (0.0 < self.width <= _LONGEST and 0.0 < self.height <= _LONGEST):
            raise BadInput(f"{self.called} is {self.width:g} x {self.height:g} mm: a piece has a size")
        if not 1 <= self.copies <= MOST_PIECES:
            raise BadInput(f"{self.copies} copies of {self.called} cannot be placed; 1 to {MOST_PIECES} can")


@dataclass(frozen=True)
class Placed:
    """A copy in its place: `x` across the media, `y` along it, mm, to the corner nearest to 0.

    `width` and `height` are as it lies: exchanged where it is `turned`.
    """

    id: str
    copy: int
    x: float
    y: float
    width: float
    height: float
    turned: bool = False


@dataclass(frozen=True)
class Layout:
    """Pieces on a strip.

    Attributes
    ----------
    media_width
        mm that can be printed across.
    placed
        In the order of pieces and copies.
    """

    media_width: float
    placed: tuple[Placed, ...]

    @property
    def length(self) -> float:
        """mm of media to the end of the last piece."""
        return max((p.y + p.height for p in self.placed), default=0.0)

    @property
    def share_used(self) -> float:
        """Share of the media up to `length` that pieces cover."""
        area = sum(p.width * p.height for p in self.placed)
        return area / (self.media_width * self.length) if self.placed else 0.0

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "length": round(self.length, 4),
            "share_used": round(self.share_used, 6),
            "placed": [
                {"id": p.id, "copy": p.copy, "x": round(p.x, 4), "y": round(p.y, 4), "turned": p.turned}
                for p in self.placed
            ],
        }


def check_fits(pieces: Sequence[Piece], media_width: float, gap: float) -> None:
    """Raises `BadInput` for media or a gap that cannot be, and for a piece that is wider than the media."""
    if not 0.0 < media_width <= _LONGEST:
        raise BadInput(f"media of {media_width:g} mm cannot be printed on")
    if not 0.0 <= gap <= 1000.0:
        raise BadInput(f"a gap of {gap:g} mm is not possible; 0 to 1000 are")
    if sum(p.copies for p in pieces) > MOST_PIECES:
        raise BadInput(f"more than {MOST_PIECES} pieces are too many for one layout: divide them")
    for piece in pieces:
        least = min(piece.width, piece.height) if piece.turn else piece.width
        if least > media_width + TOLERANCE:
            turning = "" if piece.turn or piece.height > media_width else ", unless it may be turned"
            raise BadInput(
                f"{piece.called} is {piece.width:g} x {piece.height:g} mm, which does not fit on "
                f"{media_width:g} mm of media{turning}"
            )


def overlapping(placed: Iterable[Placed], gap: float = 0.0) -> list[tuple[Placed, Placed]]:
    """Pairs that lie nearer to one another than `gap`, mm."""
    found, ahead = [], sorted(placed, key=lambda p: p.y)
    active: list[Placed] = []
    for piece in ahead:
        active = [a for a in active if a.y + a.height + gap > piece.y + TOLERANCE]
        for other in active:
            apart = max(other.x - piece.x - piece.width, piece.x - other.x - other.width)
            if apart < gap - TOLERANCE:
                found.append((other, piece))
        active.append(piece)
    return found


def pieces_from(values: Mapping[str, Any]) -> tuple[float, float, list[Piece]]:
    """Media width, gap and pieces out of plain values. Raises `BadInput` naming what is wrong."""
    try:
        width, gap = float(values["media_width"]), float(values.get("gap", 0.0))
        items = list(values["items"])
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput(f"media_width, gap and items are needed; {error} is missing or no number") from error
    pieces = []
    for place, item in enumerate(items, 1):
        try:
            pieces.append(
                Piece(
                    str(item["id"]), float(item["width"]), float(item["height"]),
                    int(item.get("copies", 1)), bool(item.get("turn", False)),
                )
            )  # fmt: skip
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            if isinstance(error, BadInput):
                raise
            raise BadInput(f"item {place} needs id, width and height in mm ({error})") from error
    if len({p.id for p in pieces}) < len(pieces):
        raise BadInput("two items have the same id")
    return width, gap, pieces
