"""Patch maps and sheets: patches in the places they have on the chart."""

from __future__ import annotations

from html import escape

import numpy as np
import numpy.typing as npt

from greyanchor.core.charts.layout import FOOTER, LABEL, MARGIN, layout_of
from greyanchor.core.charts.sheets import caption, coloured, sheet_texts
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.generic_aims import aim_lab
from greyanchor.drawing.colours import hex_colours


def sheet_picture(chart: ReadingSet, sheet: int = 1) -> str:
    """One sheet as SVG in millimetres; patch colours are a rough expectation, not a measurement."""
    layout = layout_of(chart)
    width, height = layout.page
    title, environment, footer = sheet_texts(chart, layout, sheet)
    assert chart.rows is not None and chart.columns is not None and chart.sheets is not None
    colours = (
        hex_colours(aim_lab(chart.values())) if chart.channels == tuple("CMYK") else ["#888888"] * len(chart)
    )
    parts = [
        (
            '<svg xmlns="http://www.w3.org/2000/svg" class="sheet" font-family="sans-serif" viewBox="0 0 '
            f'{width:g} {height:g}" role="img" aria-label="{escape(title)}, sheet {sheet} of '
            f'{layout.sheets}">'
        ),
        f'<rect width="{width:g}" height="{height:g}" fill="#ffffff"/>',
        f'<text x="{MARGIN}" y="{MARGIN + 4}" font-size="4.4" font-weight="600">{escape(title)}</text>',
        (
            f'<text x="{MARGIN}" y="{MARGIN + 10}" '
            f'font-size="2.9">{escape(environment[: int((width - 2 * MARGIN) / 1.5)])}</text>'
        ),
        f'<text x="{MARGIN}" y="{height - FOOTER}" font-size="2.9">{escape(footer)}</text>',
    ]
    members = np.flatnonzero(chart.sheets == sheet)
    seen: set[int] = set()
    for i in members:
        row = int(chart.rows[i])
        left, top, wide, tall = layout.rectangle((row - 1) % layout.rows_per_sheet, int(chart.columns[i]) - 1)
        if row not in seen:
            seen.add(row)
            parts.append(
                f'<text x="{MARGIN + LABEL - 2}" y="{top + tall / 2 + 1:.1f}" font-size="2.9" '
                f'text-anchor="end">row {row}</text>'
            )
        inked = coloured(chart, tall)
        parts.append(
            f'<rect x="{left:g}" y="{top:g}" width="{wide:g}" height="{inked:g}" fill="{colours[i]}"/>'
        )
        if words := caption(chart, int(i), wide, 2.1):
            parts.append(
                f'<text x="{left:g}" y="{top + inked + 2.4:g}" font-size="2.1">{escape(words)}</text>'
            )
    return "".join([*parts, "</svg>"])


def patch_map(
    ids: tuple[str, ...],
    aim: Array,
    measured: Array,
    rows: npt.NDArray[np.int64] | None = None,
    columns: npt.NDArray[np.int64] | None = None,
    marked: frozenset[str] = frozenset(),
    differences: Array | None = None,
    cell: int = 30,
) -> str:
    """Measurement in the whole cell, aim as a disc in its middle; marked patches carry a ring and a
    corner.
    """
    n = len(ids)
    if rows is None or columns is None:
        per_row = 18
        rows, columns = np.arange(n) // per_row + 1, np.arange(n) % per_row + 1
    difference = delta_e_2000(aim, measured) if differences is None else differences
    back, disc = hex_colours(measured), hex_colours(aim)
    first, label = int(rows.min()), 34
    width, height = label + int(columns.max()) * cell + 8, (int(rows.max()) - first + 1) * cell + 8
    parts = [
        (
            f'<svg class="patch-map" viewBox="0 0 {width} {height}" role="img" '
            f'data-style="max-width:{width}px" '
            f'aria-label="Patch map, {n} patches by row">'
        )
    ]
    parts.append(f'<rect width="{width}" height="{height}" fill="#777777"/>')
    for row in np.unique(rows):
        y = 4 + (int(row) - first) * cell
        parts.append(
            f'<text x="{label - 8}" y="{y + cell / 2 + 4:.0f}" text-anchor="end" class="on-grey">{row}</text>'
        )
    for i in range(n):
        x, y = label + (int(columns[i]) - 1) * cell, 4 + (int(rows[i]) - first) * cell
        tip = (
            f"patch {ids[i]}: dE {difference[i]:.2f}; measured L* {measured[i, 0]:.1f} a* "
            f"{measured[i, 1]:.1f} b* {measured[i, 2]:.1f}; "
            f"aim L* {aim[i, 0]:.1f} a* {aim[i, 1]:.1f} b* {aim[i, 2]:.1f}"
        )
        parts.append(
            f'<g><title>{escape(tip)}</title><rect x="{x + 1}" y="{y + 1}" width="{cell - 2}" '
            f'height="{cell - 2}" fill="{back[i]}"/>'
        )
        parts.append(
            f'<circle cx="{x + cell / 2:.1f}" cy="{y + cell / 2:.1f}" r="{cell * 0.24:.1f}" '
            f'fill="{disc[i]}"/>'
        )
        if ids[i] in marked:
            parts.append(
                f'<rect x="{x + 1}" y="{y + 1}" width="{cell - 2}" height="{cell - 2}" fill="none" '
                'stroke="#ffffff" stroke-width="3"/>'
            )
            parts.append(
                f'<rect x="{x + 1}" y="{y + 1}" width="{cell - 2}" height="{cell - 2}" fill="none" '
                'stroke="#000000" stroke-width="1.4"/>'
            )
        parts.append("</g>")
    return "".join([*parts, "</svg>"])


def difference_map(
    ids: tuple[str, ...],
    differences: Array,
    rows: npt.NDArray[np.int64],
    columns: npt.NDArray[np.int64],
    limit: float,
    cell: int = 15,
) -> str:
    """Where two passes differ: white agrees, darker differs more; above `limit` a cell carries a cross."""
    first, label = int(rows.min()), 28
    width, height = label + int(columns.max()) * cell + 4, (int(rows.max()) - first + 1) * cell + 4
    parts = [
        (
            f'<svg class="patch-map" viewBox="0 0 {width} {height}" role="img" '
            f'data-style="max-width:{width}px" '
            'aria-label="Map of differences between passes">'
        )
    ]
    for row in np.unique(rows):
        parts.append(
            f'<text x="{label - 6}" y="{2 + (int(row) - first + 0.78) * cell:.0f}" text-anchor="end">'
            f"{row}</text>"
        )
    for i, name in enumerate(ids):
        x, y = label + (int(columns[i]) - 1) * cell, 2 + (int(rows[i]) - first) * cell
        grey = int(245 - 200 * min(float(differences[i]) / limit, 1.0))
        parts.append(
            f"<g><title>patch {escape(name)}: dE00 {differences[i]:.2f}</title>"
            f'<rect x="{x}" y="{y}" width="{cell - 1}" height="{cell - 1}" fill="rgb({grey},{grey},{grey})"/>'
        )
        if differences[i] > limit:
            parts.append(
                f'<path d="M{x + 3} {y + 3}l{cell - 7} {cell - 7}m0 {7 - cell}l{7 - cell} {cell - 7}" '
                'stroke="#ffffff" stroke-width="1.6"/>'
            )
        parts.append("</g>")
    return "".join([*parts, "</svg>"])


def strip_css(colours: list[str]) -> str:
    """A row of patches as one CSS background: bands of equal width from left to right."""
    share = 100.0 / len(colours)
    bands = [f"{c} 0 {share * (i + 1):.4g}%" for i, c in enumerate(colours)]
    return f"linear-gradient(90deg,{','.join(bands)})"
