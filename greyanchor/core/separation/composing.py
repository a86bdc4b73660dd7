"""Print files placed on a run: their planes are copied to their places, marks and words are drawn between.

Nothing is converted or halftoned again, so that a run of many copies takes as long as its file is large.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.layout.marks import Bar, Disc, Mark
from greyanchor.core.layout.runs import LETTERS, Run
from greyanchor.core.parallel import each
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.halftone.screens import ScreenSpec
from greyanchor.core.separation.lettering import words
from greyanchor.core.separation.plane_reading import PlaneReader
from greyanchor.core.separation.prepare import MOST_DOTS, Progress, quiet

Rows = np.ndarray[Any, Any]
#: dots of a band
_BAND = 16_000_000
#: dots by which a print file may differ from its place on the run
_SLACK = 2


@dataclass(frozen=True)
class Composed:
    """A run as a file.

    Attributes
    ----------
    path
        The print file.
    width, height
        Columns and rows.
    resolution
        Dots an inch.
    inks
        Planes in order.
    mark_ml
        Liquid ink of marks and words, by plane.
    seconds
        What it took.
    """

    path: Path
    width: int
    height: int
    resolution: float
    inks: tuple[str, ...]
    mark_ml: Mapping[str, float] = field(default_factory=dict)
    seconds: float = 0.0


def compose(
    run: Run,
    parts: Mapping[tuple[str, bool], str | Path],
    inks: tuple[str, ...],
    screen: ScreenSpec,
    resolution: float,
    output: str | Path,
    line: str = "",
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
    resume: bool = False,
    ink_ml: Mapping[str, float] | None = None,
) -> Composed:
    """Write a run as a print file.

    Parameters
    ----------
    run
        Where everything lies.
    parts
        Print files by name and whether turned.
    inks, screen, resolution
        What the printer takes; parts were prepared for the same.
    line
        Words that are printed where the run has a line.
    ink_ml
        Of all pieces together, by plane; the ticket says it with that of marks and words.

    Raises `BadInput` for a part that was prepared for something else, or does not fill its place.
    """
    began = time.perf_counter()
    dots = resolution / 25.4
    width, height = max(1, round(run.width * dots)), max(1, round(run.length * dots))
    if width * height > MOST_DOTS:
        raise BadInput(f"a run of {width} x {height} dots is more than can be printed at once: divide it")
    layout = PlaneLayout(width, height, inks, screen.bits, resolution)
    rows = max(8, _BAND // width // 8 * 8)
    placed = _placed(run, parts, layout, dots)
    drawn = _drawn(run, line, dots, width)
    black = _mark_inks(inks)
    writer = PlaneWriter(
        output, layout, rows, {"screen": str(screen), "inks": list(inks), **(ticket or {})}, resume
    )
    full = screen.sizes
    counted = int(writer.state.get("marks", 0))
    try:
        for top in range(writer.next_row, height, rows):
            last = min(top + rows, height)
            marks = _marks(drawn, top, last, width)
            counted += int(marks.sum()) if marks is not None else 0

            def plane(number: int, first: int = top, end: int = last, marks: Rows | None = marks) -> Rows:
                band = np.zeros((end - first, layout.row_bytes), np.uint8)
                for reader, x, y in placed:
                    _copied(band, reader, number, x, y, first, end)
                if marks is not None and inks[number] in black:
                    band |= _packed(marks, screen.bits, full)
                return band

            writer.write(each(plane, range(len(inks))), {"marks": counted})
            report(last / height)
        ml = LOAD_AT_FULL * counted * (0.0254 / resolution) ** 2
        marks_ml = dict.fromkeys(black, ml)
        whole = {k: round((ink_ml or {}).get(k, 0.0) + marks_ml.get(k, 0.0), 4) for k in inks}
        done = writer.close({"ink_ml": whole} if ink_ml is not None else None)
    except ValueError:
        writer.abandon()
        raise
    except BaseException:
        writer.stop()
        raise
    return Composed(
        done, width, height, resolution, inks, marks_ml, time.perf_counter() - began
    )  # fmt: skip


def _mark_inks(inks: tuple[str, ...]) -> tuple[str, ...]:
    """Black where there is one; else what makes the darkest."""
    if "K" in inks:
        return ("K",)
    return tuple(i for i in inks if i in "CMY") or inks


def _placed(
    run: Run, parts: Mapping[tuple[str, bool], str | Path], layout: PlaneLayout, dots: float
) -> list[tuple[PlaneReader, int, int]]:
    readers: dict[tuple[str, bool], PlaneReader] = {}
    found = []
    for piece in run.pieces:
        key = (piece.id, piece.turned)
        if key not in parts:
            raise BadInput(f"{piece.id} is not prepared{' turned' if piece.turned else ''}")
        if key not in readers:
            readers[key] = _checked(PlaneReader(parts[key]), layout)
        reader = readers[key]
        wide, tall = round(piece.width * dots), round(piece.height * dots)
        if abs(reader.width - wide) > _SLACK or abs(reader.height - tall) > _SLACK:
            raise BadInput(
                f"{piece.id} was prepared {reader.width} x {reader.height} dots large, its place on the run "
                f"is {wide} x {tall}: prepare it again"
            )
        x = max(0, min(round(piece.x * dots), layout.width - reader.width))
        found.append((reader, x, max(0, round(piece.y * dots))))
    return found


def _checked(reader: PlaneReader, layout: PlaneLayout) -> PlaneReader:
    same = (reader.inks, reader.bits, round(reader.resolution, 2))
    wanted = (layout.pages, layout.bits, round(layout.resolution, 2))
    if same != wanted:
        raise BadInput(
            f"it has {' '.join(reader.inks)}, {reader.bits} bits at {reader.resolution:g} dpi; the run has "
            f"{' '.join(layout.pages)}, {layout.bits} bits at {layout.resolution:g} dpi",
            reader.path.name,
        )
    return reader


def _copied(band: Rows, reader: PlaneReader, page: int, x: int, y: int, first: int, last: int) -> None:
    """Lay the rows of a part that fall into a band over what is there."""
    top, bottom = max(first, y), min(last, y + reader.height)
    if bottom <= top:
        return
    rows = reader.rows(page, top - y, bottom - y)
    at, shift = divmod(x * reader.bits, 8)
    into = band[top - first : bottom - first]
    if shift == 0:
        into[:, at : at + rows.shape[1]] |= rows
        return
    into[:, at : at + rows.shape[1]] |= rows >> shift
    rest = into[:, at + 1 : at + 1 + rows.shape[1]]
    rest |= (rows << (8 - shift))[:, : rest.shape[1]]


@dataclass(frozen=True)
class _Drawing:
    """Something drawn in full ink: its corner and its dots; a mask of None is a filled rectangle."""

    x: int
    y: int
    width: int
    height: int
    mask: Rows | None = None


def _drawn(run: Run, line: str, dots: float, width: int) -> list[_Drawing]:
    found = [_drawing(mark, dots) for mark in run.marks]
    if run.line_at is not None and line:
        mask = words(line, round(LETTERS * 1.4 * dots), width)
        found.append(_Drawing(0, round(run.line_at * dots), mask.shape[1], mask.shape[0], mask))
    return found


def _drawing(mark: Mark, dots: float) -> _Drawing:
    if isinstance(mark, Bar):
        wide, tall = max(1, round(mark.width * dots)), max(1, round(mark.height * dots))
        return _Drawing(round(mark.x * dots), round(mark.y * dots), wide, tall)
    assert isinstance(mark, Disc)
    radius = mark.radius * dots
    side = 2 * int(np.ceil(radius)) + 1
    across = np.arange(side) - side // 2
    mask = across[:, None] ** 2 + across[None, :] ** 2 <= radius**2
    return _Drawing(round(mark.x * dots) - side // 2, round(mark.y * dots) - side // 2, side, side, mask)


def _marks(drawn: Sequence[_Drawing], first: int, last: int, width: int) -> Rows | None:
    """Dots (rows, columns) of all that falls into a band; None where nothing does."""
    here = [d for d in drawn if d.y < last and d.y + d.height > first]
    if not here:
        return None
    out = np.zeros((last - first, width), np.bool_)
    for d in here:
        top, bottom = max(d.y, first, 0), min(d.y + d.height, last)
        left, right = max(d.x, 0), min(d.x + d.width, width)
        if right <= left or bottom <= top:
            continue
        part = True if d.mask is None else d.mask[top - d.y : bottom - d.y, left - d.x : right - d.x]
        out[top - first : bottom - first, left:right] |= part
    return out


def _packed(marks: Rows, bits: int, level: int) -> Rows:
    if bits == 1:
        return np.packbits(marks, axis=1)
    values = marks.astype(np.uint8) * level
    padded = np.pad(values, ((0, 0), (0, -values.shape[1] % 4)))
    return (
        padded[:, 0::4] << 6 | padded[:, 1::4] << 4 | padded[:, 2::4] << 2 | padded[:, 3::4]
    ).astype(np.uint8)  # fmt: skip
