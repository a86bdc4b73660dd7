"""A run: pieces on the media of one machine, with their marks, cuts and line of words.

x runs across the media and y along it, mm, from the corner where the printing begins.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.layout import marks
from greyanchor.core.layout.nesting import save_media
from greyanchor.core.layout.pieces import TOLERANCE, Layout, Piece, Placed, overlapping
from greyanchor.core.layout.rows import ALIGNED, as_they_come, in_rows

#: how pieces are placed
WAYS = {
    "order": "as they come",
    "rows": "in rows of like height",
    "save": "to save media",
}
#: where the media is cut
CUTS = {
    "never": "never",
    "end": "at the end",
    "row": "after each row",
    "each": "after each piece",
}
#: the strip is a piece like others, under this name
STRIP = "strip"
#: height of the letters of the line of words, and of the line, mm
LETTERS, LINE = 2.6, 4.5
#: seconds that a search for the shortest run takes while somebody waits
SEARCHED = 1.0
MOST_ADVANCE, MOST_GAP, MOST_HEM = 2000.0, 500.0, 200.0


@dataclass(frozen=True)
class Rules:
    """How a run is laid out.

    Attributes
    ----------
    way
        One of `WAYS`.
    align
        Where rows lie on the media: left, middle or right.
    gap
        mm between pieces.
    cut
        One of `CUTS`; where each piece is cut off, none lies beside another.
    advance
        mm of media that stay bare before anything is printed.
    crop, cutter
        Whether there are marks for trimming, and discs that a cutter finds again.
    hem
        mm of bare media around each piece that are folded back; marks say where.
    eyelets
        mm between eyelets in the hem at most; 0 for none.
    line
        Whether a line says what was printed with what.
    """

    way: str = "rows"
    align: str = "left"
    gap: float = 5.0
    cut: str = "end"
    advance: float = 0.0
    crop: bool = False
    cutter: bool = False
    hem: float = 0.0
    eyelets: float = 0.0
    line: bool = True

    def __post_init__(self) -> None:
        for word, known, what in (
            (self.way, WAYS, "way of placing"),
            (self.align, ALIGNED, "side"),
            (self.cut, CUTS, "cut"),
        ):
            if word not in known:
                raise BadInput(f"no {what} {word!r}; there are {', '.join(known)}")
        for name, value, most in (
            ("gap", self.gap, MOST_GAP),
            ("advance", self.advance, MOST_ADVANCE),
            ("hem", self.hem, MOST_HEM),
        ):
            if not 0.0 <= value <= most:
                raise BadInput(f"the {name} lies between 0 and {most:g} mm, not at {value:g}")
        if self.eyelets and not (self.hem and 50.0 <= self.eyelets <= 5000.0):
            raise BadInput("eyelets stand in a hem, 50 to 5000 mm apart")

    @property
    def around(self) -> float:
        """mm that hem and crop marks need on each side of a piece."""
        return self.hem + (marks.CROP_ROOM if self.crop else 0.0)

    @property
    def edge(self) -> float:
        """mm that the cutter's marks need at each edge of the run."""
        return marks.EDGE if self.cutter else 0.0

    @classmethod
    def of(cls, values: Mapping[str, Any]) -> Rules:
        """From plain values; what is missing is as usual."""
        return cls(**{k: values[k] for k in cls.__dataclass_fields__ if k in values})

    def as_dict(self) -> dict[str, Any]:
        """Plain values."""
        return asdict(self)


@dataclass(frozen=True)
class Run:
    """Everything where it lies.

    Attributes
    ----------
    width, length
        Of the media that it takes, mm.
    pieces
        Where the art of each piece lies, without hem and marks.
    rules
        How it was laid out.
    marks
        All of them.
    cuts
        Places along the media where it is cut across, mm.
    line_at
        Where the line of words begins along the media; None where there is none.
    """

    width: float
    length: float
    pieces: tuple[Placed, ...]
    rules: Rules
    marks: tuple[marks.Mark, ...] = ()
    cuts: tuple[float, ...] = ()
    line_at: float | None = None

    @property
    def share_used(self) -> float:
        """Share of the media that pieces cover; the strip is none."""
        area = sum(p.width * p.height for p in self.pieces if p.id != STRIP)
        return area / (self.width * self.length) if self.length else 0.0

    @property
    def width_used(self) -> float:
        """Share of the media's width that the fullest row covers."""
        if not self.pieces:
            return 0.0
        tops, talls, wides = np.array([(p.y, p.height, p.width) for p in self.pieces]).T
        beside = [wides[(tops <= m) & (m < tops + talls)].sum() for m in np.unique(tops + talls / 2.0)]
        return float(max(beside)) / self.width

    @property
    def strip(self) -> Placed | None:
        """Where the control strip lies."""
        return next((p for p in self.pieces if p.id == STRIP), None)


def arrange(
    pieces: Sequence[Piece], rules: Rules, media_width: float, seconds: float = SEARCHED
) -> tuple[Placed, ...]:
    """Places for pieces by the rules, for `run_of`. Raises `BadInput` for one that does not fit."""
    room = media_width - 2 * rules.edge
    if room <= 0.0:
        raise BadInput(f"on {media_width:g} mm of media there is no room between the cutter's marks")
    grown = [_grown(p, rules) for p in pieces]
    try:
        layout = _laid(grown, rules, room, seconds)
    except BadInput as error:
        if rules.around or rules.edge:
            raise BadInput(f"{error.reason}, marks and hem counted in") from error
        raise
    top = rules.advance + rules.edge
    return tuple(
        replace(_shrunk(p, rules), x=p.x + _inset(p, rules) + rules.edge, y=p.y + _inset(p, rules) + top)
        for p in layout.placed
    )


def _laid(pieces: list[Piece], rules: Rules, room: float, seconds: float) -> Layout:
    if rules.cut == "each":
        alone = [replace(p, turn=p.turn and p.width > room) for p in pieces]
        rows = [as_they_come([p], room, rules.gap, rules.align) for q in alone for p in _single(q)]
        placed, y = [], 0.0
        count: dict[str, int] = {}
        for row in rows:
            [piece] = row.placed
            count[piece.id] = count.get(piece.id, 0) + 1
            placed.append(replace(piece, copy=count[piece.id], y=y))
            y += piece.height + rules.gap
        return Layout(room, tuple(placed))
    if rules.way == "save":
        return save_media(pieces, room, rules.gap, seconds)
    place = in_rows if rules.way == "rows" else as_they_come
    return place(pieces, room, rules.gap, rules.align)


def _single(piece: Piece) -> list[Piece]:
    return [replace(piece, copies=1)] * piece.copies


def _inset(piece: Piece | Placed, rules: Rules) -> float:
    return 0.0 if piece.id == STRIP else rules.around


def _grown(piece: Piece, rules: Rules) -> Piece:
    more = 2 * _inset(piece, rules)
    return replace(piece, width=piece.width + more, height=piece.height + more)


def _shrunk(piece: Placed, rules: Rules) -> Placed:
    less = 2 * _inset(piece, rules)
    return replace(piece, width=piece.width - less, height=piece.height - less)


def box_of(piece: Placed, rules: Rules) -> Placed:
    """A piece with its hem and the room of its marks."""
    more = _inset(piece, rules)
    return replace(
        piece,
        x=piece.x - more,
        y=piece.y - more,
        width=piece.width + 2 * more,
        height=piece.height + 2 * more,
    )


def check_places(
    placed: Sequence[Placed], rules: Rules, media_width: float, titles: Mapping[str, str] | None = None
) -> None:
    """Raises `BadInput` for pieces that lie over one another, nearer than the gap, or off the media; `titles`
    are what messages call them.
    """

    def called(box: Placed) -> str:
        return f"{(titles or {}).get(box.id, box.id)}, copy {box.copy},"

    boxes = [box_of(p, rules) for p in placed]
    for box in boxes:
        least, most = rules.edge - TOLERANCE, media_width - rules.edge + TOLERANCE
        if box.x < least or box.x + box.width > most:
            raise BadInput(f"{called(box)} lies off the media, which is {media_width:g} mm wide")
        if box.y < rules.advance + rules.edge - TOLERANCE:
            raise BadInput(f"{called(box)} lies before the run begins")
    for one, other in overlapping(boxes, rules.gap):
        raise BadInput(f"{called(one)} and {called(other)} lie nearer than {rules.gap:g} mm")


def run_of(placed: Sequence[Placed], rules: Rules, media_width: float) -> Run:
    """The run that places make: marks, cuts, line and length."""
    boxes = [box_of(p, rules) for p in placed]
    end = max((b.y + b.height for b in boxes), default=rules.advance + rules.edge) + rules.edge
    line_at = end + 1.0 if rules.line and boxes else None
    length = end + 1.0 + LINE if line_at is not None else end
    found: list[marks.Mark] = []
    for piece, box in zip(placed, boxes):
        if piece.id == STRIP:
            continue
        if rules.crop:
            hemmed = replace(box, x=box.x + marks.CROP_ROOM, y=box.y + marks.CROP_ROOM,
                             width=box.width - 2 * marks.CROP_ROOM,
                             height=box.height - 2 * marks.CROP_ROOM)  # fmt: skip
            found += marks.crop_marks(hemmed)
        if rules.hem:
            found += marks.fold_marks(piece, rules.hem)
        if rules.eyelets:
            found += marks.eyelet_marks(marks.eyelets(piece, rules.hem, rules.eyelets))
    if rules.cutter and boxes:
        found += marks.cutter_marks(media_width, rules.advance, end)
    return Run(
        media_width, length, tuple(placed), rules, tuple(found), _cuts(boxes, rules, length), line_at
    )  # fmt: skip


def _cuts(boxes: Sequence[Placed], rules: Rules, length: float) -> tuple[float, ...]:
    if rules.cut == "never" or not boxes:
        return ()
    if rules.cut == "end":
        return (length,)
    found, reached = [], 0.0
    for box in sorted(boxes, key=lambda b: b.y):
        if reached and box.y >= reached - TOLERANCE:
            found.append((reached + box.y) / 2.0)
        reached = max(reached, box.y + box.height)
    return (*found, length)


def placed_from(values: Sequence[Mapping[str, Any]]) -> tuple[Placed, ...]:
    """Places out of plain values (id, copy, x, y, width, height, turned)."""
    try:
        return tuple(
            Placed(
                str(v["id"]), int(v["copy"]), float(v["x"]), float(v["y"]), float(v["width"]),
                float(v["height"]), bool(v.get("turned", False)),
            )
            for v in values
        )  # fmt: skip
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput(
            f"places have id, copy, x, y, width and height; {error} is missing or no number"
        ) from error
