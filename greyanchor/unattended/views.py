"""Pages of what machines do alone."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, may, takes
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.unattended import forms, queries, services, sheets
from greyanchor.unattended.models import NightRule, Unattended
from greyanchor.unattended.ready import standings

_OVER_SHOWN = 40


@require_GET
def overview(request: HttpRequest) -> HttpResponse:
    """What needs a person, what goes on, what was done, and by which rules modes are kept true."""
    works, by_hand = queries.works(), queries.by_hand()
    stopped = list(works.filter(state=Unattended.State.STOPPED))
    return render(
        request,
        "unattended/overview.html",
        {
            "stopped": stopped,
            "rolls": queries.rolls(),
            "waiting": len(stopped) + len(by_hand),
            "going": works.filter(state=Unattended.State.GOING).order_by("printer__name", "pk"),
            "over": works.filter(state__in=Unattended.OVER)[:_OVER_SHOWN],
            "by_hand": by_hand,
            "rules": queries.rules(),
            "without_rule": queries.without_rule(),
            "machines": queries.machines(),
            "to_hand_over": queries.to_hand_over(),
            "may_make": may(request.user, MAKE),
        },
    )


@require_GET
def work_page(request: HttpRequest, pk: int) -> HttpResponse:
    """One build or night, with every step and decision."""
    work = get_object_or_404(
        queries.works().select_related("build", "restore", "check_print", "check_made"), pk=pk
    )
    return render(request, "unattended/work.html", {"w": work, "steps": work.steps.all()})


@require_POST
def work_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Let it go on, or take it from the machine."""
    work = get_object_or_404(Unattended, pk=pk)
    try:
        (services.carry_on if act == "go-on" else services.end)(work, request.user)  # type: ignore[operator]
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("unattended-work", pk=pk)


@takes(MAKE)
def build_alone(request: HttpRequest, pk: int) -> HttpResponse:
    """What a person would choose on the way, then the machine carries the build on."""
    build = get_object_or_404(
        Build.objects.select_related("mode__printer__site", "mode__media", "mode__ink_set"), pk=pk
    )
    going = build.unattended.exclude(state__in=Unattended.OVER).first()
    if going is not None:
        return redirect("unattended-work", pk=going.pk)
    form = forms.WishesForm(request.POST or None, initial=queries.usual_check(build.mode))
    if request.method == "POST" and form.is_valid():
        try:
            work = services.start_build_alone(build, form.wishes(), request.user)  # type: ignore[arg-type]
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, f"{build.mode.printer.name} carries this build on by itself.")
            return redirect("unattended-work", pk=work.pk)
    printer, media = build.mode.printer, build.mode.media
    able = sheets.can_alone(printer) and media.travels_backwards
    return render(
        request,
        "unattended/build.html",
        {
            "build": build,
            "mode": build.mode,
            "form": form,
            "able": able,
            "standings": standings(printer, media) if able else [],
            "before": queries.works().filter(printer=printer).exclude(state__in=Unattended.OVER),
        },
        status=422 if form.errors else 200,
    )


@takes(MAKE)
def night_rule(request: HttpRequest, pk: int) -> HttpResponse:
    """The rule by which a mode is kept true, and what it has done."""
    mode = get_object_or_404(PrintMode.objects.select_related("printer__site", "media", "ink_set"), pk=pk)
    rule = NightRule.objects.filter(mode=mode).first()
    initial = {name: getattr(rule, name) for name in forms.RuleForm.base_fields} if rule else {}
    form = forms.RuleForm(request.POST or None, initial=initial)
    person: Any = request.user
    if request.method == "POST" and form.is_valid():
        try:
            services.set_rule(mode, form.values(), form.cleaned_data["version"] or 0, person)
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, f"How {mode.name} is kept true is kept.")
            return redirect("night-rule", pk=pk)
    return render(
        request,
        "unattended/night_rule.html",
        {
            "mode": mode,
            "rule": rule,
            "form": form,
            "alone": sheets.can_alone(mode.printer) and mode.media.travels_backwards,
            "nights": queries.works().filter(mode=mode, kind=Unattended.Kind.NIGHT)[:_OVER_SHOWN],
        },
        status=422 if form.errors else 200,
    )


@takes(MAKE)
@require_POST
def night_now(request: HttpRequest, pk: int) -> HttpResponse:
    """Let the machine hold a mode to its baseline now."""
    mode = get_object_or_404(PrintMode.objects.select_related("printer__site", "media", "ink_set"), pk=pk)
    try:
        work = services.start_night(mode, request.user)  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("night-rule", pk=pk)
    return redirect("unattended-work", pk=work.pk)


@takes(MAKE)
@require_POST
def begin_now(request: HttpRequest) -> HttpResponse:
    """Let the night begin now."""
    person: Any = request.user
    count = services.begin_now(person)
    if count:
        messages.success(
            request, f"The night begins on {count} mode{'s' * (count != 1)} within a few seconds."
        )
    else:
        messages.error(request, "No rule is of a machine that does it alone.")
    return redirect("unattended")
