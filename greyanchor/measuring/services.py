"""What changes readings: rows as they come from the instrument, whole passes, files."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.charts.layout import check_corners, layout_of
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.measurement.misreads import impossible
from greyanchor.core.measurement.readings import (
    CONDITIONS,
    TRANSMISSION,
    ReadingSet,
    lab_of,
    with_values,
)
from greyanchor.core.measurement.repeatability import average
from greyanchor.devices.ports import RowInstrumentPort, SheetInstrumentPort
from greyanchor.measuring.cache import remembered
from greyanchor.measuring.evidence import check_open
from greyanchor.measuring.judging import ALIKE, refusal_of_row, refusal_of_sheet
from greyanchor.measuring.models import ReadingPass, ReadingRow, SheetPrint, written
from greyanchor.measuring.printing import instrument_of, printed_chart
from greyanchor.measuring.suspicions import announce


@needs(USE)
@transaction.atomic
def start_pass(job: SheetPrint, user: User | None, condition: str = "") -> ReadingPass:
    """Begin the next pass over a print, or go on with the one that is open.

    All passes of a print are read under one condition. A sheet that is still wet can be read; how early
    is kept with the pass.
    """
    instrument = instrument_of(job, method_of(job))
    if not job.device:
        raise BadInput("this chart is not printed: print it first, or upload readings of it")
    if instrument is None:
        raise BadInput(
            "no instrument here reads this print: upload readings of it, or connect one under Devices"
        )
    job = SheetPrint.objects.select_for_update().get(pk=job.pk)
    unfinished = job.passes.filter(state=ReadingPass.State.OPEN).first()
    if unfinished:
        return unfinished
    check_open(job)
    earlier = job.passes.order_by("-number").first()
    wanted = condition or (earlier.condition if earlier else "M1")
    if job.is_film:
        wanted = TRANSMISSION
    elif wanted not in CONDITIONS:
        raise BadInput(f"no measurement condition {wanted}; use one of {', '.join(CONDITIONS)}")
    if earlier is not None and earlier.condition != wanted:
        raise BadInput(
            f"pass {earlier.number} was read as {earlier.condition}; read this one alike, or print the "
            "chart again"
        )
    return ReadingPass.objects.create(
        sheet_print=job,
        number=earlier.number + 1 if earlier else 1,
        source=instrument.name[:200],
        condition=wanted,
        early_minutes=round(job.minutes_to_dry, 1),
        started_by=user,
    )


def method_of(job: SheetPrint) -> str:
    """The measuring method that the chart was laid out for."""
    return layout_of(job.chart.patches).method.name


def calibrate_white(pk: int) -> None:
    """The instrument has seen its white tile now."""
    ReadingPass.objects.filter(pk=pk).update(white_at=timezone.now())


@dataclass(frozen=True)
class Outcome:
    """What became of a row or a sheet: kept, or refused with what to do with the hands."""

    row: int
    kept: bool
    message: str


def read_row(pk: int, row: int) -> Outcome:
    """Read one row by hand; it is saved at once, unless it looks misread.

    A row that was read before is replaced. Raises `BadInput` for a row that the chart does not have
    or a pass that is complete.
    """
    with transaction.atomic():
        current = _open_pass(pk)
        job = current.sheet_print
        rows = _rows(job)
        if row not in rows:
            raise BadInput(f"the chart has no row {row}; it ends with row {rows[-1]}")
        if method_of(job) != "strip":
            raise BadInput("this chart is laid out for a reader that takes whole sheets")
        attempt = _next_attempt(current, str(row))
        reader, sheet = _instrument(current), printed_chart(job, current.condition)
        if not isinstance(reader, RowInstrumentPort):
            raise BadInput(f"{reader.name} reads no single rows")
        try:
            spectra = reader.read_row(sheet, row, current.number, attempt, _minutes_since_white(current))
        except NotReadable as error:
            return Outcome(row, False, error.sentence)
        first = first_pass_of(job)
        refusal = impossible(spectra) or refusal_of_row(current, row, lab_of(spectra), first)
        if refusal:
            return Outcome(row, False, f"Row {row} was not kept{_try(attempt)}: {refusal}.")
        marked = current.marks.get(str(row))
        _keep_row(current, row, spectra)
        finished = _finish_when_complete(current, len(rows))
    if finished:
        announce(current)
        return Outcome(row, True, "Every row is read. The pass is complete.")
    if marked:
        return Outcome(row, True, f"Row {row} read alike twice and is kept with a mark: {marked}.")
    return Outcome(row, True, f"Row {row} is kept.")


def _try(attempt: int) -> str:
    """Which try this was, from the second on, so that the same refusal twice is seen to be another one."""
    return f", try {attempt + 1}" if attempt else ""


def set_corner(pk: int, sheet: int) -> Outcome:
    """Take the next of the three corner points of a sheet; the third is held to the other two."""
    with transaction.atomic():
        current = _open_pass(pk)
        layout = layout_of(current.sheet_print.chart.patches)
        reader = _sheet_instrument(current)
        set_before = current.corners if current.corners and current.corners[0][2] == sheet else []
        which = len(set_before) % 3
        attempt = _next_attempt(current, f"corner {sheet} {which}")
        point = reader.corner(printed_chart(current.sheet_print), which, sheet, current.number, attempt)
        current.corners = [*(set_before if which else []), [float(point[0]), float(point[1]), sheet]]
        names = ("top left", "top right", "bottom left")
        message, kept = f"The {names[which]} corner of sheet {sheet} is set.", True
        if len(current.corners) == 3:
            try:
                check_corners(layout, [c[:2] for c in current.corners], sheet)
                message = f"Sheet {sheet} of {layout.sheets} is in place. Start the reading."
            except BadInput as error:
                current.corners, message, kept = [], error.sentence, False
        current.save(update_fields=["corners"])
    return Outcome(sheet, kept, message)


def read_sheet(pk: int, sheet: int) -> Outcome:
    """Read a whole sheet on the table or inside the printer; its rows are saved together."""
    with transaction.atomic():
        current = _open_pass(pk)
        job = current.sheet_print
        chart, method = job.chart.patches, method_of(job)
        assert chart.rows is not None and chart.sheets is not None
        if sheet not in chart.sheets:
            raise BadInput(f"the chart has no sheet {sheet}; it has {int(chart.sheets.max())}")
        if method == "strip":
            raise BadInput("this chart is laid out for the hand-held reader; read it row by row")
        placed = [c for c in current.corners if c[2] == sheet]
        reader = _sheet_instrument(current)
        if reader.needs_corners and len(placed) < 3:
            return Outcome(sheet, False, f"Set the three corners of sheet {sheet} first.")
        attempt, printed = _next_attempt(current, f"sheet {sheet}"), printed_chart(job, current.condition)
        try:
            spectra = reader.read_sheet(
                printed, sheet, current.number, attempt, _minutes_since_white(current)
            )
        except NotReadable as error:
            return Outcome(sheet, False, error.sentence.replace("read the row", "read the sheet"))
        first = first_pass_of(job)
        lab = lab_of(spectra)
        refusal = impossible(spectra) or _refusal_of_sheet(current, sheet, lab, first)
        if refusal:
            return Outcome(sheet, False, f"Sheet {sheet} was not kept{_try(attempt)}: {refusal}.")
        members = np.flatnonzero(chart.sheets == sheet)
        for row in np.unique(chart.rows[members]):
            _keep_row(current, int(row), spectra[chart.rows[members] == row])
        current.corners = []
        current.save(update_fields=["corners"])
        finished = _finish_when_complete(current, len(_rows(job)))
    if finished:
        announce(current)
        return Outcome(sheet, True, "Every sheet is read. The pass is complete.")
    return Outcome(sheet, True, f"Sheet {sheet} is kept. Put the next one in place.")


def _refusal_of_sheet(current: ReadingPass, sheet: int, lab: Array, first: ReadingPass | None) -> str:
    """Why a sheet is not kept, or nothing: one that is refused for single rows is kept with a mark once it
    was read alike twice; another sheet never is.
    """
    reason = refusal_of_sheet(current.sheet_print, sheet, lab, first)
    key = f"refused sheet {sheet}"
    before = current.attempts.get(key)
    if not reason:
        return ""
    alike = before is not None and len(before) == len(lab) and reason.startswith("row ")
    if alike and np.median(delta_e_2000(np.array(before), lab)) < ALIKE:
        chart = current.sheet_print.chart.patches
        assert chart.rows is not None
        for row in np.unique(chart.rows[chart.sheets == sheet]):
            current.marks[str(int(row))] = reason[:300]
        current.save(update_fields=["marks"])
        return ""
    current.attempts[key] = np.round(lab, 3).tolist()
    current.save(update_fields=["attempts"])
    return reason


def skip_row(pk: int, row: int) -> None:
    """Leave a row for later: the next unread row comes up instead, until no other is left."""
    with transaction.atomic():
        current = _open_pass(pk)
        if row not in _rows(current.sheet_print):
            raise BadInput(f"the chart has no row {row}")
        current.skipped = [*[r for r in current.skipped if r != row], row]
        current.save(update_fields=["skipped"])


def _instrument(current: ReadingPass) -> RowInstrumentPort | SheetInstrumentPort:
    found = instrument_of(current.sheet_print, method_of(current.sheet_print))
    if found is None:
        raise BadInput("no instrument here reads this print any more: upload readings of it")
    return found


def _sheet_instrument(current: ReadingPass) -> SheetInstrumentPort:
    found = _instrument(current)
    if not isinstance(found, SheetInstrumentPort):
        raise BadInput(f"{found.name} reads no whole sheets")
    return found


def _next_attempt(current: ReadingPass, key: str) -> int:
    attempt = int(current.attempts.get(key, 0))
    current.attempts[key] = attempt + 1
    current.save(update_fields=["attempts"])
    return attempt


def _minutes_since_white(current: ReadingPass) -> float | None:
    if current.white_at is None:
        return None
    return (timezone.now() - current.white_at).total_seconds() / 60.0


def _rows(job: SheetPrint) -> list[int]:
    rows = job.chart.patches.rows
    assert rows is not None
    return [int(r) for r in np.unique(rows)]


def _keep_row(current: ReadingPass, row: int, spectra: Array) -> None:
    ReadingRow.objects.bulk_create(
        [ReadingRow(reading_pass=current, row=row, spectra=np.round(spectra, 6).tolist())],
        update_conflicts=True,
        unique_fields=["reading_pass", "row"],
        update_fields=["spectra", "read_at"],
    )
    if row in current.skipped:
        current.skipped = [r for r in current.skipped if r != row]
        current.save(update_fields=["skipped"])


def _finish_when_complete(current: ReadingPass, wanted: int) -> bool:
    if current.rows.count() < wanted:
        return False
    _finish(current)
    return True


def undo_row(pk: int) -> int | None:
    """Take back the row that was read last; gives its number, or None when nothing was read."""
    with transaction.atomic():
        current = _open_pass(pk)
        last = current.rows.order_by("-read_at", "-pk").first()
        if last is None:
            return None
        last.delete()
        return int(last.row)


def light_passes() -> QuerySet[ReadingPass]:
    """Passes with print and chart, without the columns that are large and that memory has anyway."""
    return ReadingPass.objects.select_related("sheet_print__chart", "sheet_print__printer").defer(
        "text", "sheet_print__sent", "sheet_print__chart__text"
    )


def _open_pass(pk: int) -> ReadingPass:
    current = light_passes().select_for_update(of=("self",)).get(pk=pk)
    if current.state == ReadingPass.State.DONE:
        raise BadInput("this pass is complete; start another to read the sheet again")
    return current


def first_pass_of(job: SheetPrint) -> ReadingPass | None:
    """The first complete pass over a print, which later ones are held to."""
    return job.passes.filter(state=ReadingPass.State.DONE).defer("text").first()


def _finish(current: ReadingPass) -> None:
    chart = current.sheet_print.chart.patches
    spectra = np.vstack([r.values() for r in current.rows.order_by("row")])
    _keep(current, with_values(chart, spectra, current.condition))


def _keep(current: ReadingPass, readings: ReadingSet) -> None:
    meta = {**readings.meta, "INSTRUMENTATION": current.source}
    current.content_hash = readings.content_hash()
    current.text = written(replace(readings, meta=meta))
    current.state, current.finished_at = ReadingPass.State.DONE, timezone.now()
    current.save()


def keep_whole_pass(job: SheetPrint, readings: ReadingSet, source: str, user: User | None) -> ReadingPass:
    """Store a whole pass at once, from a file or from demo data; an open pass stays as it is."""
    with transaction.atomic():
        job = SheetPrint.objects.select_for_update(of=("self",)).select_related("chart").get(pk=job.pk)
        check_open(job)
        same = job.passes.filter(content_hash=readings.content_hash()).first()
        if same is not None:
            raise BadInput(
                f"these readings are pass {same.number} already; read the sheet again for a second pass"
            )
        number = (job.passes.order_by("-number").values_list("number", flat=True).first() or 0) + 1
        current = ReadingPass(
            sheet_print=job, number=number, source=source[:200], started_by=user, condition=readings.condition
        )
        current.save()
        _keep(current, readings)
    announce(current)
    return current


def averaged(job: SheetPrint) -> ReadingSet:
    """The mean of all complete passes over a print."""
    done = complete_passes(job)
    key = ("mean", *((p.pk, p.finished_at) for p in done))
    return remembered(key, lambda: average([p.readings for p in done]))  # type: ignore[no-any-return]


def passes_of(job: SheetPrint) -> list[ReadingSet]:
    """All complete passes over a print."""
    return [p.readings for p in complete_passes(job)]


def complete_passes(job: SheetPrint) -> list[ReadingPass]:
    """The passes over a print that are done, in their order."""
    return list(job.passes.filter(state=ReadingPass.State.DONE).defer("text"))
