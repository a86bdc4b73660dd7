"""A chart printed and read by a machine with a reader inside, with nobody there."""

from __future__ import annotations

from datetime import timedelta

import structlog
from django.conf import settings
from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.core.charts.layout import layout_of
from greyanchor.core.errors import BadInput
from greyanchor.library.machines.connections import driver_of
from greyanchor.library.models import Printer
from greyanchor.measuring.evidence import leave_out
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.printing import dry_at_once, instrument_of, is_simulated, print_sheet
from greyanchor.measuring.services import calibrate_white, method_of, read_sheet, start_pass
from greyanchor.measuring.suspicions import compared, suspicions
from greyanchor.unattended.models import Unattended
from greyanchor.unattended.ready import standings
from greyanchor.unattended.records import note
from greyanchor.unattended.stops import Stop, Wait

_log = structlog.get_logger(__name__)
INLINE = "inline"
#: times that a sheet is refused, and passes of one print, before a person has to look
_REFUSED, _PASSES = 2, 4


def can_alone(printer: Printer) -> bool:
    """Whether a printer prints and reads with nobody there: a driver reaches it, and its site has a reader
    inside it.
    """
    driver = driver_of(printer)
    if driver is None or printer.site is None:
        return False
    return printer.site.connections.filter(printer=None, method=INLINE).exists()


def evidence(work: Unattended, job: SheetPrint, passes: int) -> SheetPrint:
    """A print read `passes` times with nothing suspect about it; raises `Stop` or `Wait`."""
    if not job.device:
        _ready(work, job)
        job = _printed(job, work.started_by)
        note(work, f"Printed {job.chart.title.rpartition(': ')[2]}", _size(job))
    if job.minutes_to_dry > 0:
        if settings.DEMO and is_simulated(job):
            job = dry_at_once(job.pk)
        else:
            raise Wait(timezone.now() + timedelta(minutes=job.minutes_to_dry), "the sheet is drying")
    _passes(work, job, passes)
    return job


def _size(job: SheetPrint) -> str:
    layout = layout_of(job.chart.patches)
    return f"{len(job.chart.patches)} patches, {layout.sheets} sheet{'s' * (layout.sheets != 1)}"


def _ready(work: Unattended, job: SheetPrint) -> None:
    """Raises `Stop` where machine, media or length are not as they must be before ink goes down."""
    work.printer.refresh_from_db()
    layout = layout_of(job.chart.patches)
    needed = layout.sheets * layout.page[1] / 1000.0
    for found in standings(work.printer, work.mode.media, needed):
        if not found.will_do:
            raise Stop(found.stop, found.words)


def _printed(job: SheetPrint, user: User) -> SheetPrint:
    try:
        return print_sheet(job.pk, user)
    except BadInput as error:
        raise Stop("printer", error.sentence) from error
    except Exception as error:
        _log.exception("a printer failed while nobody was there", print=job.pk)
        raise Stop(
            "printer", f"the printer does not answer ({type(error).__name__}: {error})"[:300]
        ) from error


def _passes(work: Unattended, job: SheetPrint, passes: int) -> None:
    if method_of(job) != INLINE:
        raise Stop("person", "this chart is laid out for another reader; lay it out for the one inside")
    while True:
        done = job.passes.filter(state=ReadingPass.State.DONE).count()
        doubt = suspicions(job) if done else []
        if done >= passes and not doubt:
            return
        if doubt and done >= max(passes, 2):
            _set_aside(work, job, doubt[0].number, doubt[0].text)
            continue
        taken = job.passes.count()
        if taken >= _PASSES + passes:
            raise Stop("suspect", doubt[0].text if doubt else "the passes do not agree")
        _one_pass(work, job)


def _set_aside(work: Unattended, job: SheetPrint, number: int, text: str) -> None:
    """Leave the pass out that is wrong; raises `Stop` where that is not known, or happened before."""
    key = f"aside {job.pk}"
    work.tries[key] = int(work.tries.get(key, 0)) + 1
    work.save(update_fields=["tries"])
    if work.tries[key] > _REFUSED:
        raise Stop("suspect", text)
    if number == 0:
        _one_pass(work, job)  # a third says which of the two is wrong
        return
    wrong = job.passes.get(number=number)
    note(work, f"Pass {number} left out", "", text, is_decision=True)
    if job.passes.filter(state=ReadingPass.State.DONE).count() > 1:
        leave_out(wrong.pk, work.started_by)


def _one_pass(work: Unattended, job: SheetPrint) -> None:
    if instrument_of(job, INLINE) is None:
        raise Stop("reader", f"no reader inside {work.printer.name} can read this print")
    current = start_pass(job, work.started_by)
    calibrate_white(current.pk)
    sheets = job.chart.patches.sheets
    assert sheets is not None
    for sheet in sorted({int(s) for s in sheets}):
        _sheet(work, job, current, sheet)
    done = list(job.passes.filter(state=ReadingPass.State.DONE))
    found = compared(job, done)
    note(
        work,
        f"Read, pass {current.number}",
        f"passes within {found.mean:.2f} dE00 mean, {found.max:.2f} largest" if found else "",
    )


def _sheet(work: Unattended, job: SheetPrint, current: ReadingPass, sheet: int) -> None:
    rows = job.chart.patches.rows[job.chart.patches.sheets == sheet]  # type: ignore[index]
    if current.rows.filter(row__in=[int(r) for r in set(rows.tolist())]).count() == len(set(rows.tolist())):
        return
    for attempt in range(1 + _REFUSED):
        try:
            outcome = read_sheet(current.pk, sheet)
        except BadInput as error:
            raise Stop("reader", error.sentence) from error
        except Exception as error:
            _log.exception("a reader failed while nobody was there", reading=current.pk)
            raise Stop(
                "reader", f"the reader does not answer ({type(error).__name__}: {error})"[:300]
            ) from error
        if outcome.kept:
            return
        note(work, f"Sheet {sheet} was read again", f"try {attempt + 1}", outcome.message)
        calibrate_white(current.pk)
    raise Stop("suspect", outcome.message)
