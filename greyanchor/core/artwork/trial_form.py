"""Our own trial form: what shows the faults of a mode before it is released, as wide as the media.

Text from 4 pt, reversed text, hairlines, ramps, greys, skin, solids, overprints, transparency, lines across
the whole width for both directions, and heavy ink from edge to edge, repeated until the length is filled.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from itertools import chain, cycle

from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.errors import BadInput

NARROWEST, WIDEST = 150.0, 3200.0
SHORTEST, LONGEST = 200.0, 20_000.0
_EDGE = 6.0
#: mm of the tallest part
_TALLEST = 66.0
_FACE = "Vera"
Ink = tuple[float, float, float, float]
_BLACK: Ink = (0, 0, 0, 1)
_WHITE: Ink = (0, 0, 0, 0)
#: neutral by ISO 12647-2: cyan with the magenta and yellow that make it grey
_GREYS: tuple[Ink, ...] = (
    (0.1, 0.06, 0.06, 0),
    (0.25, 0.19, 0.19, 0),
    (0.5, 0.4, 0.4, 0),
    (0.75, 0.64, 0.64, 0),
)
_SKINS: tuple[Ink, ...] = (
    (0.03, 0.16, 0.19, 0), (0.08, 0.28, 0.35, 0), (0.15, 0.42, 0.5, 0.03), (0.25, 0.52, 0.62, 0.15),
    (0.35, 0.6, 0.68, 0.4),
)  # fmt: skip
_SOLIDS: tuple[tuple[str, Ink], ...] = (
    ("C", (1, 0, 0, 0)), ("M", (0, 1, 0, 0)), ("Y", (0, 0, 1, 0)), ("K", _BLACK), ("M+Y", (0, 1, 1, 0)),
    ("C+Y", (1, 0, 1, 0)), ("C+M", (1, 1, 0, 0)), ("C+M+Y", (1, 1, 1, 0)), ("all", (1, 0.9, 0.9, 1)),
)  # fmt: skip
_SENTENCE = "Soundings in metres, reduced to the lowest tide; heights above the highest. 0123456789 &@%"


class _Form:
    """Draws from the top of a page downwards, mm."""

    def __init__(self, canvas: Canvas, width: float, length: float) -> None:
        self.canvas, self.width, self.length = canvas, width, length
        self.y = 0.0

    def fill(self, ink: Ink) -> None:
        self.canvas.setFillColorCMYK(*ink)

    def box(self, x: float, y: float, wide: float, tall: float, ink: Ink) -> None:
        self.fill(ink)
        self.canvas.rect(x * mm, (self.length - y - tall) * mm, wide * mm, tall * mm, stroke=0, fill=1)

    def line(self, x0: float, y0: float, x1: float, y1: float, points: float, ink: Ink = _BLACK) -> None:
        self.canvas.setStrokeColorCMYK(*ink)
        self.canvas.setLineWidth(points)
        self.canvas.line(x0 * mm, (self.length - y0) * mm, x1 * mm, (self.length - y1) * mm)

    def text(self, x: float, y: float, points: float, words: str, ink: Ink = _BLACK) -> None:
        self.fill(ink)
        self.canvas.setFont(_FACE, points)
        self.canvas.drawString(x * mm, (self.length - y) * mm, words)

    @property
    def inner(self) -> float:
        return self.width - 2 * _EDGE


def _title(f: _Form, title: str) -> float:
    f.text(_EDGE, f.y + 6, 11, title)
    for i in range(0, int(f.width) + 1, 10):
        f.line(i, f.y, i, f.y + (4 if i % 100 == 0 else 2), 0.4)
    return 9.0


def _letters(f: _Form) -> float:
    half = f.inner / 2 - 3
    height = 0.0
    for points in (4, 5, 6, 7, 8, 10, 12):
        height += points * 0.46 + 0.8
        f.text(_EDGE, f.y + height, points, f"{points} pt  {_SENTENCE}"[: int(half * 4.6 / points)])
    f.box(_EDGE + half + 6, f.y, half, height + 2, (0.6, 0.5, 0.5, 1))
    row = 0.0
    for points in (4, 5, 6, 7, 8, 10, 12):
        row += points * 0.46 + 0.8
        f.text(
            _EDGE + half + 8,
            f.y + row,
            points,
            f"{points} pt  {_SENTENCE}"[: int(half * 4.4 / points)],
            _WHITE,
        )
    return height + 5


def _hairlines(f: _Form) -> float:
    each = f.inner / 6
    for i, points in enumerate((0.1, 0.15, 0.25, 0.5, 0.75, 1.0)):
        left = _EDGE + i * each
        f.text(left, f.y + 3, 6, f"{points:g} pt")
        for n in range(4):
            f.line(left, f.y + 5 + 1.6 * n, left + each * 0.4, f.y + 5 + 1.6 * n, points)
            f.line(left + each * 0.5 + 1.6 * n, f.y + 5, left + each * 0.5 + 1.6 * n, f.y + 11, points)
            f.line(left + each * 0.72 + 1.6 * n, f.y + 5, left + each * 0.82 + 1.6 * n, f.y + 11, points)
    return 14.0


def _directions(f: _Form) -> float:
    """Fine upright lines of each ink right across: those of both directions must meet everywhere."""
    for row, ink in enumerate((_BLACK, (1, 0, 0, 0), (0, 1, 0, 0))):
        x = _EDGE
        while x < f.width - _EDGE:
            f.line(x, f.y + 5 * row, x, f.y + 5 * row + 4, 0.4, ink)
            x += 2.0
    return 17.0


def _ramps(f: _Form) -> float:
    steps = 128
    wide = f.inner / steps
    for row in range(5):
        for i in range(steps):
            level = (i + 0.5) / steps
            ink = [0.0, 0.0, 0.0, 0.0]
            if row < 4:
                ink[row] = level
            else:
                ink[:3] = [level, 0.78 * level + 0.06 * level**2, 0.78 * level + 0.06 * level**2]
            f.box(_EDGE + i * wide, f.y + 7 * row, wide + 0.05, 6.5, (ink[0], ink[1], ink[2], ink[3]))
    return 38.0


def _patches(f: _Form) -> float:
    greys = [g for pair in ((g, (0.0, 0.0, 0.0, g[0])) for g in _GREYS) for g in pair]
    inks: list[Ink] = [*greys, *_SKINS, *(ink for _, ink in _SOLIDS)]
    wide = f.inner / len(inks)
    for i, ink in enumerate(inks):
        f.box(_EDGE + i * wide, f.y, wide, 16, ink)
    for i, (name, _) in enumerate(_SOLIDS):
        f.text(_EDGE + (len(inks) - len(_SOLIDS) + i) * wide, f.y + 19, 6, name)
    return 23.0


def _transparency(f: _Form) -> float:
    f.canvas.saveState()
    count = max(3, int(f.inner // 60))
    for n in range(count):
        x = _EDGE + (n + 0.5) * f.inner / count
        for i, ink in enumerate(((1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0))):
            f.fill(ink)
            f.canvas.setFillAlpha(0.55)
            f.canvas.circle((x + 7 * (i - 1)) * mm, (f.length - f.y - 12) * mm, 10 * mm, stroke=0, fill=1)
    f.canvas.setFillAlpha(1.0)
    f.canvas.restoreState()
    f.canvas.setFillOverprint(True)
    f.box(_EDGE, f.y + 25, f.inner, 5, (0, 0, 1, 0))
    for n in range(count):
        f.box(_EDGE + n * f.inner / count, f.y + 23, f.inner / count / 2, 5, (1, 0, 0, 0))
    f.canvas.setFillOverprint(False)
    return 34.0


def _flat(f: _Form) -> float:
    """Tints from edge to edge: lines between the strips of neighbouring passes show here."""
    for i, ink in enumerate(((0, 0, 0, 0.5), (0.5, 0.4, 0.4, 0), (0.7, 0.2, 0, 0))):
        f.box(0, f.y + 20 * i, f.width, 20, ink)
    return 64.0


def _heavy(f: _Form) -> float:
    """Much ink from edge to edge: the media lifts, dries slowly and is scuffed here if anywhere."""
    f.box(0, f.y, f.width, 60, (0.9, 0.8, 0.7, 0.4))
    f.text(_EDGE, f.y + 33, 10, "reversed out of heavy ink, right across", _WHITE)
    f.text(f.width / 2, f.y + 33, 10, "in the middle", _WHITE)
    return 64.0


_PARTS: tuple[Callable[[_Form], float], ...] = (
    _letters, _hairlines, _directions, _ramps, _patches, _transparency, _flat, _heavy,
)  # fmt: skip


def trial_form(width: float, length: float, title: str = "Trial form") -> bytes:
    """The form as a PDF of one page, `width` x `length` mm, in process colours.

    Parts follow one another as long as they fit; then lines, tints and heavy ink in turn fill the length, so
    that faults show that come after some of it. Raises `BadInput` for a size that the form cannot have.
    """
    if not (NARROWEST <= width <= WIDEST and SHORTEST <= length <= LONGEST):
        raise BadInput(
            f"a trial form of {width:g} x {length:g} mm cannot be made: {NARROWEST:g} to {WIDEST:g} mm wide, "
            f"{SHORTEST:g} to {LONGEST:g} mm long can"
        )
    if _FACE not in pdfmetrics.getRegisteredFontNames():
        pdfmetrics.registerFont(TTFont(_FACE, f"{_FACE}.ttf"))  # comes with reportlab, and is embedded
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(width * mm, length * mm), invariant=1, pageCompression=1)
    canvas.setTitle(title)
    form = _Form(canvas, width, length)
    form.y += _title(form, title)
    for part in chain(_PARTS, cycle((_directions, _flat, _heavy))):
        if length - form.y < _TALLEST:
            break
        form.y += part(form)
    while length - form.y > 17.0:
        form.y += _directions(form)
    canvas.showPage()
    canvas.save()
    return out.getvalue()
