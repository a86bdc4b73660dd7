"""The reading page, files to look at, and charts as files."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.db.models.functions import Length
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.background.parts import ended
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.drawing.patches import sheet_picture
from greyanchor.measuring import evidence, printing, queries, services, suspicions, uploads, waiting
from greyanchor.measuring.models import Chart, Delivered, ReadingPass, SheetPrint, Upload
from greyanchor.profiles.services import content_of


def _pass(pk: int) -> ReadingPass:
    return get_object_or_404(services.light_passes(), pk=pk)


@require_GET
def reading_page(request: HttpRequest, pk: int) -> HttpResponse:
    current = _pass(pk)
    if current.state == ReadingPass.State.DONE:
        return redirect(current.sheet_print.origin or "start")
    return render(request, "measuring/reading.html", _context(current, _wanted(request.GET.get("row"))))


def _context(
    current: ReadingPass,
    wanted: int | None = None,
    message: str = "",
    trouble: bool = False,
    last: int | None = None,
    lines: str = "all",
) -> dict[str, Any]:
    view = queries.reading_view(current, wanted, last, lines)
    return {
        "pass": current,
        "job": current.sheet_print,
        "message": message,
        "trouble": trouble,
        "sound": "trouble" if trouble else "kept" if last else "",
        "oob": lines != "all",
        **view,
    }


def _wanted(text: str | None) -> int | None:
    return int(text) if text and text.isdecimal() and len(text) < 7 else None


@require_POST
def reading_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """One key on the reading page: read, white, corner, undo, skip or go."""
    _pass(pk)
    wanted = _wanted(request.POST.get("row"))
    try:
        found = _act(pk, act, wanted)
    except BadInput as error:
        found = _Answer(error.sentence, trouble=True, wanted=wanted)
    current = _pass(pk)
    if current.state == ReadingPass.State.DONE:
        origin = current.sheet_print.origin or reverse("start")
        messages.success(request, f"Pass {current.number} is complete.")
        if request.htmx:  # type: ignore[attr-defined]
            return HttpResponse(headers={"HX-Redirect": origin})
        return redirect(origin)
    if not request.htmx:  # type: ignore[attr-defined]
        (messages.error if found.trouble else messages.info)(request, found.message)
        return redirect("reading", pk=pk)
    lines = "all" if found.many else "last"
    context = _context(current, found.wanted, found.message, found.trouble, found.last, lines)
    return render(request, "measuring/_reading.html", context)


class _Answer:
    """What an act on the reading page gives back to the page."""

    def __init__(
        self,
        message: str = "",
        trouble: bool = False,
        wanted: int | None = None,
        last: int | None = None,
        many: bool = False,
    ) -> None:
        self.message, self.trouble, self.wanted, self.last, self.many = message, trouble, wanted, last, many


def _act(pk: int, act: str, wanted: int | None) -> _Answer:
    if act == "white":
        services.calibrate_white(pk)
        return _Answer("White calibration done. Read on.", wanted=wanted)
    if act == "undo":
        row = services.undo_row(pk)
        return _Answer(
            f"Row {row} is taken back." if row else "Nothing was read yet.", wanted=row or wanted, last=row
        )
    if act == "skip" and wanted:
        services.skip_row(pk, wanted)
        return _Answer(f"Row {wanted} is skipped for now.", last=wanted)
    if act == "corner":
        outcome = services.set_corner(pk, wanted or 1)
        return _Answer(outcome.message, not outcome.kept)
    if act == "sheet":
        outcome = services.read_sheet(pk, wanted or 1)
        return _Answer(outcome.message, not outcome.kept, many=True)
    if act == "read" and wanted:
        outcome = services.read_row(pk, wanted)
        if outcome.kept:
            return _Answer(outcome.message, last=wanted)
        return _Answer(outcome.message, True, wanted)
    return _Answer(
        f"Row {wanted} is next." if wanted else "Which row? Type its number, then press G.", wanted=wanted
    )


@require_GET
def chart_sheet(request: HttpRequest, pk: int, sheet: int) -> HttpResponse:
    """One sheet as a picture."""
    chart = get_object_or_404(Chart, pk=pk)
    last = int(chart.patches.sheets.max())
    return HttpResponse(sheet_picture(chart.patches, min(max(sheet, 1), last)), content_type="image/svg+xml")


@require_GET
def pass_file(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """A complete pass as CGATS text, CxF3 or CSV."""
    current = _pass(pk)
    name = f"readings-{current.sheet_print_id}-{current.number}.{ending}"
    text = current.text if ending == "txt" else readings_file.dumps(current.readings, name)
    kinds = {"txt": "text/plain", "cxf": "application/xml", "csv": "text/csv"}
    return HttpResponse(
        text.encode(),
        content_type=f"{kinds[ending]}; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


@require_POST
def pass_reopen(request: HttpRequest, pk: int) -> HttpResponse:
    """Read some rows of a complete pass again."""
    rows = [int(r) for r in request.POST.get("rows", "").split(",") if r.strip().isdecimal()]
    _pass(pk)
    current = evidence.reopen_rows(pk, rows, request.user)
    return redirect("reading", pk=current.pk)


@require_POST
def pass_drop(request: HttpRequest, pk: int) -> HttpResponse:
    """Leave a whole pass out."""
    _pass(pk)
    job = evidence.leave_out(pk, request.user)
    messages.info(request, "The pass is left out; what is based on the readings was computed again.")
    return redirect(job.origin or "start")


@require_POST
def pass_withdraw(request: HttpRequest, pk: int) -> HttpResponse:
    """Withdraw a pass that something was decided on."""
    current = _pass(pk)
    voided = evidence.withdraw(pk, request.POST.get("reason", ""), request.user)
    what = f"; void now: {', '.join(voided)}" if voided else ""
    messages.success(request, f"Pass {current.number} is withdrawn{what}.")
    return redirect(current.sheet_print.origin or "start")


@require_POST
def print_use_suspect(request: HttpRequest, pk: int) -> HttpResponse:
    """Use readings although something about them is suspect."""
    get_object_or_404(SheetPrint, pk=pk)
    job = suspicions.use_suspect_readings(pk, request.POST.get("reason", ""), request.user)
    messages.info(request, "The readings are used as they are; the reason is kept with them.")
    return redirect(job.origin or "start")


@require_POST
def print_dry(request: HttpRequest, pk: int) -> HttpResponse:
    """Put the clock of a simulated sheet forward."""
    get_object_or_404(SheetPrint, pk=pk)
    job = printing.dry_at_once(pk)
    messages.info(request, "Simulated sheet is dry.")
    return redirect(job.origin or "start")


def file_page(request: HttpRequest) -> HttpResponse:
    """Send any file to see how it is understood."""
    if request.method == "POST":
        try:
            upload = take_file(request, None)
        except BadInput as error:
            messages.error(request, f"{error.sentence} Nothing was kept.")
        else:
            return redirect("upload", pk=upload.pk)
    context = {
        "delivered": Delivered.objects.select_related("sheet_print__chart")[:20],
        "inbox": settings.INBOX,
        "waiting": waiting.open_prints()[:20],
    }
    return render(request, "measuring/file_page.html", context)


def take_file(request: HttpRequest, job: SheetPrint | None) -> Upload:
    """The file of a form, kept until somebody has looked at it; `BadInput` when there is none or it is too
    large.
    """
    sent = request.FILES.get("file")
    if sent is None:
        raise BadInput("choose a file first")
    return uploads.put_aside_upload(sent.name, content_of(sent), job, request.user)


@require_GET
def upload_page(request: HttpRequest, pk: int) -> HttpResponse:
    """How a file was understood, before it is used."""
    upload = get_object_or_404(
        Upload.objects.defer("data").annotate(bytes=Length("data")).select_related("sheet_print__chart"),
        pk=pk,
        sent_by=request.user,
    )
    context: dict[str, Any] = {"upload": upload, "job": upload.sheet_print, "size": upload.bytes}
    context.update(upload.understood or {})
    if upload.understood is None and not upload.is_active:
        context["refused"] = upload.message
    context["waits"] = upload.is_active
    return render(request, "measuring/upload_page.html", context)


@require_GET
def upload_part(request: HttpRequest, pk: int) -> HttpResponse:
    """How looking at a large file goes; its page is shown again once that is over."""
    upload = get_object_or_404(Upload.objects.defer("data"), pk=pk, sent_by=request.user)
    if upload.is_active:
        return render(request, "measuring/_upload_wait.html", {"upload": upload})
    return ended("The file has been looked at.")


@require_POST
def upload_use(request: HttpRequest, pk: int) -> HttpResponse:
    """Use a file as a pass over the print it was sent for."""
    upload = get_object_or_404(
        Upload.objects.select_related("sheet_print__chart"), pk=pk, sent_by=request.user
    )
    job = upload.sheet_print
    if job is None:
        raise BadInput("this file was not sent for a chart")
    by = "device" if request.POST.get("by") == "device" else "id"
    taken = uploads.take_upload(job, bytes(upload.data), upload.name, request.user, by)
    upload.delete()
    messages.success(request, f"{upload.name} is kept as pass {taken.number}.")
    return redirect(job.origin or "start")
