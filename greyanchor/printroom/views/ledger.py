"""The ledger: what was printed, from what, with what, and what it took."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from django.core.paginator import Paginator
from django.db.models import Count, Q, QuerySet, Sum
from django.db.models.functions import TruncWeek
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET

from greyanchor.library.models import Printer, PrintMode
from greyanchor.printroom import files, prints
from greyanchor.printroom.models import Print

_PAGE, _WEEKS = 48, 12


def _narrowed(request: HttpRequest) -> tuple[QuerySet[Print], dict[str, str]]:
    """Prints that a query asks for, and what it asked."""
    query = request.GET
    asked = {k: query.get(k, "").strip()[:120] for k in ("q", "mode", "printer", "state", "artwork")}
    found = Print.objects.all()
    if not asked["state"]:
        found = found.filter(sent_at__isnull=False)  # what the machine has had
    for word in asked["q"].split():
        found = found.filter(
            Q(print_file__job__name__icontains=word)
            | Q(print_file__job__mode__name__icontains=word)
            | Q(media__icontains=word)
        )
    for key, field in (("mode", "print_file__job__mode"), ("printer", "printer"),
                       ("artwork", "print_file__job__artwork")):  # fmt: skip
        if asked[key].isdecimal():
            found = found.filter(**{field: int(asked[key])})
    if asked["state"] in Print.State.values:
        found = found.filter(state=asked["state"])
    return found, asked


@require_GET
def ledger(request: HttpRequest) -> HttpResponse:
    """Prints, newest first, and what they took by week."""
    found, asked = _narrowed(request)
    listed = found.select_related(
        "print_file__job__artwork", "print_file__job__mode", "printer", "asked_by"
    ).defer("print_file__facts", "print_file__choices", "print_file__job__artwork__facts",
            "print_file__job__outcomes")  # fmt: skip
    page = Paginator(listed, _PAGE).get_page(request.GET.get("page", "1"))
    weeks = (
        found.filter(ended_at__isnull=False)
        .annotate(week=TruncWeek("ended_at"))
        .values("week")
        .annotate(count=Count("pk"), ink=Sum("ink_total_ml"), media=Sum("media_mm"))
        .order_by("-week")[:_WEEKS]
    )
    rows = sorted(weeks, key=lambda w: w["week"])
    most = max((w["ink"] or 0.0 for w in rows), default=0.0) or 1.0
    totals = found.aggregate(ink=Sum("ink_total_ml"), media=Sum("media_mm"))
    context: dict[str, Any] = {
        "page": page,
        "asked": asked,
        "address": urlencode(asked),
        "weeks": [{**w, "height": 100.0 * (w["ink"] or 0.0) / most} for w in rows],
        "printers": Printer.objects.only("name"),
        "modes": PrintMode.objects.filter(jobs__print_files__prints__isnull=False).distinct().only("name"),
        "states": Print.State.choices,
        "totals": {**totals, "metres": (totals["media"] or 0.0) / 1000.0},
    }
    name = (
        "printroom/_ledger.html" if request.headers.get("HX-Target") == "ledger" else "printroom/ledger.html"
    )
    return render(request, name, context)


@require_GET
def print_page(request: HttpRequest, pk: int) -> HttpResponse:
    """One print: from artwork to what lay on the table."""
    record = get_object_or_404(
        Print.objects.select_related(
            "print_file__job__artwork",
            "print_file__job__mode__profile",
            "printer__site",
            "asked_by",
            "again_of",
        ),
        pk=pk,
    )
    context = {"print": record, "size": prints.size_mm(record), "ticket": record.print_file.ticket}
    return render(request, "printroom/print.html", context)


@require_GET
def print_seen(request: HttpRequest, pk: int) -> HttpResponse:
    """The picture of a print."""
    record = get_object_or_404(Print.objects.only("picture"), pk=pk)
    if not record.picture:
        raise Http404("no picture")
    return FileResponse(open(files.local(record.picture), "rb"), content_type="image/png")
