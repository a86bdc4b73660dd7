"""Control strips: ours and the shop's own."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.checks.models import StripRecord
from greyanchor.checks.strip_prints import StripChoice, keep_strip, strip_chart
from greyanchor.core.charts import sheet_pdf, sheets, strips
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.verification.generic_aims import aim_lab
from greyanchor.drawing.colours import hex_colours
from greyanchor.profiles.services import sent_file


@require_GET
def strip_list(request: HttpRequest) -> HttpResponse:
    ours = [
        {
            "kind": s,
            "patches": len(s.patches()) * s.copies,
            "colours": hex_colours(_rough(s.name)),
            "usual": _usual(s),
        }
        for s in strips.STRIPS.values()
    ]
    own = [
        {"record": r, "key": f"own:{r.pk}", "chart": r.chart}
        for r in StripRecord.objects.select_related("created_by")
    ]
    return render(request, "checks/strip_list.html", {"ours": ours, "own": own})


def _usual(strip: strips.StripKind) -> str:
    """The rest of the address of a new check: what a strip is usually held to, and printed through."""
    if strip.places:
        return "&tolerances=uniformity&through=curves"
    return "&tolerances=g7-grayscale&through=curves" if strip.name == "grey" else ""


def _rough(name: str) -> Any:
    return aim_lab(strips.STRIPS[name].patches())


@takes(MAKE)
@require_POST
def strip_add(request: HttpRequest) -> HttpResponse:
    """A strip of the shop from a file of patches, with the names of spot colours."""
    try:
        data, name = sent_file(request)
        made = keep_strip(request.POST.get("name", ""), data, name, request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was added.")
    else:
        messages.success(request, f"{made.name} can be printed now.")
    return redirect("strips")


@require_GET
def strip_file(request: HttpRequest, kind: str, form: str) -> HttpResponse:
    """A strip laid out, as TIFF, PDF or CGATS text, to print beside a job or alone."""
    choice = StripChoice(kind, request.GET.get("page", "a4"), request.GET.get("method", "strip"))
    try:
        chart = strip_chart(choice, title=f"control strip {kind}")
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("strips")
    if form == "txt":
        data, content = cgats.dumps(chart).encode(), "text/plain; charset=utf-8"
    else:
        draw, content = {"tif": (sheets.tiff, "image/tiff"), "pdf": (sheet_pdf.pdf, "application/pdf")}[form]
        data = draw(chart)
    headers = {"Content-Disposition": f'attachment; filename="strip-{kind.replace(":", "-")}.{form}"'}
    return HttpResponse(data, content_type=content, headers=headers)
