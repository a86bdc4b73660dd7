"""Pages over many checks: figures over time, what is due, comparisons, and which mode fits an aim."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.last_used import opens_with
from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, takes
from greyanchor.checks import trends
from greyanchor.checks.forms import NewScheduleForm, ScheduleForm
from greyanchor.checks.models import Check, Schedule
from greyanchor.checks.tolerance_sets import all_keys, tolerance_set
from greyanchor.core import cells
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.tolerances import MEASURES
from greyanchor.core.verification.trend import FEWEST_POINTS, REFERENCE_POINTS, RULES
from greyanchor.drawing.proof import trend_view
from greyanchor.library.models import Printer, PrintMode

_ROWS = 40


def _chosen(request: HttpRequest) -> tuple[trends.Question, Any]:
    """What the address asks for: a subject (``mode-3``, ``printer-1``, ``site-2``), a set and a criterion."""
    key = request.GET.get("tolerances", "iso12647-7:2016")
    limits = tolerance_set(key)
    named = request.GET.get("criterion", "")
    criterion = next(
        (c for c in limits.criteria if c.id == named), limits.criteria[min(1, len(limits.criteria) - 1)]
    )
    kind, _, number = request.GET.get("of", "").partition("-")
    subject = {kind: int(number)} if kind in ("mode", "printer", "site") and number.isdecimal() else {}
    return trends.Question(criterion.id, key, **subject), criterion


def _likely_trend() -> dict[str, Any]:
    """The mode with the most checks under one set: a trend has something to show there."""
    counted = Check.objects.exclude(mode=None).values("mode", "tolerances").annotate(n=Count("pk"))
    most = counted.order_by("-n", "-mode").first()
    return {"of": f"mode-{most['mode']}", "tolerances": most["tolerances"]} if most else {}


@require_GET
@opens_with("trend", _likely_trend)
def trend_page(request: HttpRequest) -> HttpResponse:
    """One figure over time, with control limits, signals, tolerance and forecast."""
    try:
        question, criterion = _chosen(request)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("trends")
    mode = PrintMode.objects.filter(pk=question.mode).first() if question.mode else None
    restored = trends.process_began(mode) if mode else None
    since = restored if restored and request.GET.get("all") != "1" else None
    reference = request.GET.get("reference", "")
    points_of_reference = int(reference) if reference.isdecimal() and len(reference) < 5 else None
    found = trends.ask(question, since, points_of_reference)
    signals: dict[int, list[int]] = {}
    for signal in found.trend.signals:
        signals.setdefault(signal.at, []).append(signal.rule)
    points = [
        {
            "check": pk,
            "at": at,
            "value": v,
            "rules": signals.get(i, []),
            "over": found.limit is not None and v > found.limit,
        }
        for i, (pk, at, v) in enumerate(zip(found.checks, found.dates, found.values))
    ]
    unit = MEASURES[criterion.measure]
    context = {
        "series": found,
        "criterion": criterion,
        "question": question,
        "of": request.GET.get("of", ""),
        "unit": unit,
        "plot": _plot(found, unit, criterion.title),
        "points": points[::-1][:_ROWS],
        "rules": RULES,
        "fewest": FEWEST_POINTS,
        "restored": restored,
        "reference": points_of_reference or REFERENCE_POINTS,
        "since": since,
        "criteria": tolerance_set(question.tolerances).criteria,
        "sets": all_keys(),
        **subject_choices(),
        "query": request.GET.urlencode(),
    }
    return render(request, "checks/trend_page.html", context)


def _plot(found: trends.Series, unit: str, title: str) -> str:
    if not found.values:
        return ""
    return trend_view(found.days, found.values, found.trend, found.limit, unit, title, timezone.localdate())


def subject_choices() -> dict[str, Any]:
    """Whose figures can be asked for: modes, printers and sites."""
    return {
        "modes": PrintMode.objects.filter(checks__isnull=False).distinct().only("pk", "name"),
        "printers": Printer.objects.only("pk", "name"),
        "sites": Site.objects.all(),
    }


@require_GET
def trend_csv(request: HttpRequest) -> HttpResponse:
    """The series of the trend page."""
    try:
        question, _ = _chosen(request)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("trends")
    response = HttpResponse(
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="trend.csv"'},
    )
    writer = cells.Writer(response)
    writer.writerow(["check", "made", question.criterion])
    found = trends.ask(question)
    writer.writerows(
        (pk, at.isoformat(), value) for pk, at, value in zip(found.checks, found.dates, found.values)
    )
    return response


# --- schedules ---------------------------------------------------------------------------------


@require_GET
def schedule_page(request: HttpRequest) -> HttpResponse:
    """Every schedule with the day it is due, and a form for another."""
    usual = {"tolerances": "iso12647-7:2016"}
    new = NewScheduleForm(initial={**usual, "mode": request.GET.get("mode")})
    context = {"dues": trends.dues(only_soon=False), "form": new}
    return render(request, "checks/schedule_page.html", context)


@takes(MAKE)
@require_POST
def schedule_save(request: HttpRequest) -> HttpResponse:
    """A schedule for a mode, in place of the one it has."""
    form = NewScheduleForm(request.POST)
    if not form.is_valid():
        messages.error(request, "; ".join(f"{k}: {' '.join(map(str, v))}" for k, v in form.errors.items()))
        return redirect("schedules")
    values = {k: v for k, v in form.cleaned_data.items() if k in ScheduleForm.base_fields}
    mode = form.cleaned_data["mode"]
    trends.set_schedule(mode, values, request.user)
    messages.success(request, f"{mode.name} is checked every {values['every_days']} days.")
    return redirect("schedules")


@takes(MAKE)
@require_POST
def schedule_remove(request: HttpRequest, pk: int) -> HttpResponse:
    plan = get_object_or_404(Schedule.objects.select_related("mode"), pk=pk)
    trends.set_schedule(plan.mode, None, request.user)
    messages.info(request, f"{plan.mode.name} is no longer checked by a schedule.")
    return redirect("schedules")


# --- side by side ------------------------------------------------------------------------------
