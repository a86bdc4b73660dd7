"""Sheets to print, always raw: TIFF of as many inks as the chart has, R G B pictures, and PDF vectors."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from greyanchor.core.charts.colorants import name_of
from greyanchor.core.charts.layout import FOOTER, LABEL, MARGIN, Layout, layout_of
from greyanchor.core.charts.swatches import CAPTIONS, COLOURED, CUTS
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, is_additive
from greyanchor.core.printing.plane_file import RGB, SEPARATED, WHITE_IS_ZERO, PlaneLayout, PlaneWriter

#: height of the letters under a patch, mm
_CAPTION = 2.1
RAW_NOTICE = "raw, no colour management"
MOST_INKS = 8
_FULL = 65535.0


def sheet_texts(chart: ReadingSet, layout: Layout, sheet: int) -> tuple[str, str, str]:
    """Title, environment and footer of one sheet."""
    title = chart.meta.get("DESCRIPTOR", "Chart")
    environment = chart.meta.get("ORIGIN") or chart.meta.get("PRINT_CONDITIONS", "environment not named")
    footer = f"{RAW_NOTICE} · sheet {sheet} of {layout.sheets} · {layout.method.title}"
    return title, environment, footer


def check_channels(chart: ReadingSet) -> tuple[str, ...]:
    """The channels of a chart whose sheets can be drawn. Raises `BadInput` for none and for too many."""
    if not 1 <= len(chart.channels) <= MOST_INKS:
        raise BadInput(
            f"sheets can be drawn for 1 to {MOST_INKS} inks, not for "
            f"{'+'.join(chart.channels) or 'no channels'}"
        )
    return chart.channels


def sheet_rows(chart: ReadingSet, layout: Layout, sheet: int) -> Iterator[tuple[int, int, np.ndarray]]:
    """Row on the sheet (from 0), row number, and positions of its patches."""
    assert chart.rows is not None and chart.sheets is not None
    on_sheet = np.flatnonzero(chart.sheets == sheet)
    for number in np.unique(chart.rows[on_sheet]):
        yield int(number - 1) % layout.rows_per_sheet, int(number), on_sheet[chart.rows[on_sheet] == number]


def coloured(chart: ReadingSet, height: float) -> float:
    """How much of a patch's height, mm, is colour; its name stands under it where the chart has captions."""
    return height * COLOURED if chart.names and chart.meta.get(CAPTIONS) else height


def caption(chart: ReadingSet, i: int, width: float, size: float) -> str:
    """The name under a patch `width` mm wide in letters of `size` mm; empty where there are no captions."""
    if not chart.names or not chart.meta.get(CAPTIONS):
        return ""
    room, name = int(width / (0.52 * size)), chart.names[i]
    return name if len(name) <= room else name[: max(room - 1, 1)] + "…"


def letter_ink(channels: tuple[str, ...]) -> int:
    """Which ink letters are printed with: black, else the first."""
    return channels.index("K") if "K" in channels else 0


def tiff(chart: ReadingSet, dpi: int = 150) -> bytes:
    """All sheets as one multi-page TIFF of 16 bits, deflated.

    Inks are samples of a separated picture, named in the order of the chart; 0 is no ink, 65535 is 100 %. One
    ink alone is a grey picture in which white is zero; R G B is R G B.
    """
    channels, layout = check_channels(chart), layout_of(chart)
    scale = dpi / 25.4
    size = (round(layout.page[0] * scale), round(layout.page[1] * scale))
    kind = RGB if is_additive(channels) else SEPARATED if len(channels) > 1 else WHITE_IS_ZERO
    pages = tuple(f"sheet {n} of {layout.sheets}" for n in range(1, layout.sheets + 1))
    names = tuple(name_of(c) for c in channels)
    made = PlaneLayout(*size, pages, 16, float(dpi), len(channels), kind, channels_named(channels, names))
    with tempfile.TemporaryDirectory(prefix="greyanchor-sheets-") as folder:
        writer = PlaneWriter(
            Path(folder) / "sheets.tif", made, size[1], {"notice": RAW_NOTICE, "channels": list(channels)}
        )
        writer.write([tiff_page(chart, layout, sheet, dpi) for sheet in range(1, layout.sheets + 1)])
        return writer.close().read_bytes()


def channels_named(channels: tuple[str, ...], names: tuple[str, ...]) -> tuple[str, ...]:
    """Names for the file; those of C M Y K stay its letters, which readers know."""
    return channels if channels == tuple("CMYK") else names


def png(chart: ReadingSet, dpi: int = 150) -> bytes:
    """The sheet of an R G B chart as a picture of 8 bits, for drivers that take pictures alone.

    Raises `BadInput` for charts of inks, and for several sheets.
    """
    channels, layout = check_channels(chart), layout_of(chart)
    if not is_additive(channels):
        raise BadInput("PNG is for R G B charts; inks go out as TIFF or PDF")
    if layout.sheets != 1:
        raise BadInput(f"the chart has {layout.sheets} sheets, a PNG holds one: use TIFF")
    page = tiff_page(chart, layout, 1, dpi)
    out = io.BytesIO()
    Image.fromarray(((page.astype(np.uint32) + 128) // 257).astype(np.uint8)).save(
        out, "PNG", dpi=(dpi, dpi), optimize=True
    )
    return out.getvalue()


def tiff_page(chart: ReadingSet, layout: Layout, sheet: int, dpi: int) -> np.ndarray:
    """One sheet as device values (height, width, channels), 0..65535: black letters, exact patches."""
    scale = dpi / 25.4
    channels = chart.channels
    assert chart.columns is not None
    size = (round(layout.page[0] * scale), round(layout.page[1] * scale))
    page = np.zeros((size[1], size[0], len(channels)), dtype=np.uint16)
    letters = np.asarray(_texts(chart, layout, sheet, scale, size), dtype=np.uint16) * 257
    if is_additive(channels):
        page[:] = (65535 - letters)[..., None]
    else:
        page[..., letter_ink(channels)] = letters
    levels = np.round(chart.values() * _FULL).astype(np.uint16)
    for on_sheet, _, members in sheet_rows(chart, layout, sheet):
        for i in members:
            left, top, width, height = layout.rectangle(on_sheet, int(chart.columns[i]) - 1)
            down = slice(round(top * scale), round((top + coloured(chart, height)) * scale))
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
    draw.text((left, (MARGIN + 7) * scale), shorten(environment, layout.page[0]), fill=255, font=font)
    draw.text((left, (layout.page[1] - FOOTER - 2) * scale), footer, fill=255, font=font)
    small = ImageFont.load_default(_CAPTION * scale)
    for on_sheet, number, members in sheet_rows(chart, layout, sheet):
        for i in members:
            assert chart.columns is not None
            x, top, width, height = layout.rectangle(on_sheet, int(chart.columns[i]) - 1)
            if chart.meta.get(CUTS):
                corners = (x * scale, top * scale, (x + width) * scale, (top + height) * scale)
                draw.rectangle(corners, outline=255)
            if words := caption(chart, i, width, _CAPTION):
                below = (top + coloured(chart, height) + 0.4) * scale
                draw.text((x * scale, below), words, fill=255, font=small)
        _, top, _, height = layout.rectangle(on_sheet, 0)
        draw.text((left, (top + height / 2 - 1.7) * scale), f"row {number}", fill=255, font=font)
    return image


def shorten(text: str, page_width: float) -> str:
    """As much of a text as a page of so many mm has room for."""
    room = int((page_width - 2 * MARGIN) / 1.35)
    return text if len(text) <= room else text[: room - 1] + "…"


#: where the numbers of rows end, mm from the left edge of the sheet
ROW_LABELS_END = MARGIN + LABEL - 2
