"""What a technician moves, marks and matches: limits, faults, pairs, curves, totals."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.builds import forms, queries
from greyanchor.builds.evidence import curve_edits, visual
from greyanchor.builds.models import Stage
from greyanchor.builds.stages import ink_limits, names, total_ink
from greyanchor.builds.stages.matching import matched
from greyanchor.builds.views.builds import back_to, build_of, download, show_refusal, stage_of
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.measuring.pipelines import channels_of


@require_GET
def limits_cost(request: HttpRequest, pk: int) -> HttpResponse:
    """What the limits in the form would cost in gamut and save in ink."""
    stage = stage_of(pk, names.INK_LIMITS)
    if stage.sheet_print is None or not stage.result:
        raise BadInput("the ramps are not read yet")
    limits = {c: v["percent"] for c, v in stage.result["limits"].items()}
    for channel in limits:
        try:
            limits[channel] = parse_number(request.GET.get(f"{names.INK_LIMITS}-{channel}", ""))
        except BadInput:
            continue
    return render(request, "builds/_limit_cost.html", {"cost": ink_limits.cost_of(stage, limits)})


@require_GET
def total_cost(request: HttpRequest, pk: int) -> HttpResponse:
    """What the total in the form means for gamut, darkness and drying."""
    stage = stage_of(pk, names.TOTAL_INK)
    if stage.sheet_print is None or not stage.result:
        raise BadInput("the sums are not read yet")
    try:
        total = parse_number(request.GET.get(f"{names.TOTAL_INK}-total_ink", ""))
    except BadInput:
        total = stage.result["percent"]
    found = total_ink.consequences(stage, min(max(total, 100.0), 400.0))
    return render(request, "builds/_total_cost.html", {"c": found})


@require_GET
def eye_picture(request: HttpRequest, pk: int, kind: str, subject: str) -> HttpResponse:
    """The print of a ramp or of rising sums, as a picture."""
    data = visual.picture(build_of(pk), kind, subject)
    return HttpResponse(data, content_type="image/png", headers={"Cache-Control": "private, max-age=300"})


@takes(MAKE)
@require_POST
def stage_mark(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Keep the last good step of every fault."""
    stage = stage_of(pk, kind)
    facts: dict[str, dict[str, float | None]] = {}
    for key, value in request.POST.items():
        subject, bar, fault = key.partition("|")
        if bar:
            facts.setdefault(subject, {})[fault] = float(str(value)) if value else None
    try:
        visual.mark(stage, facts)
    except (BadInput, ValueError) as error:
        show_refusal(request, error if isinstance(error, BadInput) else BadInput("a mark is not a number"))
    else:
        messages.success(request, "Marks kept.")
    return back_to(stage)


@takes(MAKE)
def match_page(request: HttpRequest, pk: int, channel: str) -> HttpResponse:
    """Match steps to dithers by eye, one channel at a time."""
    stage = stage_of(pk, names.LINEARIZATION)
    inks = channels_of(stage.build.mode.ink_set)
    if channel not in inks or stage.state != Stage.State.OPEN:
        raise BadInput("pairs are matched while linearization is open")
    if request.method == "POST":
        facts: dict[str, list[float]] = {}
        for key, value in request.POST.items():
            tone, bar, _ = key.partition("|")
            if bar and value:
                facts.setdefault(tone, []).append(float(str(value)))
        try:
            visual.match(stage, {channel: facts})
        except BadInput as error:
            show_refusal(request, error)
            return redirect("match", pk=pk, channel=channel)
        following = next((c for c in inks if not matched(stage, c)), None)
        if following:
            messages.success(request, f"{channel} is matched. {following} comes next.")
            return redirect("match", pk=pk, channel=following)
        messages.success(request, "Every ink is matched; the curves are computed.")
        return back_to(stage)
    context = {
        "build": stage.build,
        "mode": stage.build.mode,
        "channel": channel,
        "rows": queries.match_view(stage, channel),
    }
    return render(request, "builds/match_page.html", context)


@takes(MAKE)
@require_POST
def stage_tone_aim(request: HttpRequest, pk: int) -> HttpResponse:
    stage = stage_of(pk, names.LINEARIZATION)
    form = forms.ToneAimForm(request.POST)
    if form.is_valid() and stage.state == Stage.State.OPEN:
        curve_edits.change_tone_aim(stage, form.cleaned_data["aim"])
    return back_to(stage)


@takes(MAKE)
@require_POST
def stage_choose(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Take a choice that changes what a stage found; a second print through the old one is set aside."""
    stage = stage_of(pk, kind)
    try:
        curve_edits.choose(stage, request.POST)
    except BadInput as error:
        show_refusal(request, error)
    return back_to(stage)


@takes(MAKE)
@require_POST
def stage_touch(request: HttpRequest, pk: int) -> HttpResponse:
    """Move a handle of a curve, or take a channel's moves back."""
    stage = stage_of(pk, names.LINEARIZATION)
    output = request.POST.get("output", "")
    try:
        curve_edits.move_handle(
            stage,
            request.POST.get("channel", ""),
            request.POST.get("input", ""),
            parse_number(output) if output else None,
        )
    except (BadInput, ValueError) as error:
        show_refusal(request, error if isinstance(error, BadInput) else BadInput("that is not a number"))
    return back_to(stage)


@require_GET
def stage_curves(request: HttpRequest, pk: int, kind: str, ending: str) -> HttpResponse:
    """The curves that a stage found as CSV or JSON."""
    stage = stage_of(pk, kind)
    if "curves_csv" not in (stage.result or {}):
        raise BadInput("there are no curves yet")
    assert stage.result is not None
    text = stage.result["curves_csv"]
    if ending == "json":
        return download(CurveSet.from_csv(text).to_json(), "application/json", f"curves-{pk}.json")
    return download(text, "text/csv; charset=utf-8", f"curves-{pk}.csv")
