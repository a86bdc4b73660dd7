"""Pages of the bench."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.bench import forms, kinds, queries, services
from greyanchor.bench.models import Build, Stage, Task
from greyanchor.core.charts import sheets
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Media, Printer
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.services import print_on_standin, start_pass, take_upload

DECISIONS = {
    kinds.INK_LIMITS: forms.LimitsForm,
    kinds.TOTAL_INK: forms.TotalInkForm,
    kinds.RELEASE: forms.ReleaseForm,
}


def new_build(request: HttpRequest) -> HttpResponse:
    initial = _suggestion(request)
    form = forms.NewBuildForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            build = services.start_build(
                data["name"],
                data["printer"],
                data["ink_set"],
                data["media"],
                form.environment(),
                request.user,
            )
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, "The environment is frozen. Ink limits come first.")
            return redirect("build", pk=build.pk)
    printers = Printer.objects.select_related("site").prefetch_related("ink_sets")
    context = {"form": form, "printers": printers, "media": Media.objects.select_related("media_class")}
    return render(request, "bench/new_build.html", context, status=422 if request.method == "POST" else 200)


def _suggestion(request: HttpRequest) -> dict[str, Any]:
    """Sensible first values for a printer and media that were chosen elsewhere."""
    initial: dict[str, Any] = {}
    printer, media = request.GET.get("printer", ""), request.GET.get("media", "")
    chosen_printer = Printer.objects.filter(pk=printer).first() if printer.isdigit() else None
    if chosen_printer is None:  # begin with a machine that can be built on
        chosen_printer = next(
            (
                p
                for p in Printer.objects.prefetch_related("ink_sets")
                if any(i.can_be_built for i in p.ink_sets.all())
            ),
            None,
        )
    chosen_media = Media.objects.filter(pk=media).first() if media.isdigit() else Media.objects.first()
    if chosen_printer:
        initial |= {
            "printer": chosen_printer.pk,
            "ink_set": next((i.pk for i in chosen_printer.ink_sets.all() if i.can_be_built), None),
            "passes": 8 if 8 in chosen_printer.passes else max(chosen_printer.passes),
        }
    if chosen_media:
        initial |= {"media": chosen_media.pk, "heat": chosen_media.heat, "vacuum": chosen_media.vacuum}
    if chosen_printer and chosen_media:
        initial["name"] = f"{chosen_media.name}, {chosen_printer.name}, {initial['passes']} pass"
    return initial


@require_GET
def build_page(request: HttpRequest, pk: int) -> HttpResponse:
    return _page(request, _build(pk))


def _build(pk: int) -> Build:
    return get_object_or_404(
        Build.objects.select_related("mode__printer__site", "mode__media", "mode__ink_set", "owner"), pk=pk
    )


def _page(
    request: HttpRequest, build: Build, bound: Any = None, bound_kind: str = "", status: int = 200
) -> HttpResponse:
    views = queries.log(build)
    for view in views:
        if view.stage.state == Stage.State.OPEN:
            view.form = bound if bound_kind == view.kind.name else _decision_form(view.stage, build)
    context = {**_common(build), "log": views, "small_curves": queries.mode_curves(build)}
    return render(request, "bench/build_page.html", context, status=status)


def _common(build: Build) -> dict[str, Any]:
    """What the log and a single stage of it both need."""
    return {
        "build": build,
        "mode": build.mode,
        "options": _option_forms(build),
        "can_redo": build.mode.state in ("building", "ready"),
    }


@require_GET
def stage_part(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """The evidence of a folded stage, brought when somebody opens it."""
    view = queries.stage_view(_stage(pk, kind))
    return render(request, "bench/_stage.html", {**_common(_build(pk)), "v": view, "s": view.stage})


def _decision_form(stage: Stage, build: Build) -> forms.DecisionForm:
    initial: dict[str, Any] = {"version": build.version}
    if stage.kind == kinds.INK_LIMITS and stage.result:
        initial |= {c: v["percent"] for c, v in stage.result["limits"].items()}
    elif stage.kind == kinds.TOTAL_INK and stage.result:
        initial["total_ink"] = stage.result["percent"]
    return DECISIONS.get(stage.kind, forms.DecisionForm)(initial=initial, prefix=stage.kind)


def _option_forms(build: Build) -> dict[str, Any]:
    stages = {s.kind: s for s in build.stages.all()}
    total = (stages[kinds.TOTAL_INK].decision or {}).get("total_ink", 300)
    return {
        "profile_chart": forms.ProfileChartOptions(initial=stages[kinds.PROFILE_CHART].options),
        "profile": forms.ProfileOptions(
            initial={"title": build.mode.name, "total_ink": total, **stages[kinds.PROFILE].options}
        ),
        "check": forms.CheckOptions(initial=stages[kinds.CHECK].options),
        "tone_aim": forms.ToneAimForm(initial=stages[kinds.LINEARIZATION].options),
    }


def _stage(pk: int, kind: str) -> Stage:
    return get_object_or_404(
        Stage.objects.select_related("build__mode__profile", "sheet_print__chart"), build=pk, kind=kind
    )


def _back(stage: Stage) -> HttpResponse:
    return redirect(f"/builds/{stage.build_id}/#{stage.kind}")


def _told(request: HttpRequest, error: BadInput) -> None:
    messages.error(request, f"{error.sentence} Nothing was changed.")


@require_POST
def stage_lay_out(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Lay out the stage's chart with the options that were chosen."""
    stage = _stage(pk, kind)
    form_class = {kinds.PROFILE_CHART: forms.ProfileChartOptions, kinds.CHECK: forms.CheckOptions}.get(kind)
    options: dict[str, Any] = {}
    if form_class is not None:
        form = form_class(request.POST)
        if not form.is_valid():
            messages.error(
                request,
                " ".join(f"{name}: {' '.join(map(str, errors))}" for name, errors in form.errors.items()),
            )
            return _back(stage)
        options = {k: (v.pk if hasattr(v, "pk") else v) for k, v in form.cleaned_data.items()}
    try:
        if stage.state != Stage.State.OPEN:
            raise BadInput(f"{kinds.BY_NAME[kind].title} is not open")
        services.lay_out_stage(stage, options)
    except BadInput as error:
        _told(request, error)
    return _back(stage)


@require_POST
def stage_print(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = _stage(pk, kind)
    if stage.sheet_print_id is None:
        messages.error(request, "This stage has no chart yet.")
    else:
        print_on_standin(stage.sheet_print_id, request.user)
        messages.success(request, "Printed on the stand-in printer, raw. It can be read now.")
    return _back(stage)


@require_POST
def stage_read(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Begin a pass, or go on with the open one, on the reading page."""
    stage = _stage(pk, kind)
    try:
        if stage.sheet_print is None:
            raise BadInput("this stage has no chart yet")
        current = start_pass(stage.sheet_print, request.user)
    except BadInput as error:
        _told(request, error)
        return _back(stage)
    return redirect("reading", pk=current.pk)


@require_POST
def stage_upload(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = _stage(pk, kind)
    sent = request.FILES.get("file")
    try:
        if stage.sheet_print is None or stage.state != Stage.State.OPEN:
            raise BadInput("this stage takes no readings now")
        if sent is None:
            raise BadInput("choose a readings file first")
        if sent.size > settings.UPLOAD_LIMIT:
            raise BadInput(
                f"{sent.name} has {sent.size / 2**20:.0f} MB; files up to {settings.UPLOAD_LIMIT // 2**20} MB are taken"
            )
        taken = take_upload(stage.sheet_print, sent.read(), sent.name, request.user)
    except BadInput as error:
        _told(request, error)
    else:
        messages.success(request, f"{sent.name} is kept as pass {taken.number}.")
    return _back(stage)


@require_POST
def stage_accept(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    stage = _stage(pk, kind)
    form = DECISIONS.get(kind, forms.DecisionForm)(request.POST, prefix=kind)
    if form.is_valid():
        try:
            done = services.accept_stage(
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
            following = stage.build.stages.get(position=done.position + 1)
            return redirect(f"/builds/{pk}/#{following.kind}")
    build = _build(pk)
    form.data = form.data.copy()
    form.data[f"{kind}-version"] = str(build.version)
    return _page(request, build, form, kind, status=422)


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


@require_POST
def stage_tone_aim(request: HttpRequest, pk: int) -> HttpResponse:
    stage = _stage(pk, kinds.LINEARIZATION)
    form = forms.ToneAimForm(request.POST)
    if form.is_valid() and stage.state == Stage.State.OPEN:
        services.change_tone_aim(stage, form.cleaned_data["aim"])
    return _back(stage)


@require_POST
def profile_start(request: HttpRequest, pk: int) -> HttpResponse:
    stage = _stage(pk, kinds.PROFILE)
    form = forms.ProfileOptions(request.POST)
    if not form.is_valid():
        messages.error(
            request, " ".join(f"{name}: {' '.join(map(str, errors))}" for name, errors in form.errors.items())
        )
        return _back(stage)
    try:
        services.start_profile(stage, form.cleaned_data, request.user)
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
    services.cancel_task(pk)
    messages.info(request, "The task is asked to stop.")
    return _back(task.stage)


@require_GET
def stage_sheets(request: HttpRequest, pk: int, kind: str, form: str) -> HttpResponse:
    """The stage's chart: sheets as TIFF or PDF with the raw values to print, or the chart as CGATS text."""
    stage = _stage(pk, kind)
    job: SheetPrint | None = stage.sheet_print
    if job is None:
        messages.error(request, "This stage has no chart yet.")
        return _back(stage)
    name = f"{stage.build.mode.name}-{kind}".replace(" ", "-")
    if form == "txt":
        data, content = job.chart.text.encode(), "text/plain; charset=utf-8"
    else:
        draw, content = {"tif": (sheets.tiff, "image/tiff"), "pdf": (sheets.pdf, "application/pdf")}[form]
        data = draw(job.raw_chart)
    plain = name.encode("ascii", "replace").decode().replace("?", "-")
    return HttpResponse(
        data, content_type=content, headers={"Content-Disposition": f'attachment; filename="{plain}.{form}"'}
    )


@require_GET
def stage_curves(request: HttpRequest, pk: int) -> HttpResponse:
    """The linearization curves as CSV."""
    stage = _stage(pk, kinds.LINEARIZATION)
    text = (stage.result or {}).get("curves_csv", "channel,input,output\n")
    return HttpResponse(
        text,
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="curves-{pk}.csv"'},
    )
