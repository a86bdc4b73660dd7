"""The reading page, and charts as files."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.core.errors import BadInput
from greyanchor.drawing.patches import sheet_picture
from greyanchor.measuring import queries, services
from greyanchor.measuring.models import Chart, ReadingPass


def _pass(pk: int) -> ReadingPass:
    return get_object_or_404(ReadingPass.objects.select_related("sheet_print__chart"), pk=pk)


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
) -> dict[str, object]:
    view = queries.reading_view(current, wanted)
    return {
        "pass": current,
        "job": current.sheet_print,
        "message": message,
        "trouble": trouble,
        "last": next((r for r in view["rows"] if r.number == last), None),
        **view,
    }


def _wanted(text: str | None) -> int | None:
    return int(text) if text and text.isdigit() and len(text) < 7 else None


@require_POST
def reading_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """One key on the reading page: read, white, undo or go."""
    message, trouble, wanted, last = "", False, _wanted(request.POST.get("row")), None
    try:
        if act == "white":
            services.calibrate_white(pk)
            message = "White calibration done. Read the row."
        elif act == "undo":
            row = services.undo_row(pk)
            message = f"Row {row} is taken back." if row else "Nothing was read yet."
            wanted = row or wanted
        elif act == "read" and wanted:
            outcome = services.read_row(pk, wanted)
            message, trouble = outcome.message, not outcome.kept
            last = None if trouble else wanted
            wanted = wanted if trouble else None
        elif act == "go":
            message = f"Row {wanted} is next." if wanted else "Which row? Type its number, then press G."
    except BadInput as error:
        message, trouble = error.sentence, True
    current = _pass(pk)
    if current.state == ReadingPass.State.DONE:
        origin = current.sheet_print.origin or reverse("start")
        messages.success(request, f"Pass {current.number} is complete.")
        if request.htmx:  # type: ignore[attr-defined]
            return HttpResponse(headers={"HX-Redirect": origin})
        return redirect(origin)
    if not request.htmx:  # type: ignore[attr-defined]
        (messages.error if trouble else messages.info)(request, message)
        return redirect("reading", pk=pk)
    return render(request, "measuring/_reading.html", _context(current, wanted, message, trouble, last))


@require_GET
def chart_sheet(request: HttpRequest, pk: int, sheet: int) -> HttpResponse:
    """One sheet as a picture."""
    chart = get_object_or_404(Chart, pk=pk)
    last = int(chart.patches.sheets.max())
    return HttpResponse(sheet_picture(chart.patches, min(max(sheet, 1), last)), content_type="image/svg+xml")


@require_GET
def pass_file(request: HttpRequest, pk: int) -> HttpResponse:
    """A complete pass as CGATS text."""
    current = _pass(pk)
    return _download(
        current.text.encode(),
        "text/plain; charset=utf-8",
        f"readings-{current.sheet_print_id}-{current.number}.txt",
    )


def _download(data: bytes, content_type: str, name: str) -> HttpResponse:
    return HttpResponse(
        data, content_type=content_type, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@require_POST
def pass_reopen(request: HttpRequest, pk: int) -> HttpResponse:
    """Read some rows of a complete pass again."""
    rows = [int(r) for r in request.POST.get("rows", "").split(",") if r.strip().isdigit()]
    current = services.reopen_rows(pk, rows)
    return redirect("reading", pk=current.pk)
