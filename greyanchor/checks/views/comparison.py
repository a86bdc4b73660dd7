"""Checks and modes compared with one another."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, Max
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from greyanchor.accounts.last_used import opens_with
from greyanchor.accounts.models import Site
from greyanchor.checks.comparing import AT_ONCE, compare_sides, match_modes, side
from greyanchor.checks.forms import PredictionForm
from greyanchor.checks.models import Check
from greyanchor.checks.tolerance_sets import all_keys
from greyanchor.checks.views.trends import subject_choices
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Printer, PrintMode
from greyanchor.profiles.models import AimRecord


def _likely_sides() -> dict[str, Any]:
    """The last two checks of a mode under one set, of the mode that was checked last."""
    checked = Check.objects.exclude(mode=None)
    often = checked.values("mode", "tolerances").annotate(times=Count("pk"), last=Max("made_at"))
    found = often.filter(times__gt=1).order_by("-last").first()
    if found is None:
        return {}
    both = checked.filter(mode=found["mode"], tolerances=found["tolerances"]).order_by("-made_at", "-pk")
    b, a = both.values_list("pk", flat=True)[:2]
    return {"a": f"check-{a}", "b": f"check-{b}", "tolerances": found["tolerances"]}


@require_GET
@opens_with("compare", _likely_sides)
def compare_page(request: HttpRequest) -> HttpResponse:
    """Two checks, printers, sites, modes, or a mode before and after its restore."""
    key = request.GET.get("tolerances", "iso12647-7:2016")
    context: dict[str, Any] = {
        "sets": all_keys(),
        "tolerances": key,
        "a_text": request.GET.get("a", ""),
        "b_text": request.GET.get("b", ""),
        "newest": Check.objects.select_related("mode").defer("readings", "result", "criteria")[:40],
        **subject_choices(),
    }
    if context["a_text"] and context["b_text"]:
        try:
            context["found"] = compare_sides(side(context["a_text"], key), side(context["b_text"], key))
        except BadInput as error:
            context["error"] = error.sentence
        except (Printer.DoesNotExist, Site.DoesNotExist, PrintMode.DoesNotExist):
            context["error"] = "One side is no longer there."
    return render(request, "checks/compare_page.html", context)


def _likely_aim() -> dict[str, Any]:
    first = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data").first()
    return {"aim": first.pk, "tolerances": "iso12647-7:2016", "corrected": "on"} if first else {}


@require_GET
@opens_with("which mode fits", _likely_aim)
def match_page(request: HttpRequest) -> HttpResponse:
    """Which of many modes meets an aim best, by what their profiles predict."""
    first = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data").first()
    usual = {"aim": first.pk if first else None, "tolerances": "iso12647-7:2016", "corrected": True}
    form = PredictionForm(request.GET or None, initial=usual)
    context: dict[str, Any] = {"form": form}
    if form.is_valid():
        d = form.cleaned_data
        modes = PrintMode.objects.filter(state=PrintMode.State.RELEASED).exclude(profile=None)
        modes = modes.select_related("printer__site", "media", "profile").defer(
            "profile__data", "profile__fitted"
        )
        context["matches"] = match_modes(d["aim"], d["tolerances"], d["corrected"], modes[:AT_ONCE])
        context["count"] = modes.count()
    return render(request, "checks/match_page.html", context)
