"""Jobs to print files: queued, carried out, and seen as a picture of the print."""

from __future__ import annotations

import io
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from PIL import Image

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue, work
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.separation.layers import conversion_of
from greyanchor.core.separation.plates.on_film import FilmPrinted
from greyanchor.core.separation.prepare import Prepared, Progress, small
from greyanchor.core.separation.printing import print_to_file
from greyanchor.devices.ports import ViewPort
from greyanchor.library.machines.connections import printer_port
from greyanchor.library.models import PrintMode
from greyanchor.library.records.effective_settings import in_force
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import files, film_prints, prints, rasters
from greyanchor.printroom.links import fingerprint, link_of, order_of
from greyanchor.printroom.models import Job, PrintFile, Then
from greyanchor.printroom.signals import prepared
from greyanchor.printroom.tickets import check_edition, newest_edition, ticket_of


@needs(USE)
@transaction.atomic
def order_print_files(job: Job, user: User | None) -> list[PrintFile]:
    """Queue the preparing of a job: one print file, or one for each panel that is switched on.

    What is queued is as the job stands now; what it chooses later changes no print file. Raises `BadInput`
    for a job without a mode, and for one that is being prepared already as it is.
    """
    mode = job.mode
    if mode is None:
        raise BadInput("choose a print mode first")
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; jobs are printed through released modes")
    facts = chosen.of_job(job)
    width = size_mm(job)[0]
    parts = chosen.panels_of(facts, width)
    off = set(facts["panels_off"])
    wanted = [i for i in range(len(parts)) if i + 1 not in off]
    if not wanted:
        raise BadInput("every panel is switched off: switch one on")
    made = []
    for i in wanted:
        single = {**facts, "crop": list(parts[i])} if len(parts) > 1 else facts
        ticket = {
            **ticket_of(mode),
            "job": job.pk,
            "panel": i + 1 if len(parts) > 1 else 0,
            "artwork": job.artwork.sha256,
            "page": job.page,
            "choices": fingerprint(single),
        }
        ticket["hash"] = fingerprint(ticket)
        same = job.print_files.filter(ticket=ticket)
        busy = same.filter(state__in=[PrintFile.State.QUEUED, PrintFile.State.RUNNING]).first()
        if busy is not None and not busy.looks_dead:
            raise BadInput("this job is being prepared already, as it is")
        record = PrintFile.objects.create(
            job=job,
            mode=mode,
            edition=newest_edition(mode),
            panel=ticket["panel"],
            ticket=ticket,
            choices=single,
            started_by=user,
            message="waiting for the worker",
        )
        queue.start(record)
        made.append(record)
    return made


def size_mm(job: Job) -> tuple[float, float]:
    """Width and height of the whole page as the job prints it."""
    pages = job.artwork.pages
    if not 1 <= job.page <= len(pages):
        return (0.0, 0.0)
    page = pages[job.page - 1]
    width, height = float(page["width_mm"]), float(page["height_mm"])
    asked = chosen.of_job(job)["width_mm"]
    share = float(asked) / width if asked and width else 1.0
    return width * share, height * share


def prepare_print_file(pk: int) -> None:
    """Carry out the preparing of a print file; a killed one is gone on with."""
    record = PrintFile.objects.select_related(
        "job__artwork", "job__mode__printer", "job__mode__profile", "job__mode__curve_set"
    ).get(pk=pk)
    mode = record.job.mode if record.job is not None else None
    assert record.job is not None and mode is not None
    check_edition(mode, record.ticket)
    name = f"print-files/{record.job_id}/{fingerprint(record.ticket)}-{pk}.tif"
    report = work.progress_of(PrintFile, pk)
    try:
        done = print_job(
            record.job,
            mode,
            chosen.of_print_file(record),
            files.place(name),
            record.ticket,
            lambda share: report(0.95 * share, f"{100 * share:.0f} % prepared"),
        )
    except BadInput as error:
        raise BadInput(error.reason, record.job.artwork.name) from error
    files.share(name)
    picture = _picture_of_print(record, mode)
    with transaction.atomic():
        PrintFile.objects.filter(pk=pk).update(file=name, picture=picture, facts=done.facts())
        work.end(PrintFile, pk, PrintFile.State.DONE, "prepared")
        record.refresh_from_db()
        prepared.send(PrintFile, record=record)
        if record.job.then == Then.PRINT and not record.job.held and not record.prints.exists():
            prints.order(record, record.started_by, hold=False)


def print_job(
    job: Job,
    mode: PrintMode,
    choices: Mapping[str, Any],
    output: Path,
    ticket: Mapping[str, Any],
    report: Progress,
) -> Prepared | FilmPrinted:
    """A job as a print file: artwork through its mode, a plate as it is. A killed one is gone on with."""
    if mode.ink_set.is_film:
        return film_prints.print_film(job, mode, choices, output, ticket, report)
    order = order_of(job, mode, choices)
    return print_to_file(files.local(job.artwork.file), order, output, ticket, report, resume=True)


def _picture_of_print(record: PrintFile, mode: PrintMode) -> str:
    """The print as the printer shows it, where it shows its prints; nothing elsewhere."""
    port = printer_port(mode.printer, mode.media)
    if not isinstance(port, ViewPort):
        return ""
    assert record.job is not None
    if mode.ink_set.is_film:
        return ""
    shape = chosen.shape_of(chosen.of_print_file(record), record.job.page)
    picture = shape.upright(rasters.level(record.job.artwork, record.job.page, 0))
    pixels = small(picture, shape.part)
    raw = conversion_of(link_of(picture, record.job, mode, chosen.of_print_file(record))).convert(pixels)
    across = size_mm(record.job)[int(chosen.of_print_file(record)["quarters"]) % 2] * shape.part[2]
    handling = {key: held.value for key, held in in_force(mode).items()}
    drawn = port.see_print(
        PrintEnvironment(**mode.environment),
        (raw >> 8) / 255.0,
        across / raw.shape[1],
        handling,
        record.pk,
    )
    name = f"prints/{record.job_id}/{record.pk}.png"
    data = io.BytesIO()
    Image.fromarray(drawn).save(data, format="PNG")
    with files.whole(name) as partial:
        partial.write_bytes(data.getvalue())
    return name


@needs(USE)
@transaction.atomic
def go_on(record: PrintFile) -> None:
    """Start again what failed, was cancelled or interrupted; what is written already stays."""
    again = (PrintFile.State.FAILED, PrintFile.State.CANCELLED, PrintFile.State.INTERRUPTED)
    changed = PrintFile.objects.filter(pk=record.pk, state__in=again).update(
        state=PrintFile.State.QUEUED, cancel_asked=False, message="waiting for the worker", error=""
    )
    if not changed:
        raise BadInput(f"this print file is {record.get_state_display()}; there is nothing to go on with")
    queue.start(record)
