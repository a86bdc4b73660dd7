"""Pages that keep modes true."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.builds import queries
from greyanchor.builds.maintenance import restores
from greyanchor.builds.models import Baseline, Restore
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file
from greyanchor.profiles.aims import keep_aim
from greyanchor.profiles.models import AimRecord


def _restore(pk: int) -> Restore:
    return get_object_or_404(
        Restore.objects.select_related(
            "mode__printer",
            "mode__media",
            "mode__ink_set",
            "baseline",
            "sheet_print__chart",
            "confirm_print__chart",
            "started_by",
        ),
        pk=pk,
    )


@require_POST
def restore_start(request: HttpRequest, pk: int) -> HttpResponse:
    """Begin to restore a mode."""
    mode = get_object_or_404(PrintMode.objects.select_related("printer", "media", "ink_set"), pk=pk)
    found = restores.start_restore(mode, request.user, {"method": request.POST.get("method", "strip")})
    return redirect("restore", pk=found.pk)


@require_GET
def restore_page(request: HttpRequest, pk: int) -> HttpResponse:
    found = _restore(pk)
    return render(
        request, "builds/restore_page.html", {"r": found, "mode": found.mode, **queries.restore_view(found)}
    )


@require_POST
def restore_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Print, read, upload, confirm, use or close."""
    found = _restore(pk)
    job = found.confirm_print if request.POST.get("which") == "confirm" else found.sheet_print
    reason = request.POST.get("reason", "").strip()
    try:
        if act == "print" and job is not None:
            print_sheet(job.pk, request.user)
            messages.success(request, "Printed through the curves, colour management off.")
        elif act == "read" and job is not None:
            return redirect("reading", pk=start_pass(job, request.user).pk)
        elif act == "upload" and job is not None:
            return redirect("upload", pk=take_file(request, job).pk)
        elif act == "confirm":
            restores.print_confirmation(found)
        elif act == "use":
            restores.use_curves(found, reason, request.user)
            messages.success(request, f"The corrected curves of {found.mode.name} are in use.")
        elif act == "close":
            restores.close_restore(found, reason or "closed without a change")
            messages.info(request, "Closed. The mode was not changed.")
        else:
            raise BadInput("there is nothing to do that with yet")
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
    return redirect("restore", pk=pk)


@require_POST
def baseline_aim(request: HttpRequest, pk: int) -> HttpResponse:
    """Make an aim of a mode's baseline: its short chart as it read on the day its curves were accepted."""
    mode = get_object_or_404(PrintMode, pk=pk)
    found = Baseline.objects.filter(mode=mode).first()
    try:
        if found is None:
            raise BadInput(f"{mode.name} has no baseline: its curves were not made from readings of its own")
        name = f"{mode.name}, baseline of {found.taken_at:%-d %B %Y}"
        source = "confirmed by a print" if found.confirmed else "predicted from the ramps"
        made = keep_aim(
            name[:120], found.text.encode(), "baseline.txt", source, request.user, AimRecord.Kind.MODE
        )
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("mode", pk=pk)
    messages.success(request, f"{made} is an aim now.")
    return redirect("aim", pk=made.pk)
