"""Pages of what was swapped and what changed."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.changes import queries, services
from greyanchor.changes.models import Swap
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Printer, PrintMode

_SHOWN = 40


@require_GET
def machine_changes(request: HttpRequest, pk: int) -> HttpResponse:
    """What was swapped in a machine, a key each to put on record, and what changed on its modes."""
    printer = get_object_or_404(Printer.objects.select_related("site"), pk=pk)
    inks = sorted({c for s in printer.ink_sets.all() for c in s.raw_channels})
    return render(
        request,
        "changes/machine.html",
        {
            "printer": printer,
            "swaps": printer.swaps.select_related("by")[:_SHOWN],
            "inks": inks,
            "changes": queries.of_machine(printer),
        },
    )


@require_POST
def swap_record(request: HttpRequest, pk: int) -> HttpResponse:
    """Put a swap on record."""
    printer = get_object_or_404(Printer, pk=pk)
    kind, _, ink = request.POST.get("what", "").partition(" ")
    person: Any = request.user
    try:
        made = services.record(printer, kind, ink, request.POST.get("batch", ""), person)
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        messages.success(request, f"On record: {made}.")
    return redirect("swaps", pk=pk)


@require_POST
def swap_take_back(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a swap back that was put on record by mistake."""
    found = get_object_or_404(Swap, pk=pk)
    person: Any = request.user
    try:
        services.take_back(pk, person)
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("swaps", pk=found.printer_id)


@require_GET
def mode_changes(request: HttpRequest, pk: int) -> HttpResponse:
    """Any two states of a mode, compared in words, with the likely causes."""
    mode = get_object_or_404(PrintMode.objects.select_related("printer", "media"), pk=pk)
    found = queries.states(mode)
    before = request.GET.get("before") or (found[1].key if len(found) > 1 else "")
    now = request.GET.get("now") or (found[0].key if found else "")
    comparison, trouble = None, ""
    if before and now and before != now:
        try:
            comparison = queries.compare(mode, before, now)
        except BadInput as error:
            trouble = error.sentence
    context = {
        "mode": mode, "states": found, "before": before, "now": now, "c": comparison, "trouble": trouble,
    }  # fmt: skip
    return render(request, "changes/mode.html", context)
