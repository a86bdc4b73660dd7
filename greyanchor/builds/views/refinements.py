"""Pages that refine a mode's profile."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.background.parts import ended
from greyanchor.background.work import cancel
from greyanchor.builds.maintenance import refinements
from greyanchor.builds.models import Refinement, RefineRound
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.refine import MOVED
from greyanchor.drawing.plots import Axis, Series, line_plot
from greyanchor.library.models import PrintMode
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.prints import print_view
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file


def _refinement(pk: int) -> Refinement:
    found = Refinement.objects.select_related(
        "mode__printer", "mode__media", "mode__ink_set", "started_by", "base"
    )
    return get_object_or_404(found.defer("base__data", "base__fitted"), pk=pk)


@require_POST
def refine_start(request: HttpRequest, pk: int) -> HttpResponse:
    """Begin to refine the profile of a mode."""
    modes = PrintMode.objects.select_related("printer", "media", "ink_set", "profile")
    try:
        made = refinements.start(get_object_or_404(modes, pk=pk), request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
        return redirect("mode", pk=pk)
    return redirect("refinement", pk=made.pk)


@require_GET
def refinement_page(request: HttpRequest, pk: int) -> HttpResponse:
    """Rounds with their figures, and the print of the present one."""
    made = _refinement(pk)
    rounds = list(
        made.rounds.select_related("through", "after", "sheet_print__chart").defer(
            "through__data", "through__fitted", "after__data", "after__fitted"
        )
    )
    last = rounds[-1]
    context = {
        "r": made,
        "mode": made.mode,
        "rounds": rounds,
        "last": last,
        "open": made.finished_at is None,
        "print": print_view(last.sheet_print, 1),
        "picture": _picture(rounds),
        "restore_first": MOVED,
    }
    return render(request, "builds/refinement_page.html", context)


def _picture(rounds: list[RefineRound]) -> str:
    items = [r.result for r in rounds if r.result]
    if len(items) < 2:
        return ""
    number = [r.number for r in rounds if r.result]
    lines = [
        Series("print, off", number, [r["off"]["mean"] for r in items]),
        Series("noise", number, [r["noise"] for r in items], style="dotted"),
    ]
    top = max(0.5, 1.15 * max(r["off"]["mean"] for r in items))
    return line_plot(
        lines,
        Axis("round", 1, max(number)),
        Axis("mean dE00", 0, top),
        "how far each round's print was off",
        height=200,
    )


@require_GET
def round_part(request: HttpRequest, pk: int) -> HttpResponse:
    """The progress of a round, swapped in place."""
    found = get_object_or_404(RefineRound, pk=pk)
    if not found.is_active or found.looks_dead:
        return ended("The round is computed.")
    return render(request, "builds/_round.html", {"last": found})


@require_POST
def refinement_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Print, read, upload, learn again, stop, another round, use or close."""
    made = _refinement(pk)
    reason = request.POST.get("reason", "").strip()
    try:
        job, last = refinements.job_of(made), made.rounds.latest("number")
        if act == "print":
            print_sheet(job.pk, request.user)
            messages.success(request, "Printed through the profile's ink values and the curves.")
        elif act == "read":
            return redirect("reading", pk=start_pass(job, request.user).pk)
        elif act == "upload":
            return redirect("upload", pk=take_file(request, job).pk)
        elif act == "learn" and job.passes.filter(state="done").exists():
            refinements.start_round(last)
        elif act == "stop":
            cancel(RefineRound, last.pk)
        elif act == "another":
            refinements.another(made)
        elif act == "use":
            refinements.use(made, reason, request.user)
            messages.success(request, f"{made.mode.name} prints through its refined profile now.")
        elif act == "close":
            refinements.close(made, reason or "closed without a change")
            messages.info(request, "Closed. The mode was not changed.")
        else:
            raise BadInput("there is nothing to do that with yet")
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
    return redirect("refinement", pk=pk)
