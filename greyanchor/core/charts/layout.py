"""Sheet layout: patches in rows on sheets, for a way of measuring and a page size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet

PAGES = {"a4": (210.0, 297.0), "a3": (297.0, 420.0), "a2": (420.0, 594.0)}


@dataclass(frozen=True)
class Method:
    """How a chart is read; sizes in millimetres, pace in seconds."""

    name: str
    title: str
    patch_width: float
    patch_height: float
    gap: float
    seconds_per_row: float
    longest_row: int


METHODS = {
    "strip": Method("strip", "hand-held strip reader", 8.0, 10.0, 3.0, 9.0, 40),
    "table": Method("table", "measuring table", 6.0, 6.0, 0.0, 22.0, 80),
    "inline": Method("inline", "reader inside the printer", 10.0, 10.0, 0.0, 14.0, 120),
}
MARGIN = 12.0
LABEL = 14.0
HEADER = 18.0
FOOTER = 10.0


@dataclass(frozen=True)
class Layout:
    """Where every patch of a chart stands.

    Attributes
    ----------
    method
        The way of measuring.
    page
        Width and height in millimetres.
    columns, rows_per_sheet, sheets, rows
        Patches in a full row, rows on a full sheet, number of sheets and of rows in all.
    """

    method: Method
    page: tuple[float, float]
    columns: int
    rows_per_sheet: int
    sheets: int
    rows: int

    @property
    def minutes(self) -> float:
        """Estimated reading time of one pass, with half a minute to place each sheet."""
        return (self.rows * self.method.seconds_per_row + self.sheets * 30.0) / 60.0

    def rectangle(self, row_on_sheet: int, column: int) -> tuple[float, float, float, float]:
        """Left, top, width and height in millimetres of a patch; row and column count from 0."""
        m = self.method
        left = MARGIN + LABEL + column * m.patch_width
        top = MARGIN + HEADER + row_on_sheet * (m.patch_height + m.gap)
        return left, top, m.patch_width, m.patch_height


def parse_page(text: str) -> tuple[float, float]:
    """``a4``, ``a3``, ``a2`` or ``WxH`` in millimetres; `BadInput` otherwise."""
    name = text.strip().lower()
    if name in PAGES:
        return PAGES[name]
    width, cross, height = name.partition("x")
    try:
        size = (float(width), float(height))
    except ValueError:
        cross = ""
        size = (0.0, 0.0)
    if not cross:
        raise BadInput(
            f"page {text!r} is not understood; use {', '.join(PAGES)} or WIDTHxHEIGHT in millimetres"
        )
    if not (80 <= size[0] <= 3300 and 100 <= size[1] <= 20000):
        raise BadInput(f"a page of {size[0]:g} x {size[1]:g} mm is outside 80..3300 by 100..20000 mm")
    return size


def lay_out(
    device: Array,
    channels: tuple[str, ...],
    page: str = "a4",
    method: str = "strip",
    shuffle_seed: int | None = None,
    meta: dict[str, str] | None = None,
) -> tuple[ReadingSet, Layout]:
    """Place patches (n, channels) in rows; gives the chart (a `ReadingSet` without readings) and its layout.

    With `shuffle_seed` the patches are mixed, so that neighbours differ and unevenness of the
    sheet falls on all colours alike. Ids are ``row-column``, rows counted through all sheets.
    """
    if method not in METHODS:
        raise BadInput(f"no measuring method {method!r}; use one of {', '.join(METHODS)}")
    if len(device) == 0:
        raise BadInput("a chart needs at least one patch")
    chosen, size = METHODS[method], parse_page(page)
    room, per_sheet = _room(chosen, size)
    columns = min(room, len(device))
    if columns < min(4, len(device)) or per_sheet < 1:
        raise BadInput(f"a page of {size[0]:g} x {size[1]:g} mm holds no row of patches for a {chosen.title}")
    order = np.arange(len(device))
    if shuffle_seed is not None:
        order = np.random.default_rng(shuffle_seed).permutation(len(device))
    place = np.arange(len(device))
    rows, cols = place // columns + 1, place % columns + 1
    count = int(rows[-1])
    chart = ReadingSet(
        ids=tuple(f"{r}-{c}" for r, c in zip(rows, cols)),
        channels=channels,
        device=np.asarray(device)[order],
        rows=rows.astype(np.int64),
        columns=cols.astype(np.int64),
        sheets=((rows - 1) // per_sheet + 1).astype(np.int64),
        meta={**(meta or {}), "PAGE": f"{size[0]:g}x{size[1]:g}", "METHOD": method},
    )
    return chart, Layout(
        chosen, size, columns, per_sheet, int(chart.sheets[-1]) if chart.sheets is not None else 1, count
    )


def _room(method: Method, page: tuple[float, float]) -> tuple[int, int]:
    """Patches in a row and rows on a sheet that a page has room for."""
    columns = min(int((page[0] - 2 * MARGIN - LABEL) // method.patch_width), method.longest_row)
    usable = page[1] - 2 * MARGIN - HEADER - FOOTER + method.gap
    return columns, int(usable // (method.patch_height + method.gap))


def layout_of(chart: ReadingSet) -> Layout:
    """The layout a laid-out chart was given, from its positions and what its header keeps."""
    if chart.rows is None or chart.columns is None or chart.sheets is None:
        raise BadInput("this chart has no SHEET, ROW and COLUMN fields; lay it out first")
    method = METHODS.get(chart.meta.get("METHOD", "strip"), METHODS["strip"])
    page = parse_page(chart.meta.get("PAGE", "a4"))
    per_sheet = max(_room(method, page)[1], int(chart.rows[chart.sheets == 1].max()))
    return Layout(
        method, page, int(chart.columns.max()), per_sheet, int(chart.sheets.max()), int(chart.rows.max())
    )


def sheet_places(chart: ReadingSet) -> Array:
    """Place of each patch on its sheet (n, 2), -0.5..0.5 across and along; zeros without positions."""
    if chart.rows is None or chart.columns is None:
        return np.zeros((len(chart), 2))
    layout = layout_of(chart) if chart.sheets is not None else None
    per_sheet = layout.rows_per_sheet if layout else int(chart.rows.max())
    across = (chart.columns - 0.5) / max(int(chart.columns.max()), 1) - 0.5
    along = ((chart.rows - 1) % per_sheet + 0.5) / per_sheet - 0.5
    return np.column_stack([across, along])
