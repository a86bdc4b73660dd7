"""The print room for programs: artwork in, jobs made and followed, print files and pictures out."""

from __future__ import annotations

from typing import Any

from django.core.files.base import ContentFile
from django.http import FileResponse, HttpRequest
from django.shortcuts import get_object_or_404
from django.urls import reverse
from ninja import Status

from greyanchor.api import schemas
from greyanchor.api.interface import api
from greyanchor.api.views import MOST, REFUSED, SENT, binary, body
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, intake, jobs, prints
from greyanchor.printroom.models import Artwork, Job, Print, PrintFile, Then


def artwork_facts(art: Artwork) -> dict[str, Any]:
    """Artwork as programs see it."""
    return {
        "id": art.pk,
        "name": art.name,
        "sha256": art.sha256,
        "size": art.size,
        "state": art.state,
        "message": art.message,
        "kind": art.kind,
        "pages": [
            {k: page.get(k) for k in ("width_mm", "height_mm")} | {"spots": sorted(page.get("spots", {}))}
            for page in art.pages
        ],
        "findings": art.findings,
        "url": reverse("api:artwork", args=[art.pk]),
    }


def print_facts(record: Print) -> dict[str, Any]:
    """A print as programs see it."""
    check = record.check_print.made_check if record.check_print else None
    return {
        "id": record.pk,
        "what": str(record.print_file),
        "job": record.print_file.job_id,
        "run": record.print_file.run_id,
        "mode": record.print_file.mode_id,
        "edition": record.print_file.ticket.get("edition"),
        "printer": record.printer.name,
        "state": record.state,
        "reason": record.reason,
        "share": round(record.share, 4),
        "seconds_left": record.seconds_left,
        "media": record.media,
        "media_mm": record.media_mm,
        "ink_ml": record.ink_ml,
        "verdict": check.verdict if check else None,
        "asked_at": record.asked_at.isoformat(),
        "ended_at": record.ended_at.isoformat() if record.ended_at else None,
        "picture_url": reverse("api:print-picture", args=[record.pk]) if record.picture else None,
        "url": reverse("api:print", args=[record.pk]),
    }


def job_facts(job: Job) -> dict[str, Any]:
    """A job with what was prepared and printed of it."""
    made = list(job.print_files.defer("facts", "choices").order_by("-pk")[:MOST])
    known = Print.objects.filter(print_file__in=made).select_related(
        "print_file", "printer", "check_print__made_check"
    )
    return {
        "id": job.pk,
        "name": job.name,
        "artwork": job.artwork_id,
        "mode": job.mode_id,
        "held": job.held,
        "then": job.then or "prepare",
        "choices": job.choices,
        "print_files": [_file_facts(f) for f in made],
        "prints": [print_facts(p) for p in known[:MOST]],
        "url": reverse("api:job", args=[job.pk]),
    }


def _file_facts(record: PrintFile) -> dict[str, Any]:
    return {
        "id": record.pk,
        "panel": record.panel,
        "state": record.state,
        "progress": round(record.progress, 3),
        "message": record.message,
        "edition": record.ticket.get("edition"),
        "planes_url": reverse("api:planes", args=[record.pk]) if record.file else None,
    }


# --- artwork ---------------------------------------------------------------------------------


@api.post(
    "/artwork",
    response={201: schemas.Artwork, 200: schemas.Artwork, **SENT},
    url_name="artworks",
    openapi_extra=body("application/octet-stream"),
)
def artwork_receive(request: HttpRequest, name: str = "artwork") -> Any:
    """Take in artwork, as the body or as the file ``artwork`` of a form; the same file again is the same
    artwork (200).
    """
    sent = request.FILES.get("artwork")
    if sent is None and not request.body:
        raise BadInput("send the artwork as the body, or as the file artwork of a form")
    content = sent if sent is not None else ContentFile(request.body)
    user: Any = request.user
    made, is_new = intake.add(content, str(sent.name) if sent else name, user, "a program")
    return Status(201 if is_new else 200, artwork_facts(made))


@api.get("/artwork/{int:pk}", response={200: schemas.Artwork, **REFUSED}, url_name="artwork")
def artwork(request: HttpRequest, pk: int) -> Any:
    """What is known of artwork; its findings are there when `state` is done."""
    return artwork_facts(get_object_or_404(Artwork, pk=pk))


# --- jobs ------------------------------------------------------------------------------------


@api.post("/jobs", response={201: schemas.Job, **SENT}, url_name="jobs")
def job_make(request: HttpRequest, asked: schemas.JobOrder) -> Any:
    """Make a job by mode and size. It is held, or goes by itself once its artwork was examined."""
    art = get_object_or_404(Artwork, pk=asked.artwork)
    mode = get_object_or_404(PrintMode.objects.select_related("printer", "media"), pk=asked.mode)
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; jobs are printed through released modes")
    choices: dict[str, Any] = dict(asked.choices)
    if asked.width_mm is not None:
        choices["width_mm"] = asked.width_mm
    if asked.copies != 1:
        choices["copies"] = asked.copies
    then = {"prepare": Then.PREPARE, "hold": Then.PREPARE, "print": Then.PRINT, "fill": Then.FILL}[asked.then]
    user: Any = request.user
    job = jobs.make_job(art, user, mode, asked.page, choices, held=asked.then == "hold", then=then)
    return Status(201, job_facts(job))


@api.get("/jobs/{int:pk}", response={200: schemas.Job, **REFUSED}, url_name="job")
def job(request: HttpRequest, pk: int) -> Any:
    """How a job goes: its print files and its prints."""
    return job_facts(get_object_or_404(Job, pk=pk))


@api.get(
    "/print-files/{int:pk}/planes.tif",
    response=REFUSED,
    url_name="planes",
    openapi_extra=binary("image/tiff"),
)
def planes(request: HttpRequest, pk: int) -> FileResponse:
    """A print file: one page an ink, with its ticket."""
    record = get_object_or_404(PrintFile, pk=pk)
    if not record.file:
        raise BadInput(f"{record} is {record.get_state_display()}, not prepared")
    return FileResponse(files.opened(record.file), content_type="image/tiff")


# --- prints ----------------------------------------------------------------------------------


def _prints() -> Any:
    return Print.objects.select_related("print_file", "printer", "check_print__made_check").defer(
        "print_file__facts", "print_file__choices"
    )


@api.get("/prints", response={200: schemas.Prints, **REFUSED}, url_name="prints")
def print_list(request: HttpRequest, state: str = "", mode: str = "", after: int = 0) -> Any:
    """Prints, the newest first, narrowed by state and mode; those with a number above `after` alone."""
    found = _prints().filter(pk__gt=after)
    if state:
        found = found.filter(state=state)
    if mode:
        found = found.filter(mode=int(mode) if mode.isdecimal() else 0)
    return {"total": found.count(), "prints": [print_facts(p) for p in found[:MOST]]}


@api.get("/prints/{int:pk}", response={200: schemas.Print, **REFUSED}, url_name="print")
def print_one(request: HttpRequest, pk: int) -> Any:
    """One print."""
    return print_facts(get_object_or_404(_prints(), pk=pk))


@api.get(
    "/prints/{int:pk}/picture.png",
    response=REFUSED,
    url_name="print-picture",
    openapi_extra=binary("image/png"),
)
def print_picture(request: HttpRequest, pk: int) -> FileResponse:
    """The picture of a print, where the machine gives one."""
    record = get_object_or_404(Print, pk=pk)
    if not record.picture:
        raise BadInput(f"there is no picture of {record.print_file}: it is {record.get_state_display()}")
    return FileResponse(files.opened(record.picture), content_type="image/png")


def _acted(act: Any, pk: int) -> Any:
    act(get_object_or_404(_prints(), pk=pk))
    return print_facts(get_object_or_404(_prints(), pk=pk))


@api.post("/prints/{int:pk}/go", response={200: schemas.Print, **REFUSED}, url_name="print-go")
def print_go(request: HttpRequest, pk: int) -> Any:
    """Let a held print go, where the machine can print it now."""
    return _acted(prints.go, pk)


@api.post("/prints/{int:pk}/hold", response={200: schemas.Print, **REFUSED}, url_name="print-hold")
def print_hold(request: HttpRequest, pk: int) -> Any:
    """Hold a print that was not sent yet."""
    return _acted(prints.hold, pk)


@api.post("/prints/{int:pk}/cancel", response={200: schemas.Print, **REFUSED}, url_name="print-cancel")
def print_cancel(request: HttpRequest, pk: int) -> Any:
    """Cancel a print, wherever it is."""
    return _acted(prints.cancel, pk)
