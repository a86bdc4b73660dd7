"""Pages of builds: the log, and the acts on its stages."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.background.parts import ended
from greyanchor.background.work import cancel
from greyanchor.builds import attached_profiles, forms, queries
from greyanchor.builds.enqueue import start_profile
from greyanchor.builds.evidence import charts
from greyanchor.builds.expected import expected_of
from greyanchor.builds.lifecycle import decisions, inheritance, redo
from greyanchor.builds.models import Build, Stage, Task
from greyanchor.builds.stages import names
from greyanchor.builds.stages.registry import type_of
from greyanchor.core.charts import sheet_pdf, sheets
from greyanchor.core.charts.layout import plan as plan_sheets
from greyanchor.core.errors import BadInput
from greyanchor.library.machines.readiness import dues_of
from greyanchor.library.records.editing import Outdated
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file
from greyanchor.profiles.services import content_of


@require_GET
def build_page(request: HttpRequest, pk: int) -> HttpResponse:
    return _page(request, build_of(pk))


def build_of(pk: int) -> Build:
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
                view.inherit = forms.InheritForm(
                    lenders=view.lenders,
                    initial={"version": build.version},
                    prefix=f"inherit-{view.kind.name}",
                )
    overdue = (
        [d for d in dues_of(build.mode.printer) if d.due.overdue]
        if build.mode.printer.abilities and build.finished_at is None
        else []
    )
    context = {**_common(build), "log": views, "small_curves": queries.mode_curves(build), "overdue": overdue}
    context["expected"] = expected_of(build) if build.finished_at is None else None
    return render(request, "builds/build_page.html", context, status=status)


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
    view = queries.stage_view(stage_of(pk, kind))
    return render(request, view.kind.template, {**_common(build_of(pk)), "v": view, "s": view.stage})


def _decision_form(stage: Stage, build: Build, data: Any = None) -> forms.DecisionForm:
    return type_of(stage).decision_form(stage, data, {"version": build.version})


def _option_forms(build: Build) -> dict[str, Any]:
    stages = {s.kind: s for s in build.stages.all()}
    most = 100 * len(build.mode.ink_set.channels)
    total_stage = stages.get(names.TOTAL_INK)
    said: dict[str, Any] = (total_stage.decision if total_stage else None) or {}
    total = said.get("total_ink", min(300, most))

    def chosen(name: str) -> dict[str, Any]:
        return stages[name].options if name in stages else {}

    return {
        "profile_chart": forms.ProfileChartOptions(
            initial={**build.measuring, **chosen(names.PROFILE_CHART)}
        ),
        "profile": forms.ProfileOptions(
            channels=build.mode.ink_set.channels,
            initial={
                "title": build.mode.name,
                "total_ink": total,
                **_shown({"overprints": said.get("overprints", {}), **chosen(names.PROFILE)}),
            },
        ),
        "check": forms.CheckOptions(initial=chosen(names.CHECK)),
        "tone_aim": forms.ToneAimForm(initial=chosen(names.LINEARIZATION)),
        "measuring": forms.MeasuringForm(
            initial={"method": "strip", "page": "a4", "dots": 1, **build.measuring}
        ),
    }


def _shown(options: dict[str, Any]) -> dict[str, Any]:
    """Options of a profile as its form shows them: limits of single inks in one line."""
    limits = ", ".join(f"{c}={v:g}" for c, v in (options.get("limits") or {}).items())
    overprints = ", ".join(f"{k}={v:g}" for k, v in (options.get("overprints") or {}).items())
    return {**options, "limits": limits, "overprints": overprints}


def stage_of(pk: int, kind: str) -> Stage:
    return get_object_or_404(
        Stage.objects.select_related(
            "build__mode__profile",
            "build__mode__ink_set",
            "build__mode__media__media_class",
            "build__mode__printer",
            "build__base__mode",
            "sheet_print__chart",
            "confirm_print__chart",
        ),
        build=pk,
        kind=kind,
    )


def back_to(stage: Stage) -> HttpResponse:
    return redirect(f"/builds/{stage.build_id}/#{stage.kind}")


def show_refusal(request: HttpRequest, error: BadInput) -> None:
    stale = "stale" if isinstance(error, Outdated) else ""
    messages.error(request, f"{error.sentence} Nothing was changed.", extra_tags=stale)


def _show_form_errors(request: HttpRequest, form: Any) -> None:
    messages.error(
        request, " ".join(f"{name}: {' '.join(map(str, errors))}" for name, errors in form.errors.items())
    )


# --- charts and readings ---------------------------------------------------------------------


@takes(MAKE)
@require_POST
def stage_lay_out(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Lay out the stage's chart with the options that were chosen."""
    stage = stage_of(pk, kind)
    form = type_of(stage).layout_form(request.POST)
    if not form.is_valid():
        _show_form_errors(request, form)
        return back_to(stage)
    options = {k: (v.pk if hasattr(v, "pk") else v) for k, v in form.cleaned_data.items()}
    options = type_of(stage).layout_options(stage, options)
    try:
        if stage.state != Stage.State.OPEN:
            raise BadInput(f"{type_of(stage).title} is not open")
        charts.lay_out_stage(stage, options)
    except BadInput as error:
        show_refusal(request, error)
    return back_to(stage)


@require_GET
def stage_plan(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Sheets, rows and minutes of the choices in a form, before anything is laid out."""
    stage = stage_of(pk, kind)
    form = forms.MeasuringForm(request.GET)
    text = "Choose how it is read."
    if form.is_valid():
        count = request.GET.get("patches", "")
        if not count.isdecimal():
            count = str(len(stage.sheet_print.chart.patches)) if stage.sheet_print else "100"
        data = form.cleaned_data
        try:
            charts.plan_of(stage.build, data)
            plan = plan_sheets(int(count), data["page"], data["method"], data["patch"], data["dots"])
        except BadInput as error:
            text = error.sentence
        else:
            text = (
                f"{count} patches in {plan.rows} rows on {plan.sheets} "
                f"sheet{'s' if plan.sheets > 1 else ''}, "
                f"about {plan.minutes:.0f} min a pass: {plan.method.hands}."
            )
    return render(request, "builds/_plan.html", {"message": text})


def _job(stage: Stage, which: str) -> SheetPrint | None:
    return stage.confirm_print if which == "confirm" else stage.sheet_print


@require_POST
def stage_confirm(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Lay the confirming chart out through the curves found; for grey balance, the verification."""
    stage = stage_of(pk, kind)
    try:
        charts.lay_out_confirmation(stage)
    except BadInput as error:
        show_refusal(request, error)
    return back_to(stage)


@require_POST
def stage_print(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = stage_of(pk, kind)
    job = _job(stage, request.POST.get("which", ""))
    if job is None:
        messages.error(request, "This stage has no chart yet.")
    else:
        printed = print_sheet(job.pk, request.user)
        dry = printed.minutes_to_dry
        when = f" It is dry in {dry:.0f} minutes." if dry > 0.5 else " It can be read now."
        messages.success(request, f"Printed raw.{when}")
    return back_to(stage)


@require_POST
def stage_read(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Begin a pass, or go on with the open one, on the reading page."""
    stage = stage_of(pk, kind)
    job = _job(stage, request.POST.get("which", ""))
    try:
        if job is None:
            raise BadInput("this stage has no chart yet")
        current = start_pass(job, request.user, request.POST.get("condition", ""))
    except BadInput as error:
        show_refusal(request, error)
        return back_to(stage)
    return redirect("reading", pk=current.pk)


@require_POST
def stage_upload(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Take a file for this stage; it is looked at before it is used."""
    stage = stage_of(pk, kind)
    try:
        job = _job(stage, request.POST.get("which", ""))
        if job is None or stage.state != Stage.State.OPEN:
            raise BadInput("this stage takes no readings now")
        upload = take_file(request, job)
    except BadInput as error:
        show_refusal(request, error)
        return back_to(stage)
    return redirect("upload", pk=upload.pk)


@require_GET
def stage_sheets(request: HttpRequest, pk: int, kind: str, form: str) -> HttpResponse:
    """The stage's chart: sheets as TIFF or PDF with the raw values to print, or the chart as CGATS text."""
    stage = stage_of(pk, kind)
    job = _job(stage, request.GET.get("which", ""))
    if job is None:
        messages.error(request, "This stage has no chart yet.")
        return back_to(stage)
    name = f"{stage.build.mode.name}-{kind}".replace(" ", "-")
    if form == "txt":
        data, content = job.chart.text.encode(), "text/plain; charset=utf-8"
    else:
        draw, content = {"tif": (sheets.tiff, "image/tiff"), "pdf": (sheet_pdf.pdf, "application/pdf")}[form]
        data = draw(job.raw_chart)
    return download(data, content, f"{name}.{form}")


def download(data: str | bytes, content_type: str, name: str) -> HttpResponse:
    plain = name.encode("ascii", "replace").decode().replace("?", "-")
    return HttpResponse(
        data, content_type=content_type, headers={"Content-Disposition": f'attachment; filename="{plain}"'}
    )


# --- decisions -------------------------------------------------------------------------------


@takes(MAKE)
@require_POST
def stage_accept(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage, build = stage_of(pk, kind), build_of(pk)
    form = _decision_form(stage, build, request.POST)
    if form.is_valid():
        try:
            decisions.accept_stage(
                stage.pk,
                form.cleaned_data["version"],
                form.values(),
                form.cleaned_data["reason"].strip(),
                request.user,
            )
        except Outdated as error:
            show_refusal(request, error)
            return back_to(stage)
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            if type_of(stage).releases:
                messages.success(request, f"{stage.build.mode.name} is released to the library.")
                return redirect("mode", pk=stage.build.mode_id)
            messages.success(request, f"{type_of(stage).title} accepted.")
            return _to_open_stage(build)
    build = build_of(pk)
    form.data = {**form.data.dict(), f"{kind}-version": str(build.version)}  # type: ignore[attr-defined]
    return _page(request, build, form, kind, status=422)


def _to_open_stage(build: Build) -> HttpResponse:
    following = build.stages.filter(state=Stage.State.OPEN).first()
    return redirect(f"/builds/{build.pk}/#{following.kind if following else ''}")


@takes(MAKE)
@require_POST
def stage_skip(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Go on without a check, or without grey balance."""
    stage = stage_of(pk, kind)
    try:
        decisions.skip_stage(
            stage.pk,
            int(request.POST.get("version") or 0),
            request.POST.get("reason", "").strip(),
            request.user,
        )
    except BadInput as error:
        show_refusal(request, error)
        return back_to(stage)
    messages.info(request, "Left out. The log says so, and why.")
    return _to_open_stage(stage.build)


@takes(MAKE)
@require_POST
def stage_inherit(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Take what another mode has."""
    stage = stage_of(pk, kind)
    form = forms.InheritForm(request.POST, lenders=inheritance.lenders(stage), prefix=f"inherit-{kind}")
    if not form.is_valid():
        _show_form_errors(request, form)
        return back_to(stage)
    data = form.cleaned_data
    try:
        inheritance.inherit(stage.pk, data["version"], data["lender"], data["reason"].strip(), request.user)
    except BadInput as error:
        show_refusal(request, error)
        return back_to(stage)
    messages.success(request, f"{type_of(stage).title} inherited. The mode says so until it has its own.")
    return _to_open_stage(stage.build)


@takes(MAKE)
@require_POST
def stage_redo(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = stage_of(pk, kind)
    try:
        redo.redo_stage(stage.pk, int(request.POST.get("version") or 0), request.user)
    except BadInput as error:
        show_refusal(request, error)
    else:
        messages.info(
            request,
            f"{type_of(stage).title} is open again. Later results are invalidated and stay in the log.",
        )
    return back_to(stage)


# --- profile ---------------------------------------------------------------------------------


@takes(MAKE)
@require_POST
def profile_start(request: HttpRequest, pk: int) -> HttpResponse:
    stage = stage_of(pk, names.PROFILE)
    form = forms.ProfileOptions(request.POST, channels=stage.build.mode.ink_set.channels)
    if not form.is_valid():
        _show_form_errors(request, form)
        return back_to(stage)
    try:
        start_profile(stage, form.cleaned_data, request.user)
    except BadInput as error:
        show_refusal(request, error)
    return back_to(stage)


@takes(MAKE)
@require_POST
def profile_attach(request: HttpRequest, pk: int) -> HttpResponse:
    """Use a profile that was made elsewhere, once it was examined."""
    stage = stage_of(pk, names.PROFILE)
    sent = request.FILES.get("file")
    try:
        if sent is None:
            raise BadInput("choose a profile first")
        attached_profiles.attach_profile(stage, content_of(sent), sent.name, request.user)
    except BadInput as error:
        show_refusal(request, error)
    else:
        messages.success(request, f"{sent.name} is attached. Inspects figures before you accept it.")
    return back_to(stage)


@require_GET
def task_part(request: HttpRequest, pk: int) -> HttpResponse:
    """The progress of a task, swapped in place; the page is loaded again when it ends."""
    task = get_object_or_404(Task.objects.select_related("stage__build"), pk=pk)
    if not task.is_active or task.looks_dead:
        done = task.state == Task.State.DONE
        return ended("The profile is built." if done else "Building the profile ended.")
    return render(request, "builds/_task.html", {"task": task})


@require_POST
def task_cancel(request: HttpRequest, pk: int) -> HttpResponse:
    task = get_object_or_404(Task.objects.select_related("stage"), pk=pk)
    cancel(Task, pk)
    messages.info(request, "Stopping the task.")
    return back_to(task.stage)
