"""What stands on a film around the art: targets that register it, a step wedge, and words that name it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.core.separation.lettering import words

Pixels = np.ndarray[Any, Any]
#: mm around the art
MARGIN = 14.0
#: steps of the wedge, percent of the plate
WEDGE = (0, 2, 5, 10, 20, 30, 40, 50, 60, 70, 80, 90, 95, 98, 100)
_STEP_MM, _WEDGE_HIGH = 5.0, 5.0
_TARGET, _RING, _LINE = 8.0, 5.0, 0.12
_LETTERS = 2.6
_FROM_EDGE = 3.0


@dataclass(frozen=True)
class FilmMarks:
    """Words of one film: of the plate, and of the job, a line each."""

    plate: str
    job: str = ""

    @property
    def lines(self) -> str:
        """Both, one below the other."""
        return "\n".join(part for part in (self.plate, self.job) if part)


class Film:
    """The marks of all films of a set in dots: targets and wedge lie where they lie on every other.

    Parameters
    ----------
    art
        Columns and rows of the art.
    resolution
        Dots an inch.
    """

    def __init__(self, art: tuple[int, int], resolution: float) -> None:
        self._dots = resolution / 25.4
        self.margin = round(MARGIN * self._dots)
        self.width, self.height = art[0] + 2 * self.margin, art[1] + 2 * self.margin
        self._targets = self._target_places()

    def wedge(self) -> tuple[int, int, Pixels]:
        """Left, top and tones (rows, columns), 16 bits, of the step wedge; as many steps as there is room
        for.
        """
        step, high = round(_STEP_MM * self._dots), round(_WEDGE_HIGH * self._dots)
        beside = round((_TARGET / 2.0 + 1.0) * self._dots)  # a target stands in the middle
        room = max(self.width // 2 - beside - self.margin, step)
        steps = WEDGE[:: max(1, -(-len(WEDGE) * step // room))]
        tones = np.round(np.array(steps) * 655.35).astype(np.uint16).repeat(step)[None].repeat(high, axis=0)
        left, top = self.margin, self.height - round((_FROM_EDGE + _WEDGE_HIGH) * self._dots)
        return left, top, tones[:, : self.width - left]

    def marks(self, text: str, first: int, last: int) -> Pixels:
        """Dots (rows, columns), true for ink, of targets and words in rows ``first`` to ``last``."""
        out = np.zeros((last - first, self.width), dtype=bool)
        for x, y, shape in self._targets:
            _laid(out, shape, x, y - first)
        room = max(self.width // 2 - round((_TARGET / 2.0 + 2.0) * self._dots) - self.margin, 8)
        for number, line in enumerate(text.split("\n")):
            letters = words(line, round(_LETTERS * self._dots), room)
            down = _FROM_EDGE + number * (_LETTERS + 0.8)
            _laid(out, letters, self.margin, round(down * self._dots) - first)
        return out

    def _target_places(self) -> list[tuple[int, int, Pixels]]:
        """A target in the middle of each side."""
        shape = _target(self._dots)
        half = len(shape) // 2
        middle, x, y = self.margin // 2, self.width // 2, self.height // 2
        places = ((x, middle), (x, self.height - middle), (middle, y), (self.width - middle, y))
        return [(px - half, py - half, shape) for px, py in places]


def _target(dots: float) -> Pixels:
    """A cross in a ring, true for ink."""
    side = round(_TARGET * dots) | 1
    y, x = np.mgrid[0:side, 0:side] - side // 2
    line = max(0.5, _LINE * dots / 2.0)
    ring = np.abs(np.hypot(x, y) - _RING * dots / 2.0) <= line
    return (np.abs(x) <= line) | (np.abs(y) <= line) | ring


def _laid(out: Pixels, shape: Pixels, left: int, top: int) -> None:
    """Lay a shape on rows, as far as it lies on them."""
    y0, y1 = max(top, 0), min(top + shape.shape[0], out.shape[0])
    x0, x1 = max(left, 0), min(left + shape.shape[1], out.shape[1])
    if y1 > y0 and x1 > x0:
        out[y0:y1, x0:x1] |= shape[y0 - top : y1 - top, x0 - left : x1 - left]
