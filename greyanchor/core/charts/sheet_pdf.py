"""Sheets as PDF vectors: C M Y K, R G B, or named colorants that other readers show sensibly."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any

import numpy as np
import pikepdf
from pikepdf import Array as PdfArray
from pikepdf import Dictionary, Name, Pdf

from greyanchor.core.charts.colorants import name_of, overprinted
from greyanchor.core.charts.layout import DIGITS, FOOTER, MARGIN, Layout, layout_of
from greyanchor.core.charts.sheets import (
    RAW_NOTICE,
    ROW_LABELS_END,
    caption,
    check_channels,
    coloured,
    letter_ink,
    sheet_rows,
    sheet_texts,
    shorten,
)
from greyanchor.core.charts.swatches import CUTS
from greyanchor.core.measurement.readings import ReadingSet, is_additive

_POINT = 72.0 / 25.4
#: what sets the colour of lines, by what sets that of what is filled
_STROKES = {"k": "K", "rg": "RG", "scn": "SCN"}
#: mean width of a digit or letter of the row numbers, of their size
_WIDE = 0.5


def pdf(chart: ReadingSet) -> bytes:
    """All sheets as one PDF of filled rectangles, raw: DeviceCMYK, DeviceRGB, or DeviceN by name.

    Colorants of DeviceN have the names that print programs know (Cyan, Orange, Light Magenta ..); a reader
    without such inks shows about what they look like.
    """
    channels, layout = check_channels(chart), layout_of(chart)
    made = Pdf.new()
    space = made.make_indirect(_space(made, channels))
    face = made.make_indirect(
        Dictionary(Type=Name.Font, Subtype=Name.Type1, BaseFont=Name.Helvetica, Encoding=Name.WinAnsiEncoding)
    )
    for sheet in range(1, layout.sheets + 1):
        content = "\n".join(_drawn(chart, layout, sheet)).encode("cp1252", "replace")
        page = Dictionary(
            Type=Name.Page,
            MediaBox=PdfArray([0, 0, layout.page[0] * _POINT, layout.page[1] * _POINT]),
            Resources=Dictionary(ColorSpace=Dictionary(Inks=space), Font=Dictionary(F=face)),
            Contents=made.make_stream(content),
        )
        made.pages.append(pikepdf.Page(made.make_indirect(page)))
    made.docinfo["/Title"] = chart.meta.get("DESCRIPTOR", "Chart")
    made.docinfo["/Subject"] = RAW_NOTICE
    out = io.BytesIO()
    made.save(out, deterministic_id=True, compress_streams=True)
    return out.getvalue()


def _space(made: Pdf, channels: tuple[str, ...]) -> Any:
    """The colour space of a chart's inks."""
    if channels == tuple("CMYK"):
        return Name.DeviceCMYK
    if is_additive(channels):
        return Name.DeviceRGB
    # a grid of two in each ink, interpolated: what every overprint looks like, and all between
    corners = overprinted(channels)
    count = len(channels)
    order = corners.transpose(*reversed(range(count)), count)  # the first ink varies fastest
    samples = np.round(255.0 * order).astype(np.uint8).tobytes()
    transform = made.make_stream(
        samples,
        FunctionType=0,
        Domain=PdfArray([0, 1] * count),
        Range=PdfArray([0, 1] * 4),
        Size=PdfArray([2] * count),
        BitsPerSample=8,
    )
    names = PdfArray([Name(f"/{name_of(c)}") for c in channels])
    return PdfArray([Name.DeviceN, names, Name.DeviceCMYK, transform])


def _drawn(chart: ReadingSet, layout: Layout, sheet: int) -> Iterator[str]:
    """The content of one sheet, line by line."""
    channels, height = chart.channels, layout.page[1]
    values = np.round(chart.values(), DIGITS)
    assert chart.columns is not None
    black = [0.0] * len(channels)
    if not is_additive(channels):
        black[letter_ink(channels)] = 1.0
    fill = _fill(channels)
    if fill == "scn":
        yield "/Inks cs /Inks CS"
    title, environment, footer = sheet_texts(chart, layout, sheet)
    yield from _text(MARGIN, height - MARGIN - 4, 11, title, black, fill)
    yield from _text(MARGIN, height - MARGIN - 9.5, 7.5, shorten(environment, layout.page[0]), black, fill)
    yield from _text(MARGIN, FOOTER - 1, 7.5, footer, black, fill)
    for on_sheet, number, members in sheet_rows(chart, layout, sheet):
        _, top, _, tall = layout.rectangle(on_sheet, 0)
        words = f"row {number}"
        left = ROW_LABELS_END - len(words) * _WIDE * 7.5 / _POINT
        yield from _text(left, height - top - tall / 2 - 1, 7.5, words, black, fill)
        for i in members:
            x, y, wide, tall = layout.rectangle(on_sheet, int(chart.columns[i]) - 1)
            inked = coloured(chart, tall)
            box = (x, height - y - inked, wide, inked)
            yield f"{_numbers(values[i])} {fill} {_numbers(np.array(box) * _POINT)} re f"
            if chart.meta.get(CUTS):
                edge = np.array((x, height - y - tall, wide, tall)) * _POINT
                yield f"q {_numbers(black)} {_STROKES[fill]} 0.25 w {_numbers(edge)} re S Q"
            if words := caption(chart, i, wide, 6.0 / _POINT):
                yield from _text(x, height - y - inked - 2.4, 6.0, words, black, fill)


def _fill(channels: tuple[str, ...]) -> str:
    """The operator that sets the colour of what is filled."""
    return "k" if channels == tuple("CMYK") else "rg" if is_additive(channels) else "scn"


def _numbers(values: Any) -> str:
    return " ".join(f"{float(v):.{DIGITS}f}".rstrip("0").rstrip(".") or "0" for v in values)


def _text(x: float, y: float, size: float, words: str, ink: list[float], fill: str) -> Iterator[str]:
    safe = words.replace("\\", r"\\").replace("(", r"\(").replace(")", r"\)")
    yield f"{_numbers(ink)} {fill} BT /F {size:g} Tf {_numbers((x * _POINT, y * _POINT))} Td ({safe}) Tj ET"
