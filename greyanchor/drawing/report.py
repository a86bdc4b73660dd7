"""A check as PDF: one page with verdict, criteria and the patch map, then pages of patches."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from reportlab.lib.pagesizes import A4
from reportlab.lib.units import mm
from reportlab.lib.utils import simpleSplit
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.colour.colorimetry import Array
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.typefaces import BOLD, MONO, REGULAR, plain, register

_LEFT, _RIGHT, _TOP, _BOTTOM = 18 * mm, A4[0] - 18 * mm, A4[1] - 18 * mm, 16 * mm
_ROWS_A_PAGE = 52
#: white, black and the greys between: the page has no colour but that of patches
_INK, _SOFT, _LINE = 0.08, 0.4, 0.75


@dataclass(frozen=True)
class Line:
    """One criterion: title, patches, value, limit and what is left as text, share of the limit used
    (percent), verdict.
    """

    title: str
    patches: int
    value: str
    limit: str
    left: str
    used: float | None
    verdict: str


@dataclass(frozen=True)
class ReportFacts:
    """What a report says.

    Attributes
    ----------
    title, verdict, summary, grade
        Heading, ``pass`` or ``fail``, the line beneath, and the grade where the set has grades.
    facts
        Pairs of label and text: aim, tolerance set, device, operator ...
    lines
        Criteria in order.
    notes
        Warnings that a reader must see.
    ids, device, aim, measured, differences
        Patches (n); device values are percent, or None.
    rows, columns
        Places of patches, or None.
    unit
        Of the differences.
    reported, causes
        Figures without a limit, in one line; what may be the cause of a failure.
    foot
        What stands at the foot of every page.
    made_at
        When the check was made: the date of the document.
    """

    title: str
    verdict: str
    summary: str
    grade: str
    facts: Sequence[tuple[str, str]]
    lines: Sequence[Line]
    notes: Sequence[str]
    ids: Sequence[str]
    device: Array | None
    aim: Array
    measured: Array
    differences: Array
    rows: Array | None
    columns: Array | None
    unit: str
    reported: str
    causes: Sequence[str]
    foot: str
    made_at: datetime


def report_pdf(values: ReportFacts) -> bytes:
    """The report as PDF bytes; the same facts give the same bytes."""
    register()
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=A4, invariant=1)
    canvas.setTitle(plain(f"{values.title}: {values.verdict}"))
    canvas.setAuthor("Grey Anchor")
    pages = 1 + -(-len(values.ids) // _ROWS_A_PAGE)
    y = _heading(canvas, values)
    y = _facts(canvas, values, y)
    y = _criteria(canvas, values, y)
    y = _notes(canvas, values, y)
    y = _map(canvas, values, y)
    _causes(canvas, values, y)
    _foot(canvas, values, 1, pages)
    canvas.showPage()
    for page in range(1, pages):
        _patches(canvas, values, (page - 1) * _ROWS_A_PAGE)
        _foot(canvas, values, page + 1, pages)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def _write(
    canvas: Canvas, x: float, y: float, text: str, size: float, bold: bool = False, soft: bool = False
) -> None:
    canvas.setFillGray(_SOFT if soft else _INK)
    canvas.setFont(BOLD if bold else REGULAR, size)
    canvas.drawString(x, y, plain(text))


def _right(canvas: Canvas, x: float, y: float, text: str, size: float, bold: bool = False) -> None:
    canvas.setFillGray(_INK)
    canvas.setFont(BOLD if bold else MONO, 0.94 * size)
    canvas.drawRightString(x, y, plain(text))


def _heading(canvas: Canvas, values: ReportFacts) -> float:
    passed = values.verdict == "pass"
    canvas.setLineWidth(1.6)
    canvas.setStrokeGray(_INK)
    canvas.setFillGray(1.0 if passed else _INK)
    canvas.rect(_LEFT, _TOP - 13 * mm, 46 * mm, 15 * mm, fill=1)
    canvas.setFillGray(_INK if passed else 1.0)
    canvas.setFont(BOLD, 26)
    canvas.drawCentredString(_LEFT + 23 * mm, _TOP - 9.2 * mm, "PASS" if passed else "FAIL")
    lines = simpleSplit(plain(values.title), BOLD, 14, _RIGHT - _LEFT - 52 * mm)[:2]
    y = _TOP - 2.5 * mm
    for text in lines:
        _write(canvas, _LEFT + 52 * mm, y, text, 14, True)
        y -= 6 * mm
    if values.grade:
        _write(canvas, _LEFT + 52 * mm, y, f"Grade {values.grade}", 11, True)
        y -= 5 * mm
    for text in simpleSplit(plain(values.summary), REGULAR, 9.5, _RIGHT - _LEFT - 52 * mm)[:3]:
        _write(canvas, _LEFT + 52 * mm, y, text, 9.5)
        y -= 4.4 * mm
    return min(y, _TOP - 16 * mm) - 4 * mm


def _facts(canvas: Canvas, values: ReportFacts, y: float) -> float:
    for label, text in values.facts:
        _write(canvas, _LEFT, y, label, 8, soft=True)
        for line in simpleSplit(plain(text), REGULAR, 8.5, _RIGHT - _LEFT - 26 * mm)[:2]:
            _write(canvas, _LEFT + 26 * mm, y, line, 8.5)
            y -= 4.4 * mm
    return y - 3 * mm


def _criteria(canvas: Canvas, values: ReportFacts, y: float) -> float:
    stops = {"patches": 82 * mm, "value": 104 * mm, "limit": 120 * mm, "left": 136 * mm}
    _write(canvas, _LEFT, y, "Criterion", 8.5, True)
    for name, at in stops.items():
        _right(canvas, _LEFT + at, y, name.capitalize(), 8.5, True)
    _write(canvas, _LEFT + 158 * mm, y, "Verdict", 8.5, True)
    canvas.setStrokeGray(_INK)
    canvas.setLineWidth(0.6)
    canvas.line(_LEFT, y - 1.6 * mm, _RIGHT, y - 1.6 * mm)
    y -= 5.6 * mm
    step = min(5.0 * mm, max(3.4 * mm, (y - 95 * mm) / max(len(values.lines), 1)))
    for line in values.lines[:34]:
        _write(canvas, _LEFT, y, line.title[:58], 8.5)
        _right(canvas, _LEFT + stops["patches"], y, str(line.patches), 8.5)
        _right(canvas, _LEFT + stops["value"], y, line.value, 8.5)
        _right(canvas, _LEFT + stops["limit"], y, line.limit, 8.5)
        _right(canvas, _LEFT + stops["left"], y, line.left, 8.5)
        if line.used is not None:
            canvas.setFillGray(0.88)
            canvas.rect(_LEFT + 139 * mm, y, 16 * mm, 2.2 * mm, stroke=0, fill=1)
            canvas.setFillGray(0.25)
            canvas.rect(
                _LEFT + 139 * mm, y, 16 * mm * min(line.used, 100.0) / 100.0, 2.2 * mm, stroke=0, fill=1
            )
        _write(
            canvas,
            _LEFT + 158 * mm,
            y,
            line.verdict,
            8.5,
            line.verdict == "fail",
            line.verdict == "not tested",
        )
        y -= step
    for text in simpleSplit(plain(values.reported), REGULAR, 8, _RIGHT - _LEFT)[:3]:
        _write(canvas, _LEFT, y - 1 * mm, text, 8, soft=True)
        y -= 3.8 * mm
    return y - 3 * mm


def _notes(canvas: Canvas, values: ReportFacts, y: float) -> float:
    for note in values.notes:
        lines = simpleSplit(plain(note), BOLD, 8.5, _RIGHT - _LEFT - 6 * mm)[:3]
        if y - len(lines) * 4 * mm < 70 * mm:
            break
        canvas.setFillGray(_INK)
        canvas.rect(
            _LEFT, y - (len(lines) - 1) * 4 * mm - 1 * mm, 1.2 * mm, len(lines) * 4 * mm, stroke=0, fill=1
        )
        for text in lines:
            _write(canvas, _LEFT + 4 * mm, y, text, 8.5, True)
            y -= 4 * mm
        y -= 1.5 * mm
    return y


def _causes(canvas: Canvas, values: ReportFacts, y: float) -> None:
    """What may be the cause, where there is room for it."""
    if not values.causes or y < _BOTTOM + 20 * mm:
        return
    _write(canvas, _LEFT, y, "What may be the cause", 9.5, True)
    y -= 5 * mm
    for text in values.causes:
        for line in simpleSplit(plain(text), REGULAR, 8.5, _RIGHT - _LEFT)[:3]:
            if y < _BOTTOM + 2 * mm:
                return
            _write(canvas, _LEFT, y, line, 8.5)
            y -= 4.2 * mm
        y -= 1.5 * mm


def _map(canvas: Canvas, values: ReportFacts, y: float) -> float:
    """Measured colours as cells, aims as discs, in the places of the strip; the five worst have a frame."""
    n = len(values.ids)
    columns = values.columns if values.columns is not None else np.arange(n) % 15 + 1
    rows = values.rows if values.rows is not None else np.arange(n) // 15 + 1
    order = {int(r): i for i, r in enumerate(np.unique(rows))}
    wide, tall = int(columns.max()), len(order)
    room_y = y - _BOTTOM - 10 * mm
    size = min((_RIGHT - _LEFT - 2 * mm) / wide, room_y / tall, 12 * mm)
    if size < 0.8 * mm:
        _write(canvas, _LEFT, y, f"{n} patches: their map is on the page of the check.", 8, soft=True)
        return y - 8 * mm
    seen, aims = hex_colours(values.measured), hex_colours(values.aim)
    worst = set(np.argsort(-values.differences)[:5].tolist())
    canvas.setFillGray(0.467)
    canvas.rect(_LEFT, y - tall * size - 1 * mm, wide * size + 2 * mm, tall * size + 2 * mm, stroke=0, fill=1)
    for i in range(n):
        x = _LEFT + 1 * mm + (int(columns[i]) - 1) * size
        top = y - (order[int(rows[i])] + 1) * size
        canvas.setFillColor(seen[i])
        canvas.rect(x + 0.03 * size, top + 0.03 * size, 0.94 * size, 0.94 * size, stroke=0, fill=1)
        canvas.setFillColor(aims[i])
        canvas.circle(x + size / 2, top + size / 2, 0.24 * size, stroke=0, fill=1)
        if i in worst:
            canvas.setStrokeGray(0.0 if values.measured[i][0] > 50 else 1.0)
            canvas.setLineWidth(max(0.6, 0.05 * size))
            canvas.rect(x + 0.08 * size, top + 0.08 * size, 0.84 * size, 0.84 * size, stroke=1, fill=0)
    _write(
        canvas,
        _LEFT,
        y - tall * size - 5 * mm,
        "Cell: measured. Disc: aim. Framed: the five worst.",
        8,
        soft=True,
    )
    return y - tall * size - 13 * mm


def _patches(canvas: Canvas, values: ReportFacts, start: int) -> None:
    heads = ("Patch", "C M Y K, %", "aim L* a* b*", "measured L* a* b*", values.unit)
    stops = (0.0, 22.0, 78.0, 122.0, 172.0)
    y = _TOP
    for head, at in zip(heads, stops):
        if at == stops[-1]:
            _right(canvas, _LEFT + at * mm, y, head, 8.5, True)
        else:
            _write(canvas, _LEFT + at * mm, y, head, 8.5, True)
    canvas.setStrokeGray(_INK)
    canvas.line(_LEFT, y - 1.6 * mm, _RIGHT, y - 1.6 * mm)
    stop = min(start + _ROWS_A_PAGE, len(values.ids))
    seen, aims = hex_colours(values.measured[start:stop]), hex_colours(values.aim[start:stop])
    for k, i in enumerate(range(start, stop)):
        y -= 4.7 * mm
        _write(canvas, _LEFT, y, values.ids[i][:14], 8)
        if values.device is not None:
            _write(canvas, _LEFT + stops[1] * mm, y, "  ".join(f"{v:.0f}" for v in values.device[i]), 8)
        for lab, at, colour in ((values.aim[i], stops[2], aims[k]), (values.measured[i], stops[3], seen[k])):
            canvas.setFillColor(colour)
            canvas.rect(_LEFT + (at - 7) * mm, y - 0.6 * mm, 5 * mm, 3.4 * mm, stroke=0, fill=1)
            _write(canvas, _LEFT + at * mm, y, "  ".join(f"{v:.2f}" for v in lab), 8)
        _right(canvas, _LEFT + stops[4] * mm, y, f"{values.differences[i]:.2f}", 8)


def _foot(canvas: Canvas, values: ReportFacts, page: int, pages: int) -> None:
    canvas.setStrokeGray(_LINE)
    canvas.setLineWidth(0.5)
    canvas.line(_LEFT, _BOTTOM - 3 * mm, _RIGHT, _BOTTOM - 3 * mm)
    text = (simpleSplit(plain(values.foot), REGULAR, 7.5, _RIGHT - _LEFT - 24 * mm) or [""])[0]
    _write(canvas, _LEFT, _BOTTOM - 7 * mm, text, 7.5, soft=True)
    canvas.setFillGray(_SOFT)
    canvas.setFont(REGULAR, 7.5)
    canvas.drawRightString(_RIGHT, _BOTTOM - 7 * mm, f"page {page} of {pages}")
