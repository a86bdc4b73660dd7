"""Readying machines: printed patterns, judgements, values for each printer and media, and due dates."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.urls import reverse
from django.utils import timezone

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SETTINGS
from greyanchor.core.printing.readiness import (
    Due,
    Task,
    best_step,
    candidates,
    checked_value,
    due,
    nozzles_ready,
    task_named,
    tasks_of,
)
from greyanchor.devices.ports import PatternPort
from greyanchor.drawing.patterns import nozzle_pattern, step_pattern
from greyanchor.library.machines.connections import printer_port
from greyanchor.library.models import Media, Printer, ReadinessRun
from greyanchor.library.records.effective_settings import layers_of, resolve


@dataclass(frozen=True)
class PrinterDue:
    """A task of a printer and when it is due, with its last time."""

    printer: Printer
    due: Due
    last: ReadinessRun | None

    @property
    def task(self) -> Task:
        return self.due.task

    @property
    def url(self) -> str:
        """The page where it is done."""
        return reverse("ready-task", args=[self.printer.pk, self.task.key])


#: most missing nozzles of an ink that can be counted where the machine prints a pattern of its own
MOST_NOZZLES = 10_000


def patterns_of(printer: Printer, media: Media | None) -> PatternPort | None:
    """A printer whose patterns are known here once they are printed; None for one that prints its own."""
    port = printer_port(printer, media)
    return port if isinstance(port, PatternPort) else None


def dues_of(printer: Printer) -> list[PrinterDue]:
    """Every task of a printer, due or not, in the order they are done."""
    last = _last_times([printer])
    return [_due(printer, task, last) for task in tasks_of(printer.ability_map)]


def wanted() -> list[PrinterDue]:
    """Tasks of all printers that are due now or soon; those of a printer without media wait for its media."""
    printers = list(Printer.objects.select_related("loaded_media", "site"))
    last = _last_times(printers)
    found = []
    for printer in printers:
        for task in tasks_of(printer.ability_map) if printer.abilities else []:
            if task.when_media_changes and printer.loaded_media_id is None:
                continue
            result = _due(printer, task, last)
            if result.due.overdue or result.due.soon(timezone.now()):
                found.append(result)
    return found


def _last_times(printers: Iterable[Printer]) -> dict[tuple[int, int | None, str], ReadinessRun]:
    done = ReadinessRun.objects.filter(printer__in=list(printers), done_at__isnull=False).order_by(
        "done_at", "pk"
    )
    out: dict[tuple[int, int | None, str], ReadinessRun] = {}
    for record in done.defer("pattern"):
        out[
            record.printer_id,
            record.media_id if task_named(record.task).when_media_changes else None,
            record.task,
        ] = record
    return out


def _due(printer: Printer, task: Task, last: dict[tuple[int, int | None, str], ReadinessRun]) -> PrinterDue:
    found = last.get((printer.pk, printer.loaded_media_id if task.when_media_changes else None, task.key))
    result = due(
        task,
        found.done_at if found else None,
        found.good if found else True,
        printer.loaded_at,
        timezone.now(),
    )
    return PrinterDue(printer, result, found)


@needs(USE)
@transaction.atomic
def load_media(printer_pk: int, media: Media, user: User) -> Printer:
    """Put another media into a printer; what depends on the media is due from now on."""
    printer = Printer.objects.select_for_update(of=("self",)).get(pk=printer_pk)
    if media.width_mm > printer.width_mm:
        raise BadInput(
            f"{media.name} is {media.width_mm} mm wide; {printer.name} takes {printer.width_mm} mm"
        )
    if printer.loaded_media_id == media.pk:
        raise BadInput(f"{media.name} is in {printer.name} already")
    note(printer, "Media in it", printer.loaded_media, media, user)
    printer.loaded_media, printer.loaded_at = media, timezone.now()
    printer.save_without_historical_record(update_fields=["loaded_media", "loaded_at"])
    return printer


def value_now(printer: Printer, task: Task) -> float:
    """The value in force of a task's setting, on the media that is loaded."""
    return resolve(printer.ability_map, layers_of(printer, printer.loaded_media))[task.setting].value


@needs(USE)
@transaction.atomic
def print_pattern(printer: Printer, key: str, user: User, around: float | None = None) -> ReadinessRun:
    """Print the pattern of a task; one that waits for its judgement is thrown away.

    Where the driver knows nothing of patterns, the machine prints its own and a person enters what is seen.
    """
    task = task_named(key)
    if task.setting and task.setting not in printer.abilities:
        raise BadInput(f"{printer.name} has no {SETTINGS[task.setting].title.lower()}")
    if task.when_media_changes and printer.loaded_media is None:
        raise BadInput(f"load a media in {printer.name} first")
    printer.readiness_runs.filter(task=key, done_at=None).delete()
    machine = patterns_of(printer, printer.loaded_media)
    now = timezone.now()
    made = ReadinessRun(printer=printer, media=printer.loaded_media, task=key, done_by=user)
    if not task.setting:
        day = timezone.localdate(now).toordinal()
        cleanings = printer.readiness_runs.filter(task=key, printed_at__date=timezone.localdate(now)).count()
        channels = _channels(printer)
        closed = {c: machine.closed(c, day, cleanings) for c in channels} if machine else {}
        made.pattern = {
            "channels": channels,
            "closed": closed,
            "nozzles": machine.nozzles if machine else MOST_NOZZLES,
        }
    else:
        ability = printer.ability_map[task.setting]
        made.before = value_now(printer, task)
        values = candidates(task, made.before if around is None else around, ability)
        misfit = machine.misfit(task.setting, values, task.step) if machine else []
        made.pattern = {"values": values, "misfit": [round(float(v), 4) for v in misfit]}
    made.save()
    return made


def _channels(printer: Printer) -> list[str]:
    out: dict[str, None] = {}
    for ink_set in printer.ink_sets.all():
        for channel in ink_set.raw_channels:
            out[channel] = None
    return list(out) or list("CMYK")


def picture(record: ReadinessRun) -> str:
    """The printed pattern as SVG; empty where the machine prints its own."""
    task = task_named(record.task)
    if not task.setting:
        closed = record.pattern["closed"]
        return nozzle_pattern(closed, nozzles_of(record)) if closed else ""
    if not record.pattern["misfit"]:
        return ""
    return step_pattern(task, SETTINGS[task.setting], record.pattern["values"], record.pattern["misfit"])


def channels_of(record: ReadinessRun) -> list[str]:
    """Inks of a printed nozzle pattern."""
    return list(record.pattern.get("channels") or record.pattern.get("closed", {}))


def nozzles_of(record: ReadinessRun) -> int:
    """Nozzles of one ink on a printed nozzle pattern."""
    return int(record.pattern.get("nozzles", 96))


def waiting(printer: Printer, key: str) -> ReadinessRun | None:
    """The pattern of a task that was printed and is not judged yet."""
    return printer.readiness_runs.filter(task=key, done_at=None).first()


def _judging(pk: int) -> ReadinessRun:
    record = (
        ReadinessRun.objects.select_for_update(of=("self",)).select_related("printer", "media").get(pk=pk)
    )
    if record.done_at is not None:
        raise BadInput("this pattern was judged already; print it again")
    return record


def _done(record: ReadinessRun, how: str, user: User, note: str) -> ReadinessRun:
    record.how, record.done_at, record.done_by, record.note = how, timezone.now(), user, note[:200]
    record.save()
    return record


@needs(USE)
@transaction.atomic
def judge_nozzles(
    pk: int, missing: dict[str, int], user: User, how: str = ReadinessRun.How.EYE
) -> ReadinessRun:
    """Take what a person counted; too many missing nozzles leave the machine unready."""
    record = _judging(pk)
    channels = channels_of(record)
    if sorted(missing) != sorted(channels):
        raise BadInput(f"say for {', '.join(channels)} how many nozzles are missing")
    if any(v > nozzles_of(record) for v in missing.values()):
        raise BadInput(f"the pattern has {nozzles_of(record)} nozzles of an ink")
    record.good, record.missing = nozzles_ready(missing), missing
    return _done(record, how, user, "" if record.good else "clean the heads and print the pattern again")


@needs(USE)
@transaction.atomic
def judge_step(pk: int, step: int, user: User) -> ReadinessRun:
    """Take the step that a person chose by eye, counted from 1."""
    record = _judging(pk)
    task, values = task_named(record.task), record.pattern.get("values", [])
    if not 1 <= step <= len(values):
        raise BadInput(f"choose a step from 1 to {len(values)}")
    record.value = checked_value(task, values[step - 1], record.printer.ability_map[task.setting])
    return _done(record, ReadinessRun.How.EYE, user, "")


@needs(USE)
@transaction.atomic
def judge_by_reading(pk: int, user: User) -> ReadinessRun:
    """Read the pattern with the instrument and take the value it finds."""
    record = _judging(pk)
    task = task_named(record.task)
    if not task.by_reading:
        raise BadInput(f"{task.title} is judged by eye; an instrument cannot read it")
    machine = patterns_of(record.printer, record.media)
    if machine is None:
        raise BadInput(f"{record.printer.name} prints its own pattern: judge it by eye")
    if not task.setting:
        counted = {c: len(gone) for c, gone in record.pattern["closed"].items()}
        return judge_nozzles(pk, counted, user, ReadinessRun.How.READING)
    ability = record.printer.ability_map[task.setting]
    faults = machine.read_misfit(task.setting, record.pattern["values"], task.step, record.pk)
    found = best_step(record.pattern["values"], faults.tolist(), ability)
    record.value = found.value
    return _done(
        record,
        ReadinessRun.How.READING,
        user,
        f"read; {100 * found.left:.0f} % of the fault is left at step {found.step + 1}",
    )


def values_found(printer: Printer) -> Any:
    """Values kept for a printer, the newest of each task and media first."""
    return (
        printer.readiness_runs.filter(done_at__isnull=False)
        .select_related("media", "done_by")
        .defer("pattern")
        .order_by("-done_at")
    )
