"""What changes charts, prints and readings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.utils import timezone

from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.environment import PrintEnvironment
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.formats import cgats
from greyanchor.core.readings import ReadingSet, match_chart
from greyanchor.core.verification.northlight import aim_lab
from greyanchor.devices.standin import StandInPrinter, StandInReader
from greyanchor.measuring.models import Chart, ReadingPass, ReadingRow, SheetPrint, pass_finished

CHARTS_LAID_OUT_MIXED = ("profile", "total-ink", "grey")


@transaction.atomic
def make_chart(
    purpose: str, device: Array, title: str, environment: PrintEnvironment, page: str = "a4"
) -> Chart:
    """Lay out and keep a CMYK chart."""
    shuffle = 3 if purpose in CHARTS_LAID_OUT_MIXED else None
    meta = {"DESCRIPTOR": title, "PRINT_CONDITIONS": environment.label()}
    chart, _ = lay_out(device, tuple("CMYK"), page, "strip", shuffle, meta)
    return Chart.objects.create(
        purpose=purpose, title=title, text=cgats.dumps(chart), content_hash=chart.content_hash()
    )


@transaction.atomic
def prepare_print(
    chart: Chart,
    environment: PrintEnvironment,
    pipeline: Callable[[Array], Array] | None = None,
    origin: str = "",
) -> SheetPrint:
    """Settle the raw values that a chart is printed with; nothing is on paper yet."""
    raw = chart.patches.values() if pipeline is None else pipeline(chart.patches.values())
    return SheetPrint.objects.create(
        chart=chart,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        sent=[[round(float(v), 6) for v in row] for row in raw],
        origin=origin,
    )


@transaction.atomic
def print_on_standin(pk: int, user: AbstractBaseUser | None) -> SheetPrint:
    """Print on the stand-in printer; a second press of the button changes nothing."""
    job = SheetPrint.objects.select_for_update().select_related("chart").get(pk=pk)
    if job.device:
        return job
    environment = job.print_environment
    ticket = StandInPrinter().print_chart(job.raw_chart, environment, _print_number(job.chart, environment))
    job.device, job.ticket = StandInPrinter.name, ticket.facts
    job.printed_at, job.printed_by = timezone.now(), user
    job.save()
    return job


def _print_number(chart: Chart, environment: PrintEnvironment) -> int:
    """A number for the sheet that does not depend on database keys, so that demo data are the same everywhere."""
    earlier = SheetPrint.objects.filter(chart=chart).exclude(device="").count()
    return int(environment.content_hash()[:6] + chart.content_hash[:4], 16) % 9_000_000 + 100 * earlier


@transaction.atomic
def start_pass(job: SheetPrint, user: AbstractBaseUser | None) -> ReadingPass:
    """Begin the next pass over a print, or go on with the one that is open."""
    if not job.ticket:
        raise BadInput(
            "this chart is not on the stand-in printer's paper: print it first, or upload readings as CGATS text"
        )
    job = SheetPrint.objects.select_for_update().get(pk=job.pk)
    unfinished = job.passes.filter(state=ReadingPass.State.OPEN).first()
    if unfinished:
        return unfinished
    number = (job.passes.order_by("-number").values_list("number", flat=True).first() or 0) + 1
    return ReadingPass.objects.create(
        sheet_print=job, number=number, source=StandInReader.name, started_by=user
    )


def calibrate_white(pk: int) -> None:
    """The instrument has seen its white tile now."""
    ReadingPass.objects.filter(pk=pk).update(white_at=timezone.now())


@dataclass(frozen=True)
class RowOutcome:
    """What became of a row: kept, or refused with what to do with the hands."""

    row: int
    kept: bool
    message: str


def read_row(pk: int, row: int) -> RowOutcome:
    """Read one row with the stand-in reader; it is saved at once, unless it looks misread.

    A row that was read before is replaced. Raises `BadInput` for a row that the chart does not have
    or a pass that is complete.
    """
    with transaction.atomic():
        current = _open_pass(pk)
        job = current.sheet_print
        rows = job.chart.patches.rows
        assert rows is not None
        if row not in rows:
            raise BadInput(f"the chart has no row {row}; it ends with row {int(rows.max())}")
        attempt = int(current.attempts.get(str(row), 0))
        current.attempts[str(row)] = attempt + 1
        current.save(update_fields=["attempts"])
        minutes = (
            None if current.white_at is None else (timezone.now() - current.white_at).total_seconds() / 60.0
        )
        reader = StandInReader(job.raw_chart, job.print_environment, job.ticket)
        try:
            spectra = reader.read_row(row, current.number, attempt, minutes)
        except NotReadable as error:
            return RowOutcome(row, False, error.sentence)
        refusal = _refusal(current, row, spectra_to_lab(spectra))
        if refusal:
            return RowOutcome(row, False, refusal)
        ReadingRow.objects.update_or_create(
            reading_pass=current, row=row, defaults={"spectra": np.round(spectra, 6).tolist()}
        )
        finished = current.rows.count() == int(rows.max())
        if finished:
            _finish(current)
    if finished:
        pass_finished.send(ReadingPass, reading_pass=current)
    return RowOutcome(
        row, True, f"Row {row} is kept." if not finished else "Every row is read. The pass is complete."
    )


def _refusal(current: ReadingPass, row: int, lab: Array) -> str:
    """Why a row is not kept, or nothing.

    An earlier pass may itself be the wrong one: a row that is refused twice alike against it is kept,
    and the comparison of the passes then tells that the row differs.
    """
    job = current.sheet_print
    rough = not job.passes.filter(state=ReadingPass.State.DONE).exists()
    verdict = judge_row(expected_lab(job, row), lab, _neighbours(job, row), rough)
    if verdict.ok:
        return ""
    before = current.attempts.get(f"refused {row}")
    alike = (
        before is not None
        and len(before) == len(lab)
        and np.median(delta_e_2000(np.array(before), lab)) < 0.8
    )
    if alike and not rough:
        return ""
    current.attempts[f"refused {row}"] = np.round(lab, 3).tolist()
    current.save(update_fields=["attempts"])
    return f"Row {row} was not kept: {verdict.reason}."


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


def _open_pass(pk: int) -> ReadingPass:
    current = ReadingPass.objects.select_for_update().select_related("sheet_print__chart").get(pk=pk)
    if current.state == ReadingPass.State.DONE:
        raise BadInput("this pass is complete; start another to read the sheet again")
    return current


def expected_lab(job: SheetPrint, row: int | None = None) -> Array:
    """What a row, or the whole chart, is about to measure: the first pass where there is one, else a rough model."""
    chart = job.chart.patches
    members = slice(None) if row is None else np.flatnonzero(chart.rows == row)
    first = job.passes.filter(state=ReadingPass.State.DONE).first()
    if first is not None:
        return first.readings.lab()[members]
    return aim_lab(np.array(job.sent, dtype=float)[members])


def _neighbours(job: SheetPrint, row: int) -> dict[int, Array]:
    whole = expected_lab(job)
    rows = job.chart.patches.rows
    assert rows is not None
    return {r: whole[rows == r] for r in (row - 1, row + 1) if (rows == r).any()}


def _finish(current: ReadingPass) -> None:
    chart = current.sheet_print.chart.patches
    spectra = np.vstack([r.values() for r in current.rows.order_by("row")])
    _keep(current, replace(chart, spectra=spectra, condition="M1"))


def _keep(current: ReadingPass, readings: ReadingSet) -> None:
    meta = {**readings.meta, "INSTRUMENTATION": current.source}
    current.text = cgats.dumps(replace(readings, meta=meta))
    current.state, current.finished_at = ReadingPass.State.DONE, timezone.now()
    current.save()


def keep_whole_pass(
    job: SheetPrint, readings: ReadingSet, source: str, user: AbstractBaseUser | None
) -> ReadingPass:
    """Store a whole pass at once, from a file or from demo data; an open pass stays as it is."""
    with transaction.atomic():
        number = (job.passes.order_by("-number").values_list("number", flat=True).first() or 0) + 1
        current = ReadingPass(sheet_print=job, number=number, source=source[:200], started_by=user)
        current.save()
        _keep(current, readings)
    pass_finished.send(ReadingPass, reading_pass=current)
    return current


def take_upload(job: SheetPrint, data: bytes, name: str, user: AbstractBaseUser | None) -> ReadingPass:
    """Readings from a CGATS file in place of the instrument; `BadInput` when they are not of this chart."""
    readings = cgats.loads(data, name)
    try:
        matched = match_chart(job.chart.patches, readings)
    except BadInput as error:
        raise error.at(name) from None
    if not job.device:
        SheetPrint.objects.filter(pk=job.pk).update(
            device="printed elsewhere", printed_at=timezone.now(), printed_by=user
        )
    return keep_whole_pass(job, matched, f"file {name}", user)


def standin_reading(job: SheetPrint, number: int) -> ReadingSet:
    """A whole careful pass on the stand-in reader, for demo data."""
    reader = StandInReader(job.raw_chart, job.print_environment, job.ticket)
    return replace(job.chart.patches, spectra=reader.read_all(number), condition="M1")


def averaged(job: SheetPrint) -> ReadingSet:
    """The mean of all complete passes over a print."""
    done = [p.readings for p in job.passes.filter(state=ReadingPass.State.DONE)]
    return average(done)
