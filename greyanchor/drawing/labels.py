"""Labels of checks as PDF, in usual sizes of stickers, with a QR code that leads to the check."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

from reportlab.graphics import renderPDF
from reportlab.graphics.barcode.qr import QrCodeWidget
from reportlab.graphics.shapes import Drawing
from reportlab.lib.units import mm
from reportlab.lib.utils import simpleSplit
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.errors import BadInput
from greyanchor.drawing.typefaces import BOLD, REGULAR, plain, register

#: width and height in millimetres, by name
SIZES = {
    "89x36": (89.0, 36.0),
    "102x51": (102.0, 51.0),
    "100x70": (100.0, 70.0),
    "102x152": (102.0, 152.0),
}


@dataclass(frozen=True)
class LabelFacts:
    """What a label says: heading, verdict, lines of label and text, figures, and the address the code leads
    to.
    """

    title: str
    verdict: str
    grade: str
    facts: Sequence[tuple[str, str]]
    figures: Sequence[str]
    address: str


def label_pdf(values: LabelFacts, size: str) -> bytes:
    """One label as PDF; `BadInput` for a size that is not offered."""
    if size not in SIZES:
        raise BadInput(f"no label of {size}; there are {', '.join(SIZES)} mm")
    width, height = (v * mm for v in SIZES[size])
    register()
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(width, height), invariant=1)
    canvas.setTitle(plain(f"label: {values.title}"))
    margin = 3.0 * mm
    tall = height > width
    side = min(0.52 * height, 44 * mm) if not tall else 44 * mm
    side = max(side, 19 * mm)
    text_width = width - 2 * margin - (0 if tall else side + 2 * mm)
    y = _verdict(canvas, values, margin, height - margin, text_width)
    least = margin + (side + 2 * mm if tall else 0)
    size_pt = 5.9 if height < 40 * mm else 9.0 if tall else 7.4
    indent = 2.7 * size_pt * mm
    lines: list[tuple[str, str]] = []
    for label, text in values.facts:
        wrapped = simpleSplit(plain(text), REGULAR, size_pt, text_width - indent)[:2]
        lines += [(label if i == 0 else "", part) for i, part in enumerate(wrapped)]
    room = int((y - least) / (1.28 * size_pt))
    kept = min(len(values.figures), 1 if height < 40 * mm else 3)
    lines = lines[: max(room - kept, 0)]
    for label, text in lines:
        canvas.setFillGray(0.35)
        canvas.setFont(REGULAR, size_pt)
        canvas.drawString(margin, y, plain(label))
        canvas.setFillGray(0.0)
        canvas.drawString(margin + indent, y, text)
        y -= 1.28 * size_pt
    for text in values.figures[: max(room - len(lines), 0)]:
        canvas.setFont(BOLD, size_pt)
        canvas.drawString(margin, y, (simpleSplit(plain(text), BOLD, size_pt, text_width) or [""])[0])
        y -= 1.28 * size_pt
    _code(canvas, values.address, width - margin - side, margin, side)
    canvas.showPage()
    canvas.save()
    return out.getvalue()


def _verdict(canvas: Canvas, values: LabelFacts, left: float, top: float, width: float) -> float:
    passed = values.verdict == "pass"
    box = 21 * mm
    canvas.setLineWidth(1.2)
    canvas.setStrokeGray(0.0)
    canvas.setFillGray(1.0 if passed else 0.0)
    canvas.rect(left, top - 8 * mm, box, 8 * mm, fill=1)
    canvas.setFillGray(0.0 if passed else 1.0)
    canvas.setFont(BOLD, 15)
    canvas.drawCentredString(left + box / 2, top - 6.1 * mm, "PASS" if passed else "FAIL")
    canvas.setFillGray(0.0)
    y = top - 2.6 * mm
    title = values.title if not values.grade else f"{values.title}, grade {values.grade}"
    for text in simpleSplit(plain(title), BOLD, 8, width - box - 2 * mm)[:2]:
        canvas.setFont(BOLD, 8)
        canvas.drawString(left + box + 2 * mm, y, text)
        y -= 3.5 * mm
    return top - 11.5 * mm


def _code(canvas: Canvas, address: str, x: float, y: float, side: float) -> None:
    widget = QrCodeWidget(address, barLevel="M")
    left, bottom, right, top = widget.getBounds()
    drawing = Drawing(side, side, transform=[side / (right - left), 0, 0, side / (top - bottom), 0, 0])
    drawing.add(widget)
    renderPDF.draw(drawing, canvas, x, y)
