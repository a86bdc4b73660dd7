"""Pages of builds: the log, and the acts on its stages."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.bench import charts, eye, forms, inheriting, kinds, queries, services
from greyanchor.bench.background import cancel_task, start_profile
from greyanchor.bench.models import Build, Stage, Task
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts import sheets
from greyanchor.core.charts.layout import plan as plan_sheets
from greyanchor.core.errors import BadInput
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_on_standin
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file

DECISIONS = {
    kinds.TOTAL_INK: forms.TotalInkForm,
    kinds.RELEASE: forms.ReleaseForm,
}


@require_GET
def build_page(request: HttpRequest, pk: int) -> HttpResponse:
    return _page(request, _build(pk))


def _build(pk: int) -> Build:
    return get_object_or_404(
        Build.objects.select_related(
            "mode__printer__site", "mode__media__media_class", "mode__ink_set", "owner", "base__mode"
        ),
        pk=pk,
    )


def _page(
    request: HttpRequest, build: Build, bound: Any = None, bound_kind: str = "", status: int = 200
) -> HttpResponse:
    views = queries.log(build)
    for view in views:
        if view.stage.state == Stage.State.OPEN:
            view.form = bound if bound_kind == view.kind.name else _decision_form(view.stage, build)
            if view.lenders:
                view.more["inherit"] = forms.InheritForm(
                    lenders=view.lenders,
                    initial={"version": build.version},
                    prefix=f"inherit-{view.kind.name}",
                )
    context = {**_common(build), "log": views, "small_curves": queries.mode_curves(build)}
    return render(request, "bench/build_page.html", context, status=status)


def _common(build: Build) -> dict[str, Any]:
    """What the log and a single stage of it both need."""
    return {
        "build": build,
        "mode": build.mode,
        "options": _option_forms(build),
        "can_redo": build.finished_at is None,
        "can_change": build.finished_at is None and build.mode.state in ("building", "ready"),
    }


@require_GET
def stage_part(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """The evidence of a folded stage, brought when somebody opens it."""
    view = queries.stage_view(_stage(pk, kind))
    return render(request, "bench/_stage.html", {**_common(_build(pk)), "v": view, "s": view.stage})


def _decision_form(stage: Stage, build: Build, data: Any = None) -> forms.DecisionForm:
    initial: dict[str, Any] = {"version": build.version}
    if stage.kind == kinds.INK_LIMITS:
        result = stage.result or {"limits": {}, "splits": []}
        initial |= {c: v["percent"] for c, v in result["limits"].items()}
        return forms.LimitsForm(
            data,
            initial=initial,
            prefix=stage.kind,
            channels=list(result["limits"]) or list("CMYK"),
            splits=result.get("splits", []),
        )
    if stage.kind == kinds.TOTAL_INK and stage.result:
        initial["total_ink"] = stage.result["percent"]
    return DECISIONS.get(stage.kind, forms.DecisionForm)(data, initial=initial, prefix=stage.kind)


def _option_forms(build: Build) -> dict[str, Any]:
    stages = {s.kind: s for s in build.stages.all()}
    total = (stages[kinds.TOTAL_INK].decision or {}).get("total_ink", 300)
    return {
        "profile_chart": forms.ProfileChartOptions(
            initial={**build.measuring, **stages[kinds.PROFILE_CHART].options}
        ),
        "profile": forms.ProfileOptions(
            initial={"title": build.mode.name, "total_ink": total, **stages[kinds.PROFILE].options}
        ),
        "check": forms.CheckOptions(initial=stages[kinds.CHECK].options),
        "tone_aim": forms.ToneAimForm(initial=stages[kinds.LINEARIZATION].options),
        "measuring": forms.MeasuringForm(
            initial={"method": "strip", "page": "a4", "dots": 1, **build.measuring}
        ),
    }


def _stage(pk: int, kind: str) -> Stage:
    return get_object_or_404(
        Stage.objects.select_related(
            "build__mode__profile", "build__mode__ink_set", "build__mode__media__media_class", "build__mode__printer",
            "build__base__mode", "sheet_print__chart", "confirm_print__chart",
        ),
        build=pk,
        kind=kind,
    )  # fmt: skip


def _back(stage: Stage) -> HttpResponse:
    return redirect(f"/builds/{stage.build_id}/#{stage.kind}")


def _told(request: HttpRequest, error: BadInput) -> None:
    messages.error(request, f"{error.sentence} Nothing was changed.")


def _form_told(request: HttpRequest, form: Any) -> None:
    messages.error(
        request, " ".join(f"{name}: {' '.join(map(str, errors))}" for name, errors in form.errors.items())
    )


# --- charts and readings ---------------------------------------------------------------------


@require_POST
def stage_lay_out(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Lay out the stage's chart with the options that were chosen."""
    stage = _stage(pk, kind)
    form_class = {kinds.PROFILE_CHART: forms.ProfileChartOptions, kinds.CHECK: forms.CheckOptions}.get(
        kind, forms.MeasuringForm
    )
    form = form_class(request.POST)
    if not form.is_valid():
        _form_told(request, form)
        return _back(stage)
    options = {k: (v.pk if hasattr(v, "pk") else v) for k, v in form.cleaned_data.items()}
    if kind == kinds.LINEARIZATION:
        options["aim"] = stage.options.get("aim", "sctv")
    try:
        if stage.state != Stage.State.OPEN:
            raise BadInput(f"{kinds.BY_NAME[kind].title} is not open")
        charts.lay_out_stage(stage, options)
    except BadInput as error:
        _told(request, error)
    return _back(stage)


@require_GET
def stage_plan(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Sheets, rows and minutes of the choices in a form, before anything is laid out."""
    stage = _stage(pk, kind)
    form = forms.MeasuringForm(request.GET)
    told = "Choose how it is read."
    if form.is_valid():
        count = request.GET.get("patches", "")
        if not count.isdigit():
            count = str(len(stage.sheet_print.chart.patches)) if stage.sheet_print else "100"
        data = form.cleaned_data
        try:
            charts.plan_of(stage.build, data)
            plan = plan_sheets(int(count), data["page"], data["method"], data["patch"], data["dots"])
        except BadInput as error:
            told = error.sentence
        else:
            told = (
                f"{count} patches in {plan.rows} rows on {plan.sheets} sheet{'s' if plan.sheets > 1 else ''}, "
                f"about {plan.minutes:.0f} min a pass: {plan.method.hands}."
            )
    return render(request, "bench/_plan.html", {"told": told})


def _job(stage: Stage, which: str) -> SheetPrint | None:
    return stage.confirm_print if which == "confirm" else stage.sheet_print


@require_POST
def stage_confirm(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay the confirming chart out through the curves found."""
    stage = _stage(pk, kinds.LINEARIZATION)
    try:
        charts.lay_out_confirmation(stage)
    except BadInput as error:
        _told(request, error)
    return _back(stage)


@require_POST
def stage_print(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = _stage(pk, kind)
    job = _job(stage, request.POST.get("which", ""))
    if job is None:
        messages.error(request, "This stage has no chart yet.")
    else:
        printed = print_on_standin(job.pk, request.user)
        dry = printed.minutes_to_dry
        when = f" It is dry in {dry:.0f} minutes." if dry > 0.5 else " It can be read now."
        messages.success(request, f"Printed on the stand-in printer, raw.{when}")
    return _back(stage)


@require_POST
def stage_read(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Begin a pass, or go on with the open one, on the reading page."""
    stage = _stage(pk, kind)
    job = _job(stage, request.POST.get("which", ""))
    try:
        if job is None:
            raise BadInput("this stage has no chart yet")
        current = start_pass(job, request.user, request.POST.get("condition", ""))
    except BadInput as error:
        _told(request, error)
        return _back(stage)
    return redirect("reading", pk=current.pk)


@require_POST
def stage_upload(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Take a file for this stage; it is looked at before it is used."""
    stage = _stage(pk, kind)
    try:
        job = _job(stage, request.POST.get("which", ""))
        if job is None or stage.state != Stage.State.OPEN:
            raise BadInput("this stage takes no readings now")
        upload = take_file(request, job)
    except BadInput as error:
        _told(request, error)
        return _back(stage)
    return redirect("upload", pk=upload.pk)


@require_GET
def stage_sheets(request: HttpRequest, pk: int, kind: str, form: str) -> HttpResponse:
    """The stage's chart: sheets as TIFF or PDF with the raw values to print, or the chart as CGATS text."""
    stage = _stage(pk, kind)
    job = _job(stage, request.GET.get("which", ""))
    if job is None:
        messages.error(request, "This stage has no chart yet.")
        return _back(stage)
    name = f"{stage.build.mode.name}-{kind}".replace(" ", "-")
    if form == "txt":
        data, content = job.chart.text.encode(), "text/plain; charset=utf-8"
    else:
        draw, content = {"tif": (sheets.tiff, "image/tiff"), "pdf": (sheets.pdf, "application/pdf")}[form]
        data = draw(job.raw_chart)
    return _download(data, content, f"{name}.{form}")


def _download(data: str | bytes, content_type: str, name: str) -> HttpResponse:
    plain = name.encode("ascii", "replace").decode().replace("?", "-")
    return HttpResponse(
        data, content_type=content_type, headers={"Content-Disposition": f'attachment; filename="{plain}"'}
    )


# --- decisions -------------------------------------------------------------------------------


@require_POST
def stage_accept(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage, build = _stage(pk, kind), _build(pk)
    form = _decision_form(stage, build, request.POST)
    if form.is_valid():
        try:
            services.accept_stage(
                stage.pk,
                form.cleaned_data["version"],
                form.values(),
                form.cleaned_data["reason"].strip(),
                request.user,
            )
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            title = kinds.BY_NAME[kind].title
            if kind == kinds.RELEASE:
                messages.success(request, f"{stage.build.mode.name} is released to the library.")
                return redirect("mode", pk=stage.build.mode_id)
            messages.success(request, f"{title} accepted.")
            return _to_open_stage(build)
    build = _build(pk)
    form.data = form.data.copy()
    form.data[f"{kind}-version"] = str(build.version)
    return _page(request, build, form, kind, status=422)


def _to_open_stage(build: Build) -> HttpResponse:
    following = build.stages.filter(state=Stage.State.OPEN).first()
    return redirect(f"/builds/{build.pk}/#{following.kind if following else ''}")


@require_POST
def stage_skip(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Go on without a check."""
    stage = _stage(pk, kind)
    try:
        services.skip_check(
            stage.pk,
            int(request.POST.get("version") or 0),
            request.POST.get("reason", "").strip(),
            request.user,
        )
    except BadInput as error:
        _told(request, error)
        return _back(stage)
    messages.info(request, "Left out. The mode says that it was never checked.")
    return _to_open_stage(stage.build)


@require_POST
def stage_inherit(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Take what another mode has."""
    stage = _stage(pk, kind)
    form = forms.InheritForm(request.POST, lenders=inheriting.lenders(stage), prefix=f"inherit-{kind}")
    if not form.is_valid():
        _form_told(request, form)
        return _back(stage)
    data = form.cleaned_data
    try:
        inheriting.inherit(stage.pk, data["version"], data["lender"], data["reason"].strip(), request.user)
    except BadInput as error:
        _told(request, error)
        return _back(stage)
    messages.success(
        request, f"{kinds.BY_NAME[kind].title} inherited. The mode says so until it has its own."
    )
    return _to_open_stage(stage.build)


@require_POST
def stage_redo(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = _stage(pk, kind)
    try:
        services.redo_stage(stage.pk, int(request.POST.get("version") or 0), request.user)
    except BadInput as error:
        _told(request, error)
    else:
        messages.info(
            request,
            f"{kinds.BY_NAME[kind].title} is open again. What rested on it is void and kept in the log.",
        )
    return _back(stage)


# --- ink limits, curves and totals -----------------------------------------------------------


@require_GET
def limits_cost(request: HttpRequest, pk: int) -> HttpResponse:
    """What the limits in the form would cost in gamut and save in ink."""
    stage = _stage(pk, kinds.INK_LIMITS)
    if stage.sheet_print is None or not stage.result:
        raise BadInput("the ramps are not read yet")
    limits = {c: v["percent"] for c, v in stage.result["limits"].items()}
    for channel in limits:
        try:
            limits[channel] = float(request.GET.get(f"{kinds.INK_LIMITS}-{channel}", ""))
        except ValueError:
            continue
    return render(request, "bench/_limit_cost.html", {"cost": queries.cost_of(stage, limits)})


@require_GET
def total_cost(request: HttpRequest, pk: int) -> HttpResponse:
    """What the total in the form means for gamut, darkness and drying."""
    stage = _stage(pk, kinds.TOTAL_INK)
    if stage.sheet_print is None or not stage.result:
        raise BadInput("the sums are not read yet")
    try:
        total = float(request.GET.get(f"{kinds.TOTAL_INK}-total_ink", ""))
    except ValueError:
        total = stage.result["percent"]
    told = queries.total_consequences(stage, min(max(total, 100.0), 400.0))
    return render(request, "bench/_total_cost.html", {"c": told})


@require_GET
def eye_picture(request: HttpRequest, pk: int, kind: str, subject: str) -> HttpResponse:
    """The stand-in's print of a ramp or of rising sums, as a picture."""
    data = eye.picture(_build(pk), kind, subject)
    return HttpResponse(data, content_type="image/png", headers={"Cache-Control": "private, max-age=300"})


@require_POST
def stage_mark(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Keep the last good step of every fault."""
    stage = _stage(pk, kind)
    told: dict[str, dict[str, float | None]] = {}
    for key, value in request.POST.items():
        subject, bar, fault = key.partition("|")
        if bar:
            told.setdefault(subject, {})[fault] = float(value) if value else None
    try:
        eye.mark(stage, told)
    except (BadInput, ValueError) as error:
        _told(request, error if isinstance(error, BadInput) else BadInput("a mark is not a number"))
    else:
        messages.success(request, "Marks kept.")
    return _back(stage)


def match_page(request: HttpRequest, pk: int, channel: str) -> HttpResponse:
    """Match steps to dithers by eye, one channel at a time."""
    stage = _stage(pk, kinds.LINEARIZATION)
    if channel not in "CMYK" or stage.state != Stage.State.OPEN:
        raise BadInput("pairs are matched while linearization is open")
    if request.method == "POST":
        told: dict[str, list[float]] = {}
        for key, value in request.POST.items():
            tone, bar, _ = key.partition("|")
            if bar and value:
                told.setdefault(tone, []).append(float(value))
        try:
            eye.match(stage, {channel: told})
        except BadInput as error:
            _told(request, error)
            return redirect("match", pk=pk, channel=channel)
        following = next((c for c in "CMYK" if not eye.matched(stage, c)), None)
        if following:
            messages.success(request, f"{channel} is matched. {following} comes next.")
            return redirect("match", pk=pk, channel=following)
        messages.success(request, "Every ink is matched; the curves are computed.")
        return _back(stage)
    context = {
        "build": stage.build,
        "mode": stage.build.mode,
        "channel": channel,
        "rows": queries.match_view(stage, channel),
    }
    return render(request, "bench/match_page.html", context)


@require_POST
def stage_tone_aim(request: HttpRequest, pk: int) -> HttpResponse:
    stage = _stage(pk, kinds.LINEARIZATION)
    form = forms.ToneAimForm(request.POST)
    if form.is_valid() and stage.state == Stage.State.OPEN:
        charts.change_tone_aim(stage, form.cleaned_data["aim"])
    return _back(stage)


@require_POST
def stage_touch(request: HttpRequest, pk: int) -> HttpResponse:
    """Move a handle of a curve, or take a channel's moves back."""
    stage = _stage(pk, kinds.LINEARIZATION)
    output = request.POST.get("output", "")
    try:
        charts.touch_curve(
            stage,
            request.POST.get("channel", ""),
            request.POST.get("input", ""),
            float(output) if output else None,
        )
    except (BadInput, ValueError) as error:
        _told(request, error if isinstance(error, BadInput) else BadInput("that is not a number"))
    return _back(stage)


@require_GET
def stage_curves(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """The linearization curves as CSV or JSON."""
    stage = _stage(pk, kinds.LINEARIZATION)
    if not stage.result:
        raise BadInput("there are no curves yet")
    text = stage.result["curves_csv"]
    if ending == "json":
        return _download(CurveSet.from_csv(text).to_json(), "application/json", f"curves-{pk}.json")
    return _download(text, "text/csv; charset=utf-8", f"curves-{pk}.csv")


# --- profile ---------------------------------------------------------------------------------


@require_POST
def profile_start(request: HttpRequest, pk: int) -> HttpResponse:
    stage = _stage(pk, kinds.PROFILE)
    form = forms.ProfileOptions(request.POST)
    if not form.is_valid():
        _form_told(request, form)
        return _back(stage)
    try:
        start_profile(stage, form.cleaned_data, request.user)
    except BadInput as error:
        _told(request, error)
    return _back(stage)


@require_GET
def task_part(request: HttpRequest, pk: int) -> HttpResponse:
    """The progress of a task, swapped in place; the page is loaded anew when it ends."""
    task = get_object_or_404(Task.objects.select_related("stage__build"), pk=pk)
    if not task.is_active or task.looks_dead:
        return HttpResponse(headers={"HX-Refresh": "true"})
    return render(request, "bench/_task.html", {"task": task})


@require_POST
def task_cancel(request: HttpRequest, pk: int) -> HttpResponse:
    task = get_object_or_404(Task.objects.select_related("stage"), pk=pk)
    cancel_task(pk)
    messages.info(request, "The task is asked to stop.")
    return _back(task.stage)
