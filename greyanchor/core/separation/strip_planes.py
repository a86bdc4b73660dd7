"""A control strip, or any chart on one sheet, as planes of a print file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.charts.layout import MARGIN, Layout, layout_of
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.parallel import each
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.halftone.screens import Screen, ScreenSpec
from greyanchor.core.separation.lettering import words

Planes = np.ndarray[Any, Any]
_BAND = 4_000_000
_FULL = 65535


def write_strip(
    raw: ReadingSet,
    inks: tuple[str, ...],
    screen: ScreenSpec,
    resolution: float,
    output: str | Path,
    title: str = "",
) -> dict[str, float]:
    """Write the patches of a laid-out chart, raw amounts of ink, as halftoned planes with row numbers in
    black; ml of each ink.

    Raises `BadInput` for a chart of more than one sheet, and for channels that are not among the inks.
    """
    layout = layout_of(raw)
    if layout.sheets != 1:
        raise BadInput(f"the strip needs {layout.sheets} sheets of its page: choose a shorter strip")
    missing = [c for c in raw.channels if c not in inks]
    if missing:
        raise BadInput(f"the strip is printed with {', '.join(missing)}, which the run does not have")
    dots = resolution / 25.4
    width, height = round(layout.page[0] * dots), round(layout.page[1] * dots)
    places = [inks.index(c) for c in raw.channels]
    amounts = np.zeros((len(raw), len(inks)), np.uint16)
    amounts[:, places] = np.round(np.clip(raw.values(), 0.0, 1.0) * _FULL)
    boxes = _boxes(raw, layout, dots)
    letters = _letters(raw, layout, dots, width, title)
    black = inks.index("K") if "K" in inks else 0
    screens = [Screen(screen.of_ink(ink), resolution, width, i) for i, ink in enumerate(inks)]
    rows = max(8, _BAND // width // 8 * 8)
    writer = PlaneWriter(
        output, PlaneLayout(width, height, inks, screen.bits, resolution), rows, {"strip": title}
    )
    sums = np.zeros(len(inks))
    for top in range(0, height, rows):
        last = min(top + rows, height)
        tones = np.zeros((len(inks), last - top, width), np.uint16)
        for (left, upper, right, lower), value in zip(boxes, amounts):
            if upper < last and lower > top:
                tones[:, max(upper - top, 0) : lower - top, left:right] = value[:, None, None]
        for x, y, mask in letters:
            first, end = max(y, top), min(y + mask.shape[0], last)
            if end > first:
                into = tones[black, first - top : end - top, x : x + mask.shape[1]]
                into[mask[first - y : end - y, : into.shape[1]]] = _FULL
        sums += tones.sum(axis=(1, 2), dtype=np.float64)

        def packed(i: int, band: Planes = tones, at: int = top) -> Planes:
            return screens[i].packed(np.ascontiguousarray(band[i]), at)

        writer.write(each(packed, range(len(inks))))
    writer.close()
    area = layout.page[0] * layout.page[1] / 1e6
    shares = sums / (_FULL * width * height)
    return {ink: float(LOAD_AT_FULL * area * share) for ink, share in zip(inks, shares)}


def _boxes(raw: ReadingSet, layout: Layout, dots: float) -> list[tuple[int, int, int, int]]:
    """Left, top, right and bottom of each patch in dots."""
    assert raw.rows is not None and raw.columns is not None
    found = []
    for row, column in zip(raw.rows.tolist(), raw.columns.tolist()):
        left, top, wide, tall = layout.rectangle((row - 1) % layout.rows_per_sheet, column - 1)
        found.append(
            (round(left * dots), round(top * dots), round((left + wide) * dots), round((top + tall) * dots))
        )
    return found


def _letters(
    raw: ReadingSet, layout: Layout, dots: float, width: int, title: str
) -> list[tuple[int, int, Planes]]:
    """Title and row numbers: left, top and dots of each."""
    assert raw.rows is not None
    left, high = round(MARGIN * dots), round(3.4 * dots)
    found = [(left, round(MARGIN * dots), words(title, high, width - 2 * left))] if title else []
    for row in np.unique(raw.rows).tolist():
        _, top, _, tall = layout.rectangle((row - 1) % layout.rows_per_sheet, 0)
        at = round((top + tall / 2 - 1.7) * dots)
        found.append((left, at, words(f"row {row}", high, round(13 * dots))))
    return found
