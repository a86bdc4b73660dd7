"""What pages ask of prints and readings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from django.utils import timezone

from greyanchor.core.agreement import Comparison
from greyanchor.core.charts.layout import layout_of
from greyanchor.core.colorimetry import delta_e_2000, spectra_to_lab
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.drawing.colours import hex_colours
from greyanchor.measuring.models import Chart, ReadingPass, SheetPrint
from greyanchor.measuring.services import expected_lab


@dataclass(frozen=True)
class PatchView:
    """A patch on the reading page: what is expected as disc, what was read as cell, dE00 once read."""

    name: str
    aim: str
    seen: str | None
    difference: float | None


@dataclass(frozen=True)
class RowView:
    """A row on the reading page."""

    number: int
    sheet: int
    patches: list[PatchView]
    read: bool
    mean: float | None


def reading_view(current: ReadingPass, wanted: int | None = None) -> dict[str, Any]:
    """Everything the reading page shows, with the row to read next."""
    job = current.sheet_print
    chart = job.chart.patches
    assert chart.rows is not None and chart.sheets is not None
    expected = expected_lab(job)
    aim_colours = hex_colours(expected)
    kept = {r.row: r.values() for r in current.rows.all()}
    rows = []
    for number in np.unique(chart.rows):
        members = np.flatnonzero(chart.rows == number)
        spectra = kept.get(int(number))
        rows.append(_row(int(number), int(chart.sheets[members[0]]), [chart.ids[i] for i in members], expected[members],
                         [aim_colours[i] for i in members], spectra))  # fmt: skip
    unread = [r.number for r in rows if not r.read]
    number = wanted if wanted in {r.number for r in rows} else (unread[0] if unread else None)
    return {
        "rows": rows,
        "current": next((r for r in rows if r.number == number), None),
        "left": len(unread),
        "done": len(rows) - len(unread),
        "white_minutes": white_minutes_left(current),
        "first_pass": job.passes.filter(state=ReadingPass.State.DONE).exists(),
    }


def _row(number: int, sheet: int, names: list[str], expected: Any, aims: list[str], spectra: Any) -> RowView:
    if spectra is None:
        return RowView(number, sheet, [PatchView(n, a, None, None) for n, a in zip(names, aims)], False, None)
    lab = spectra_to_lab(spectra)
    difference = delta_e_2000(expected, lab)
    views = [PatchView(n, a, s, float(d)) for n, a, s, d in zip(names, aims, hex_colours(lab), difference)]
    return RowView(number, sheet, views, True, float(difference.mean()))


def white_minutes_left(current: ReadingPass) -> int | None:
    """Whole minutes for which the white calibration still holds; None when there is none."""
    if current.white_at is None:
        return None
    used = (timezone.now() - current.white_at).total_seconds() / 60.0
    return max(0, int(StripReader().calibration_minutes - used))


def double_reading(job: SheetPrint) -> Comparison | None:
    """The first two complete passes held against each other, or None."""
    done = list(job.passes.filter(state=ReadingPass.State.DONE)[:2])
    return compare(done[0].readings, done[1].readings) if len(done) == 2 else None


def chart_facts(chart: Chart) -> dict[str, Any]:
    """Patches, rows, sheets and minutes of a chart."""
    layout = layout_of(chart.patches)
    return {
        "patches": len(chart.patches),
        "rows": layout.rows,
        "sheets": layout.sheets,
        "minutes": layout.minutes,
        "page": f"{layout.page[0]:g} x {layout.page[1]:g} mm",
    }
