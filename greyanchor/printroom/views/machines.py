"""Machines: the roll of each, with what was printed, what prints and what comes."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.core.errors import BadInput
from greyanchor.library.machines.readiness import dues_of
from greyanchor.library.models import Printer
from greyanchor.printroom import prints
from greyanchor.printroom.models import Print, PrintFile
from greyanchor.printroom.roll import Roll, roll_of

#: units across the drawing of a roll
_WIDE = 1000


@require_GET
def machine_list(request: HttpRequest) -> HttpResponse:
    """Every printer: what is in it, what it does, what waits."""
    rows = []
    for printer in Printer.objects.select_related("site"):
        mine = Print.objects.filter(printer=printer)
        row: dict[str, Any] = {
            "printer": printer,
            "waits": mine.filter(state__in=[Print.State.READY, *Print.AT_PRINTER]).count(),
            "held": mine.filter(state=Print.State.HELD).count(),
            "prints": mine.filter(state__in=[Print.State.PRINTING, Print.State.STOPPED])
            .select_related("print_file__job", "print_file__run")
            .order_by("place")
            .first(),
        }
        try:
            row["machine"] = prints.machine_seen(printer)
        except BadInput as error:
            row["trouble"] = error.reason
        rows.append(row)
    return render(request, "printroom/machines.html", {"rows": rows})


def _context(printer: Printer) -> dict[str, Any]:
    roll = roll_of(printer)
    overdue = [d for d in dues_of(printer) if d.due.overdue] if printer.abilities else []
    moves = bool(roll.coming or roll.preparing)
    return {"printer": printer, "roll": roll, "overdue": overdue, "pace": 1 if moves else 4, **_drawn(roll)}


def _drawn(roll: Roll) -> dict[str, Any]:
    """The drawing: mm are scaled to a thousand units across the page, words stand beside them."""
    scale = _WIDE / (roll.end - roll.start)
    top, heads, tall = 0.17 * roll.width_mm * scale, -roll.start * scale, roll.width_mm * scale
    ends = roll.media_ends
    return {
        "box": f"0 0 {_WIDE} {top + 1.12 * tall:.1f}",
        "place": f"translate({heads:.2f} {top:.2f}) scale({scale:.6f})",
        "heads_x": f"{heads:.1f}",
        "heads_y": f"{top - 5:.1f}",
        "end_x": "" if ends is None else f"{heads + ends * scale:.1f}",
        "end_y": f"{top + tall + 12:.1f}",
        "bare": (roll.end if ends is None else ends) - roll.start,
    }


@require_GET
def machine_page(request: HttpRequest, pk: int) -> HttpResponse:
    """The roll of a machine."""
    printer = get_object_or_404(Printer.objects.select_related("site"), pk=pk)
    rolls = printer.rolls.annotate(prints_of=Count("prints")).order_by("-is_in", "-seen_at")[:12]
    return render(request, "printroom/machine.html", {**_context(printer), "rolls": rolls})


@require_GET
def machine_part(request: HttpRequest, pk: int) -> HttpResponse:
    """The roll as it is now."""
    return render(request, "printroom/_roll.html", _context(get_object_or_404(Printer, pk=pk)))


@takes(USE)
@require_POST
def print_order(request: HttpRequest, pk: int) -> HttpResponse:
    """Put a print file on the list of its machine."""
    record = get_object_or_404(PrintFile.objects.select_related("mode__printer"), pk=pk)
    try:
        made = prints.order(record, request.user)  # type: ignore[arg-type]
        if request.POST.get("as") == "go":
            prints.go(made)
    except BadInput as error:
        messages.error(request, error.sentence)
        mode = record.mode
        return redirect("machine", mode.printer_id) if mode else redirect("print-file", pk)
    return redirect("machine", made.printer_id)


@takes(USE)
@require_POST
def print_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Let go, hold, cancel, print again, or move in the list."""
    record = get_object_or_404(Print.objects.select_related("print_file__mode", "printer"), pk=pk)
    try:
        if act == "again":
            prints.again(record, request.user)  # type: ignore[arg-type]
        elif act in ("earlier", "later"):
            prints.move(record, _neighbour(record, act))
        elif act == "before":
            other = request.POST.get("other", "")
            prints.move(record, Print.objects.filter(pk=int(other)).first() if other.isdecimal() else None)
        else:
            {"go": prints.go, "hold": prints.hold, "cancel": prints.cancel}[act](record)
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("machine", record.printer_id)


@takes(USE)
@require_POST
def machine_pause(request: HttpRequest, pk: int, way: str) -> HttpResponse:
    """Pause a machine, or let it go on."""
    printer = get_object_or_404(Printer, pk=pk)
    try:
        prints.pause(printer, way == "pause")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("machine", pk)


def _neighbour(record: Print, way: str) -> Print | None:
    """What a print is put before when it is moved by one."""
    waiting = list(
        Print.objects.filter(
            printer=record.printer_id, state__in=[Print.State.HELD, Print.State.READY]
        ).order_by("place")
    )
    here = next((i for i, p in enumerate(waiting) if p.pk == record.pk), 0)
    if way == "earlier":
        return waiting[max(here - 1, 0)]
    return waiting[here + 2] if here + 2 < len(waiting) else None
