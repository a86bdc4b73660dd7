"""Sheets to print: CMYK TIFF (16 bit) and PDF with DeviceCMYK vectors, always raw."""

from __future__ import annotations

import io
from collections.abc import Iterator

import numpy as np
import tifffile
from PIL import Image, ImageDraw, ImageFont
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.charts.layout import DIGITS, FOOTER, LABEL, MARGIN, Layout, layout_of
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

RAW_NOTICE = "raw, no colour management"


def sheet_texts(chart: ReadingSet, layout: Layout, sheet: int) -> tuple[str, str, str]:
    """Title, environment and footer of one sheet."""
    title = chart.meta.get("DESCRIPTOR", "Chart")
    environment = chart.meta.get("PRINT_CONDITIONS", "environment not named")
    footer = f"{RAW_NOTICE} · sheet {sheet} of {layout.sheets} · {layout.method.title}"
    return title, environment, footer


def _cmyk(chart: ReadingSet) -> np.ndarray:
    if chart.channels != tuple("CMYK"):
        raise BadInput(
            f"sheets can be drawn for CMYK charts, not for {'+'.join(chart.channels) or 'no channels'}"
        )
    return chart.values()


def _sheet_rows(chart: ReadingSet, layout: Layout, sheet: int) -> Iterator[tuple[int, int, np.ndarray]]:
    """Row on the sheet (from 0), row number, and positions of its patches."""
    assert chart.rows is not None and chart.sheets is not None
    on_sheet = np.flatnonzero(chart.sheets == sheet)
    for number in np.unique(chart.rows[on_sheet]):
        yield int(number - 1) % layout.rows_per_sheet, int(number), on_sheet[chart.rows[on_sheet] == number]


def tiff(chart: ReadingSet, dpi: int = 150) -> bytes:
    """All sheets as one multi-page TIFF, CMYK, 16 bits, deflated; 0 is no ink, 65535 is 100 %."""
    values, layout = _cmyk(chart), layout_of(chart)
    out = io.BytesIO()
    with tifffile.TiffWriter(out) as writer:
        for sheet in range(1, layout.sheets + 1):
            writer.write(
                _tiff_page(chart, values, layout, sheet, dpi),
                photometric="separated",
                planarconfig="contig",
                compression="zlib",
                resolution=(dpi, dpi),
                resolutionunit="INCH",
                description=RAW_NOTICE if sheet == 1 else None,
                metadata=None,
                software=False,
            )
    return out.getvalue()


def _tiff_page(chart: ReadingSet, values: np.ndarray, layout: Layout, sheet: int, dpi: int) -> np.ndarray:
    """One sheet as ink (height, width, 4), 0..65535: text in black, and patches to the last bit."""
    scale = dpi / 25.4
    assert chart.columns is not None
    size = (round(layout.page[0] * scale), round(layout.page[1] * scale))
    page = np.zeros((size[1], size[0], 4), dtype=np.uint16)
    page[..., 3] = np.asarray(_texts(chart, layout, sheet, scale, size), dtype=np.uint16) * 257
    levels = np.round(values * 65535.0).astype(np.uint16)
    for on_sheet, _, members in _sheet_rows(chart, layout, sheet):
        for i in members:
            left, top, width, height = layout.rectangle(on_sheet, int(chart.columns[i]) - 1)
            down = slice(round(top * scale), round((top + height) * scale))
            page[down, round(left * scale) : round((left + width) * scale)] = levels[i]
    return page


def _texts(chart: ReadingSet, layout: Layout, sheet: int, scale: float, size: tuple[int, int]) -> Image.Image:
    """Title, environment, footer and numbers of rows, as amounts of ink 0..255."""
    image = Image.new("L", size, 0)
    draw = ImageDraw.Draw(image)
    title_font, font = ImageFont.load_default(4.2 * scale), ImageFont.load_default(2.9 * scale)
    title, environment, footer = sheet_texts(chart, layout, sheet)
    left = MARGIN * scale
    draw.text((left, MARGIN * scale), title, fill=255, font=title_font)
    draw.text((left, (MARGIN + 7) * scale), _shorten(environment, layout.page[0]), fill=255, font=font)
    draw.text((left, (layout.page[1] - FOOTER - 2) * scale), footer, fill=255, font=font)
    for on_sheet, number, _ in _sheet_rows(chart, layout, sheet):
        _, top, _, height = layout.rectangle(on_sheet, 0)
        draw.text((left, (top + height / 2 - 1.7) * scale), f"row {number}", fill=255, font=font)
    return image


def pdf(chart: ReadingSet) -> bytes:
    """All sheets as one PDF of DeviceCMYK rectangles; text is K only."""
    values, layout = _cmyk(chart), layout_of(chart)
    out = io.BytesIO()
    width, height = layout.page
    canvas = Canvas(out, pagesize=(width * mm, height * mm), invariant=1)
    canvas.setTitle(chart.meta.get("DESCRIPTOR", "Chart"))
    canvas.setSubject(RAW_NOTICE)
    assert chart.columns is not None
    for sheet in range(1, layout.sheets + 1):
        title, environment, footer = sheet_texts(chart, layout, sheet)
        canvas.setFillColorCMYK(0, 0, 0, 1)
        canvas.setFont("Helvetica-Bold", 11)
        canvas.drawString(MARGIN * mm, (height - MARGIN - 4) * mm, title)
        canvas.setFont("Helvetica", 7.5)
        canvas.drawString(MARGIN * mm, (height - MARGIN - 9.5) * mm, _shorten(environment, width))
        canvas.drawString(MARGIN * mm, (FOOTER - 1) * mm, footer)
        for on_sheet, number, members in _sheet_rows(chart, layout, sheet):
            _, top, _, tall = layout.rectangle(on_sheet, 0)
            canvas.setFillColorCMYK(0, 0, 0, 1)
            canvas.drawRightString(
                (MARGIN + LABEL - 2) * mm, (height - top - tall / 2 - 1) * mm, f"row {number}"
            )
            for i in members:
                left, top, wide, tall = layout.rectangle(on_sheet, int(chart.columns[i]) - 1)
                canvas.setFillColorCMYK(*(float(round(v, DIGITS)) for v in values[i]))
                canvas.rect(left * mm, (height - top - tall) * mm, wide * mm, tall * mm, stroke=0, fill=1)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def _shorten(text: str, page_width: float) -> str:
    room = int((page_width - 2 * MARGIN) / 1.35)
    return text if len(text) <= room else text[: room - 1] + "…"
