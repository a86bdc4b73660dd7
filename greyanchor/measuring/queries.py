"""What pages ask of prints and readings."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
from django.utils import timezone

from greyanchor.core.charts.layout import METHODS, layout_of
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.measurement.readings import lab_of
from greyanchor.core.measurement.repeatability import Comparison
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.patches import strip_css
from greyanchor.measuring.expectations import expected_lab
from greyanchor.measuring.models import Chart, ReadingPass, SheetPrint
from greyanchor.measuring.printing import instrument_of
from greyanchor.measuring.services import first_pass_of, method_of
from greyanchor.measuring.suspicions import compared

#: shown as the time left of an instrument that needs no white calibration, minutes
NO_CALIBRATION = 9999.0


@dataclass(frozen=True)
class PatchView:
    """A patch on the reading page: what is expected as disc, what was read as cell, dE00 once read."""

    name: str
    aim: str
    seen: str | None
    difference: float | None


@dataclass(frozen=True)
class RowView:
    """The row in hand, patch by patch."""

    number: int
    sheet: int
    patches: list[PatchView]
    read: bool
    mean: float | None


@dataclass(frozen=True)
class RowLine:
    """A row in the list of all rows: its colours as one background once it was read."""

    number: int
    sheet: int
    background: str
    mean: float | None
    state: str


def reading_view(
    current: ReadingPass, wanted: int | None = None, last: int | None = None, lines: str = "all"
) -> dict[str, Any]:
    """What the reading page shows, with the row to read next.

    `lines` is ``all`` for the whole list of rows, or ``last`` for the one that changed.
    """
    job = current.sheet_print
    chart = job.chart.patches
    assert chart.rows is not None and chart.sheets is not None
    numbers = [int(r) for r in np.unique(chart.rows)]
    kept = set(current.rows.values_list("row", flat=True))
    first = first_pass_of(job)
    expected, first_pass = expected_lab(job, first), first is not None
    unread = [r for r in numbers if r not in kept]
    fresh = [r for r in unread if r not in current.skipped]
    number = wanted if wanted in numbers else next(iter(fresh or unread), None)
    shown = numbers if lines == "all" else [r for r in (last,) if r is not None]
    sheet = int(chart.sheets[chart.rows == number][0]) if number else 1
    return {
        "rows": _lines(current, shown, kept, expected, first_pass),
        "total": len(numbers),
        "current": _row_view(current, number, expected) if number else None,
        "last": _row_view(current, last, expected) if last in kept else None,
        "left": len(unread),
        "done": len(numbers) - len(unread),
        "skipped": [r for r in current.skipped if r in unread],
        "white_minutes": (left := white_minutes_left(current)),
        "white_due": not left,
        "white_until": None if not left else timezone.now() + timedelta(minutes=left),
        "first_pass": first_pass,
        "method": METHODS[method_of(job)],
        "sheet": sheet,
        "sheets": int(chart.sheets.max()),
        "corners": sum(1 for c in current.corners if c[2] == sheet),
    }


def _lines(
    current: ReadingPass, numbers: list[int], kept: set[int], expected: Any, first_pass: bool
) -> list[RowLine]:
    chart = current.sheet_print.chart.patches
    assert chart.rows is not None and chart.sheets is not None
    stored = {r.row: r.values() for r in current.rows.filter(row__in=numbers)} if kept else {}
    out = []
    for number in numbers:
        members = chart.rows == number
        sheet = int(chart.sheets[members][0])
        if number not in stored:
            state = "skipped" if number in current.skipped else "not read"
            out.append(RowLine(number, sheet, "#8a8a8a", None, state))
            continue
        lab = lab_of(stored[number])
        mean = float(delta_e_2000(expected[members], lab).mean()) if first_pass else None
        out.append(RowLine(number, sheet, strip_css(hex_colours(lab)), mean, "kept"))
    return out


def _row_view(current: ReadingPass, number: int | None, expected: Any) -> RowView:
    chart = current.sheet_print.chart.patches
    assert chart.rows is not None and chart.sheets is not None
    members = np.flatnonzero(chart.rows == number)
    names, sheet = [chart.ids[i] for i in members], int(chart.sheets[members[0]])
    aims = hex_colours(expected[members])
    stored = current.rows.filter(row=number).first()
    if stored is None or number is None:
        views = [PatchView(n, a, None, None) for n, a in zip(names, aims)]
        return RowView(number or 0, sheet, views, False, None)
    lab = lab_of(stored.values())
    difference = delta_e_2000(expected[members], lab)
    views = [PatchView(n, a, s, float(d)) for n, a, s, d in zip(names, aims, hex_colours(lab), difference)]
    return RowView(number, sheet, views, True, float(difference.mean()))


def white_minutes_left(current: ReadingPass) -> int | None:
    """Whole minutes for which the white calibration still holds; None when there is none."""
    if current.white_at is None:
        return None
    instrument = instrument_of(current.sheet_print, method_of(current.sheet_print))
    holds = instrument.white_minutes if instrument else None
    used = (timezone.now() - current.white_at).total_seconds() / 60.0
    return max(0, int((holds if holds is not None else NO_CALIBRATION) - used))


def double_reading(job: SheetPrint) -> Comparison | None:
    """All complete passes held against one another; None when there are fewer than two."""
    return compared(job, list(job.passes.filter(state=ReadingPass.State.DONE).defer("text")))


def early_passes(job: SheetPrint) -> list[ReadingPass]:
    """Complete passes that were begun before the sheet was dry."""
    return list(job.passes.filter(state=ReadingPass.State.DONE, early_minutes__gt=0.5).defer("text"))


def chart_facts(chart: Chart) -> dict[str, Any]:
    """Patches, rows, sheets and minutes of a chart, and how it is read."""
    layout = layout_of(chart.patches)
    return {
        "patches": len(chart.patches),
        "rows": layout.rows,
        "sheets": layout.sheets,
        "minutes": layout.minutes,
        "page": f"{layout.page[0]:g} x {layout.page[1]:g} mm",
        "method": layout.method.title,
        "hands": layout.method.hands,
        "patch": f"{layout.method.patch_width:g} x {layout.method.patch_height:g} mm",
        "dots": layout.dots,
    }
