"""What changes readings: rows as they come from the instrument, whole passes, files."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.core.charts.layout import check_corners, layout_of
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.measurement.misreads import (
    Surroundings,
    adapted,
    impossible,
    judge_row,
    judge_sheet,
    looks_right,
)
from greyanchor.core.measurement.readings import CONDITIONS, ReadingSet
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.verification.northlight import aim_lab
from greyanchor.devices.ports import RowInstrumentPort, SheetInstrumentPort
from greyanchor.measuring.cache import remembered
from greyanchor.measuring.models import ReadingPass, ReadingRow, SheetPrint, pass_finished, written
from greyanchor.measuring.printing import instrument_of, printed_chart


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
    earlier = job.passes.order_by("-number").first()
    wanted = condition or (earlier.condition if earlier else "M1")
    if wanted not in CONDITIONS:
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
        refusal = impossible(spectra) or _refusal(current, row, spectra_to_lab(spectra))
        if refusal:
            return Outcome(row, False, f"Row {row} was not kept: {refusal}.")
        _keep_row(current, row, spectra)
        finished = _finish_when_complete(current, len(rows))
    if finished:
        pass_finished.send(ReadingPass, reading_pass=current)
        return Outcome(row, True, "Every row is read. The pass is complete.")
    return Outcome(row, True, f"Row {row} is kept.")


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
        refusal = impossible(spectra) or judge_sheet(
            chart, expected_lab(job, first), spectra_to_lab(spectra), sheet, first is None
        )
        if refusal:
            return Outcome(sheet, False, f"Sheet {sheet} was not kept: {refusal}.")
        members = np.flatnonzero(chart.sheets == sheet)
        for row in np.unique(chart.rows[members]):
            _keep_row(current, int(row), spectra[chart.rows[members] == row])
        current.corners = []
        current.save(update_fields=["corners"])
        finished = _finish_when_complete(current, len(_rows(job)))
    if finished:
        pass_finished.send(ReadingPass, reading_pass=current)
        return Outcome(sheet, True, "Every sheet is read. The pass is complete.")
    return Outcome(sheet, True, f"Sheet {sheet} is kept. Put the next one in place.")


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


def _refusal(current: ReadingPass, row: int, lab: Array) -> str:
    """Why a row is not kept, or nothing.

    An earlier pass may itself be the wrong one: a row that is refused twice alike against it is kept,
    and the comparison of the passes then says that the row differs.
    """
    job = current.sheet_print
    chart = job.chart.patches
    assert chart.rows is not None
    first = first_pass_of(job)
    expected, rough = expected_lab(job, first), first is None
    if looks_right(expected[chart.rows == row], lab, rough):
        return ""
    if rough:
        expected = _bent_by_rows(current, expected)
    around = Surroundings.of(chart, expected)
    verdict = judge_row(around.rows[row], lab, rough, around, row)
    if verdict.ok:
        return ""
    before = current.attempts.get(f"refused {row}")
    alike = (
        before is not None
        and len(before) == len(lab)
        and np.median(delta_e_2000(np.array(before), lab)) < 0.8
    )
    if alike and first is not None:
        return ""
    current.attempts[f"refused {row}"] = np.round(lab, 3).tolist()
    current.save(update_fields=["attempts"])
    return verdict.reason


def _bent_by_rows(current: ReadingPass, expected: Array) -> Array:
    """The rough expectation, bent toward the eight rows that were read last; fewer say too little."""
    chart = current.sheet_print.chart.patches
    kept = list(current.rows.order_by("-read_at")[:8])
    if len(kept) < 8:
        return expected
    seen = np.vstack([spectra_to_lab(r.values()) for r in kept])
    found = np.vstack([expected[chart.rows == r.row] for r in kept])
    return adapted(expected, found, seen) if len(found) == len(seen) else expected


@needs(USE)
def reopen_rows(pk: int, rows: list[int]) -> ReadingPass:
    """Take some rows out of a complete pass so that they are read again; the others stay."""
    with transaction.atomic():
        current = ReadingPass.objects.select_for_update().select_related("sheet_print").get(pk=pk)
        present = set(current.rows.values_list("row", flat=True))
        if not present:
            raise BadInput("this pass came as a file; upload it again instead")
        if not rows or not set(rows) <= present:
            raise BadInput(f"rows {', '.join(map(str, rows)) or '(none)'} are not in this pass")
        if current.sheet_print.passes.filter(state=ReadingPass.State.OPEN).exclude(pk=pk).exists():
            raise BadInput("another pass over this sheet is open; finish it first")
        current.rows.filter(row__in=rows).delete()
        current.state, current.finished_at, current.text = ReadingPass.State.OPEN, None, ""
        current.attempts = {k: v for k, v in current.attempts.items() if not k.startswith("refused")}
        current.save()
    return current


def undo_row(pk: int) -> int | None:
    """Take back the row that was read last; gives its number, or None when nothing was read."""
    with transaction.atomic():
        current = _open_pass(pk)
        last = current.rows.order_by("-read_at", "-pk").first()
        if last is None:
            return None
        last.delete()
        return int(last.row)


@needs(MAKE)
def drop_pass(pk: int) -> SheetPrint:
    """Set a pass aside for good: it takes no part in averages any more. The last one stays."""
    with transaction.atomic():
        current = ReadingPass.objects.select_for_update().select_related("sheet_print").get(pk=pk)
        job = current.sheet_print
        if job.passes.filter(state=ReadingPass.State.DONE).exclude(pk=pk).count() < 1:
            raise BadInput("this is the only complete pass; read another before you leave it out")
        current.delete()
        other = job.passes.filter(state=ReadingPass.State.DONE).first()
    pass_finished.send(ReadingPass, reading_pass=other)
    return job


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


def expected_lab(job: SheetPrint, first: ReadingPass | None = None) -> Array:
    """What the chart (n, 3) is about to measure: the `first` pass where there is one, else a rough model."""
    if first is not None:
        return first.lab()
    return remembered(("rough", job.pk, job.chart_id, job.chart.created_at), lambda: _rough_lab(job))


def _rough_lab(job: SheetPrint) -> Array:
    sent = job.raw_chart.values()
    parents = sent[:, :4].copy()
    for light, channel in zip(sent[:, 4:].T, job.sent_channels[4:]):
        parents[:, "CMYK".index(channel[-1])] += 0.35 * light
    return aim_lab(np.clip(parents, 0.0, 1.0))


def _finish(current: ReadingPass) -> None:
    chart = current.sheet_print.chart.patches
    spectra = np.vstack([r.values() for r in current.rows.order_by("row")])
    _keep(current, replace(chart, spectra=spectra, condition=current.condition))


def _keep(current: ReadingPass, readings: ReadingSet) -> None:
    meta = {**readings.meta, "INSTRUMENTATION": current.source}
    current.text = written(replace(readings, meta=meta))
    current.state, current.finished_at = ReadingPass.State.DONE, timezone.now()
    current.save()


def keep_whole_pass(job: SheetPrint, readings: ReadingSet, source: str, user: User | None) -> ReadingPass:
    """Store a whole pass at once, from a file or from demo data; an open pass stays as it is."""
    with transaction.atomic():
        number = (job.passes.order_by("-number").values_list("number", flat=True).first() or 0) + 1
        current = ReadingPass(
            sheet_print=job, number=number, source=source[:200], started_by=user, condition=readings.condition
        )
        current.save()
        _keep(current, readings)
    pass_finished.send(ReadingPass, reading_pass=current)
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
