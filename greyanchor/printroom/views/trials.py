"""Trial forms before release, faults marked on pictures of prints, and whether a print is fit."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.library.models import PrintMode
from greyanchor.printroom import trials
from greyanchor.printroom.models import Print


@takes(USE)
@require_http_methods(["GET", "POST"])
def mode_trial(request: HttpRequest, pk: int) -> HttpResponse:
    """The newest trial of a mode, and a form to print another."""
    wanted = PrintMode.objects.select_related("printer", "media", "profile", "ink_set", "preset")
    mode = get_object_or_404(wanted, pk=pk)
    if request.method == "POST":
        user: Any = request.user
        try:
            record = trials.order_trial(mode, parse_number(request.POST.get("length", "")), user)
        except BadInput as error:
            messages.error(request, error.sentence)
            return redirect("mode", pk)
        return redirect("print-file", record.pk)
    context = {"mode": mode, "found": trials.newest_trial(mode), "length": trials.USUAL_LENGTH}
    return render(request, "printroom/_trial.html", context)


@takes(USE)
@require_POST
def print_fault(request: HttpRequest, pk: int) -> HttpResponse:
    """Mark a fault on the picture of a print, or take a mark off."""
    record, sent = get_object_or_404(Print, pk=pk), request.POST
    user: Any = request.user
    try:
        if sent.get("off", "").isdecimal():
            trials.unmark_fault(record, int(sent["off"]))
        else:
            x, y = (parse_number(sent.get(name, "")) / 100.0 for name in ("across", "along"))
            trials.mark_fault(record, sent.get("kind", ""), x, y, user, sent.get("note", ""))
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("print", pk)


@takes(USE)
@require_POST
def print_judge(request: HttpRequest, pk: int) -> HttpResponse:
    """Say whether what a print shows is fit."""
    record = get_object_or_404(Print, pk=pk)
    user: Any = request.user
    try:
        trials.judge(record, request.POST.get("as") == "fit", user, request.POST.get("note", ""))
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("print", pk)
