"""Sheet layout: patches in rows on sheets, for a way of measuring and a page size."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, as_inks

PAGES = {"a4": (210.0, 297.0), "a3": (297.0, 420.0), "a2": (420.0, 594.0)}


@dataclass(frozen=True)
class Method:
    """How a chart is read; sizes in millimetres, pace in seconds.

    `smallest` is the narrowest patch its aperture can read; `hands` says what a person does.
    """

    name: str
    title: str
    patch_width: float
    patch_height: float
    gap: float
    seconds_per_row: float
    longest_row: int
    smallest: float
    hands: str

    def sized(self, width: float | None) -> Method:
        """The same with patches `width` mm wide, in proportion; `BadInput` when the aperture is too large for
        that.
        """
        if width is None:
            return self
        if not self.smallest <= width <= 40:
            raise BadInput(
                f"patches {width:g} mm wide cannot be read with a {self.title}; use {self.smallest:g} "
                "to 40 mm"
            )
        return replace(
            self, patch_width=width, patch_height=round(width * self.patch_height / self.patch_width, 2)
        )


METHODS = {
    "strip": Method(
        "strip", "hand-held strip reader", 8.0, 10.0, 3.0, 9.0, 40, 7.0, "one row at a time, by hand"
    ),
    "table": Method(
        "table",
        "measuring table",
        6.0,
        6.0,
        0.0,
        22.0,
        80,
        5.0,
        "three corners of each sheet, then it reads alone",
    ),
    "inline": Method(
        "inline",
        "reader inside the printer",
        10.0,
        10.0,
        0.0,
        14.0,
        120,
        8.0,
        "nothing: the media travels back under it",
    ),
}
#: readings of one patch that a coarse-dot chart may ask for
DOTS = (1, 2, 4)
#: decimals of device values (fractions): what CGATS text and PDF hold, and TIFF of 16 bits to 0.001 %
DIGITS = 4
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
    dots: int = 1

    @property
    def minutes(self) -> float:
        """Estimated reading time of one pass, with half a minute to place each sheet."""
        return (self.rows * self.method.seconds_per_row * self.dots + self.sheets * 30.0) / 60.0

    def corners(self, sheet: int = 1) -> Array:
        """Outer corners of a sheet's patches (3, 2), millimetres: top left, top right, bottom left."""
        left, top, width, _ = self.rectangle(0, 0)
        right = left + self.columns * width
        on_sheet = min(self.rows - (sheet - 1) * self.rows_per_sheet, self.rows_per_sheet)
        _, last, _, height = self.rectangle(max(on_sheet, 1) - 1, 0)
        return np.array([[left, top], [right, top], [left, last + height]])

    def rectangle(self, row_on_sheet: int, column: int) -> tuple[float, float, float, float]:
        """Left, top, width and height in millimetres of a patch; row and column count from 0."""
        m = self.method
        left = MARGIN + LABEL + column * m.patch_width
        top = MARGIN + HEADER + row_on_sheet * (m.patch_height + m.gap)
        return left, top, m.patch_width, m.patch_height


def parse_page(text: str) -> tuple[float, float]:
    """``a4``, ``a3``, ``a2`` or ``WxH`` in millimetres; `BadInput` otherwise.

    >>> parse_page("a4"), parse_page("610x1000")
    ((210.0, 297.0), (610.0, 1000.0))
    """
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
    if not (80 <= size[0] <= 3300 and 50 <= size[1] <= 20000):
        raise BadInput(f"a page of {size[0]:g} x {size[1]:g} mm is outside 80..3300 by 50..20000 mm")
    return size


def plan(
    count: int, page: str = "a4", method: str = "strip", patch: float | None = None, dots: int = 1
) -> Layout:
    """Sheets, rows and minutes of `count` patches before anything is laid out.

    Parameters
    ----------
    patch
        Width of a patch in millimetres; the method's usual when None.
    dots
        Readings of each patch, averaged, for grainy output.

    Raises `BadInput` for an unknown method, no patch at all, or a page that holds no row.

    >>> found = plan(500, "a4", "strip")
    >>> found.sheets, found.rows
    (2, 24)
    """
    if method not in METHODS:
        raise BadInput(f"no measuring method {method!r}; use one of {', '.join(METHODS)}")
    if dots not in DOTS:
        raise BadInput(f"{dots} readings a patch are not offered; use {', '.join(map(str, DOTS))}")
    if count < 1:
        raise BadInput("a chart needs at least one patch")
    chosen, size = METHODS[method].sized(patch), parse_page(page)
    room, per_sheet = _room(chosen, size)
    columns = min(room, count)
    if columns < min(4, count) or per_sheet < 1:
        raise BadInput(f"a page of {size[0]:g} x {size[1]:g} mm holds no row of patches for a {chosen.title}")
    rows = -(-count // columns)
    return Layout(chosen, size, columns, per_sheet, -(-rows // per_sheet), rows, dots)


def narrow_page(count: int, method: str, width: float, patch: float | None = None) -> str:
    """The lowest page at most `width` mm wide that holds `count` patches on one sheet, as ``WxH``.

    Raises `BadInput` for an unknown method, and where a row has no room.

    >>> narrow_page(25, "strip", 600.0)
    '238x62'
    """
    if method not in METHODS:
        raise BadInput(f"no measuring method {method!r}; use one of {', '.join(METHODS)}")
    chosen = METHODS[method].sized(patch)
    columns = min(count, chosen.longest_row, int((width - 2 * MARGIN - LABEL) // chosen.patch_width))
    if columns < min(4, count):
        raise BadInput(f"{width:g} mm of media hold no row of patches for a {chosen.title}")
    rows = -(-count // columns)
    columns = -(-count // rows)
    wide = max(2 * MARGIN + LABEL + columns * chosen.patch_width, 80.0)
    high = 2 * MARGIN + HEADER + FOOTER + rows * (chosen.patch_height + chosen.gap) - chosen.gap
    return f"{np.ceil(wide):g}x{np.ceil(max(high, 50.0)):g}"


def lay_out(
    device: Array,
    channels: tuple[str, ...],
    page: str = "a4",
    method: str = "strip",
    shuffle_seed: int | None = None,
    meta: dict[str, str] | None = None,
    patch: float | None = None,
    dots: int = 1,
) -> tuple[ReadingSet, Layout]:
    """Place patches (n, channels) in rows; gives the chart (a `ReadingSet` without readings) and its
    layout.

    With `shuffle_seed` the patches are mixed, so that neighbours differ and unevenness of the
    sheet falls on all colours alike. Ids are ``row-column``, rows counted through all sheets.

    >>> chart, layout = lay_out(np.eye(4), tuple("CMYK"))
    >>> chart.ids, layout.sheets
    (('1-1', '1-2', '1-3', '1-4'), 1)
    """
    layout = plan(len(device), page, method, patch, dots)
    order = np.arange(len(device))
    if shuffle_seed is not None:
        order = _papers_apart(
            np.random.default_rng(shuffle_seed).permutation(len(device)), as_inks(device, channels)
        )
    place = np.arange(len(device))
    rows, cols = place // layout.columns + 1, place % layout.columns + 1
    facts = {"PAGE": f"{layout.page[0]:g}x{layout.page[1]:g}", "METHOD": method}
    if patch is not None:
        facts["PATCH_WIDTH"] = f"{patch:g}"
    if dots > 1:
        facts["READINGS_A_PATCH"] = str(dots)
    chart = ReadingSet(
        ids=tuple(f"{r}-{c}" for r, c in zip(rows, cols)),
        channels=channels,
        device=np.round(np.asarray(device, dtype=float)[order], DIGITS),
        rows=rows.astype(np.int64),
        columns=cols.astype(np.int64),
        sheets=((rows - 1) // layout.rows_per_sheet + 1).astype(np.int64),
        meta={**(meta or {}), **facts},
    )
    return chart, layout


def _papers_apart(order: npt.NDArray[np.int64], inks: Array) -> npt.NDArray[np.int64]:
    """A mixed order in which unprinted patches stand evenly apart, so that every part of a set has its
    own.
    """
    bare = np.asarray(inks)[order].max(axis=1) < 1e-6
    papers = int(bare.sum())
    if papers < 2 or papers > len(order) // 2:
        return order
    wanted = ((np.arange(papers) + 0.5) * len(order) / papers).astype(int)
    out = np.empty_like(order)
    out[wanted] = order[bare]
    rest = np.delete(np.arange(len(order)), wanted)
    out[rest] = order[~bare]
    return out


def lay_out_places(
    device: Array,
    channels: tuple[str, ...],
    page: str = "a4",
    method: str = "strip",
    meta: dict[str, str] | None = None,
) -> tuple[ReadingSet, Layout]:
    """Place the same few patches (n, channels) in nine places of one sheet: three times in its first, middle
    and last row.

    Raises `BadInput` when a row of the page has no room for them.
    """
    layout = plan(len(device), page, method)
    columns, per_sheet = _room(layout.method, layout.page)
    if columns < 3 * len(device) or per_sheet < 3:
        raise BadInput(
            f"a page of {layout.page[0]:g} x {layout.page[1]:g} mm has no room for nine places of "
            f"{len(device)} patches"
        )
    rows = np.repeat([1, (per_sheet + 1) // 2, per_sheet], 3 * len(device)).astype(np.int64)
    cols = np.tile(np.arange(1, 3 * len(device) + 1), 3).astype(np.int64)
    chart = ReadingSet(
        ids=tuple(f"{r}-{c}" for r, c in zip(rows, cols)),
        channels=channels,
        device=np.tile(np.asarray(device), (9, 1)),
        rows=rows,
        columns=cols,
        sheets=np.ones(len(rows), dtype=np.int64),
        meta={**(meta or {}), "PAGE": f"{layout.page[0]:g}x{layout.page[1]:g}", "METHOD": method},
    )
    return chart, layout_of(chart)


def _room(method: Method, page: tuple[float, float]) -> tuple[int, int]:
    """Patches in a row and rows on a sheet that a page has room for."""
    columns = min(int((page[0] - 2 * MARGIN - LABEL) // method.patch_width), method.longest_row)
    usable = page[1] - 2 * MARGIN - HEADER - FOOTER + method.gap
    return columns, int(usable // (method.patch_height + method.gap))


def layout_of(chart: ReadingSet) -> Layout:
    """The layout a laid-out chart was given, from its positions and what its header keeps.

    Raises `BadInput` for a chart that was never laid out.
    """
    if chart.rows is None or chart.columns is None or chart.sheets is None:
        raise BadInput("this chart has no SHEET, ROW and COLUMN fields; lay it out first")
    method = METHODS.get(chart.meta.get("METHOD", "strip"), METHODS["strip"])
    width, dots = chart.meta.get("PATCH_WIDTH"), chart.meta.get("READINGS_A_PATCH", "1")
    method = method.sized(float(width)) if width else method
    page = parse_page(chart.meta.get("PAGE", "a4"))
    per_sheet = max(_room(method, page)[1], int(chart.rows[chart.sheets == 1].max()))
    return Layout(
        method,
        page,
        int(chart.columns.max()),
        per_sheet,
        int(chart.sheets.max()),
        int(chart.rows.max()),
        int(dots) if dots.isdecimal() else 1,
    )


def check_corners(layout: Layout, seen: npt.ArrayLike, sheet: int = 1) -> None:
    """Refuse three corner points (3, 2) mm that cannot be those of a sheet of `layout`, wherever it lies.

    Held to are the lengths of the two edges, the right angle between them and its sense. Allowed is a
    third of a patch: more, and the edge of a patch would be read.

    Raises `BadInput` with what is wrong and which corners to set again.
    """
    points, wanted = np.asarray(seen, dtype=float), layout.corners(sheet)
    across, down = points[1] - points[0], points[2] - points[0]
    width, height = wanted[1, 0] - wanted[0, 0], wanted[2, 1] - wanted[0, 1]
    slack = min(layout.method.patch_width, layout.method.patch_height) / 3.0
    sizes = float(np.hypot(*across)), float(np.hypot(*down))
    if abs(sizes[0] - width) > slack or abs(sizes[1] - height) > slack:
        raise BadInput(
            f"the corners span {sizes[0]:.1f} x {sizes[1]:.1f} mm, the sheet has {width:.1f} x {height:.1f}: "
            "set them again, top left, top right, bottom left"
        )
    if across[0] * down[1] - across[1] * down[0] < 0:
        raise BadInput("the corners were set the wrong way round: top left, top right, bottom left")
    lean = float(across @ down) / (sizes[0] * sizes[1])
    if abs(lean) * sizes[1] > slack:
        raise BadInput(
            f"the corners are {abs(lean) * 57.3:.1f} degrees off the square: set them again on the outer "
            "corners"
        )


def check_travel(method: str, media: str, travels_backwards: bool, readable: bool = True) -> None:
    """Refuse a way of measuring that a media cannot have; the message says which way is left. Raises
    `BadInput`.
    """
    if not readable:
        raise BadInput(f"no instrument reads {media}: limit and linearize it by eye")
    if method == "inline" and not travels_backwards:
        raise BadInput(
            f"{media} cannot travel backwards, so the reader inside the printer cannot reach the chart: "
            "use the hand-held strip reader or the measuring table"
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
