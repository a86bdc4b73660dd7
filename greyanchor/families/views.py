"""Pages of families."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, RELEASE, may, takes
from greyanchor.background.parts import ended
from greyanchor.core.errors import BadInput
from greyanchor.families import queries, services
from greyanchor.families.models import Family, FamilyMember, FamilyWork
from greyanchor.library.models import PrintMode
from greyanchor.printroom.models import Job


@require_GET
def families_page(request: HttpRequest) -> HttpResponse:
    """All families."""
    found = Family.objects.prefetch_related("members__mode__printer")
    return render(request, "families/families.html", {"families": found})


@takes(MAKE)
def family_new(request: HttpRequest) -> HttpResponse:
    """Which modes are to print alike."""
    person: Any = request.user
    error, chosen = "", request.POST.getlist("mode")
    if request.method == "POST":
        modes = list(PrintMode.objects.select_related("profile", "ink_set").filter(
            pk__in=[c for c in chosen if c.isdecimal()]
        ))  # fmt: skip
        tinted = request.POST.get("white") != "bare"
        try:
            made = services.make_family(request.POST.get("name", ""), modes, tinted, person)
        except BadInput as refused:
            error = refused.sentence
        else:
            return redirect("family", pk=made.pk)
    context = {
        "modes": queries.candidates(),
        "error": error,
        "chosen": chosen,
        "name": request.POST.get("name", ""),
    }
    return render(request, "families/new.html", context, status=422 if error else 200)


@require_GET
def family_page(request: HttpRequest, pk: int) -> HttpResponse:
    """How far apart the members are, what they have in common, and what it costs each."""
    family = get_object_or_404(Family.objects.select_related("aim", "made_by"), pk=pk)
    context = {
        "family": family,
        **queries.page_of(family),
        "candidates": queries.candidates(family),
        "may_make": may(request.user, MAKE),
        "may_release": may(request.user, RELEASE),
    }
    return render(request, "families/family.html", context)


@require_GET
def family_work(request: HttpRequest, pk: int) -> HttpResponse:
    """How the computing goes, for the page that waits for it."""
    work = get_object_or_404(FamilyWork.objects.filter(family=pk)[:1])
    if not work.is_active:
        return ended(
            "The family is computed." if work.state == work.State.DONE else work.message or "It stopped."
        )
    return render(request, "families/_work.html", {"work": work})


@takes(MAKE)
@require_POST
def family_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Join, leave, compute again, use the family's profiles, or end it."""
    family = get_object_or_404(Family, pk=pk)
    number = request.POST.get("version", "")
    based_on, person = int(number) if number.isdecimal() else 0, request.user
    doing: Any = {
        "join": lambda: services.join(family, _mode(request), based_on, person),  # type: ignore[arg-type]
        "leave": lambda: services.leave(_member(request, family), based_on, person),  # type: ignore[arg-type]
        "compute": lambda: services.compute(family, person),  # type: ignore[arg-type]
        "use": lambda: services.use_profiles(family, based_on, person),  # type: ignore[arg-type]
        "end": lambda: services.end(family, based_on, person),  # type: ignore[arg-type]
    }
    try:
        doing[act]()
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("family", pk=pk)
    if act == "end":
        messages.success(request, f"{family.name} is ended; its modes print through their own profiles.")
        return redirect("families")
    if act == "use":
        messages.success(request, "Every member prints through its family profile from now on.")
    return redirect("family", pk=pk)


def _number(request: HttpRequest, name: str) -> int:
    value = request.POST.get(name, "")
    return int(value) if value.isdecimal() else 0


def _mode(request: HttpRequest) -> PrintMode:
    modes = PrintMode.objects.select_related("profile", "ink_set")
    return get_object_or_404(modes, pk=_number(request, "mode"))


def _member(request: HttpRequest, family: Family) -> FamilyMember:
    members = FamilyMember.objects.select_related("family", "mode", "own")
    return get_object_or_404(members, pk=_number(request, "member"), family=family)


@require_GET
def sisters(request: HttpRequest, pk: int) -> HttpResponse:
    """Where a job can go as well, with the difference that is expected, for the light table."""
    job = get_object_or_404(Job.objects.select_related("mode"), pk=pk)
    found = queries.free(job.mode) if job.mode else []
    return render(request, "families/_sisters.html", {"job": job, "found": found})
