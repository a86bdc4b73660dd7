"""Charts of stages: laid out, computed from their readings, printed a second time to confirm."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.evidence.log import set_aside
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.base import ChartDesign
from greyanchor.builds.stages.registry import type_of
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.errors import BadInput
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.pipelines import dry_minutes
from greyanchor.measuring.printing import ReadingPlan, make_chart, prepare_print
from greyanchor.measuring.services import averaged


def plan_of(build: Build, options: dict[str, Any]) -> ReadingPlan:
    """How a stage's chart is to be read: its own choices over the build's."""
    chosen = {k: v for k, v in options.items() if k in ("method", "page", "patch", "dots") and v}
    plan = ReadingPlan.of({**build.measuring, **chosen})
    media = build.mode.media
    check_travel(plan.method, media.name, media.travels_backwards, not media.unreadable)
    return plan


def _prepare(stage: Stage, design: ChartDesign, options: dict[str, Any]) -> SheetPrint:
    """Lay a design out on sheets and settle its raw values."""
    build, mode = stage.build, stage.build.mode
    environment = build.print_environment
    subject = design.subject or type_of(stage).title.lower()
    title = f"{mode.name}: {subject} chart"
    plan = plan_of(build, options)
    chart = make_chart(
        design.purpose, design.device, title, environment, plan, design.channels, design.names, design.facts
    )
    return prepare_print(
        chart,
        environment,
        design.raw_of(chart.patches),
        f"/builds/{build.pk}/#{stage.kind}",
        mode.printer,
        design.sent or design.channels,
        dry_minutes(mode.ink_set, mode.media),
    )


@needs(MAKE)
@transaction.atomic
def lay_out_stage(stage: Stage, options: dict[str, Any]) -> SheetPrint:
    """Design and keep the stage's chart; an earlier chart and its readings are set aside in the log."""
    job = _prepare(stage, type_of(stage).chart(stage, options), options)
    if stage.result is not None:
        set_aside(stage, "laid out again")
    stage.sheet_print, stage.options, stage.result = job, options, None
    stage.confirm_print, stage.made_under = None, stage.build.environment
    stage.save()
    return job


@needs(MAKE)
@transaction.atomic
def lay_out_confirmation(stage: Stage) -> SheetPrint:
    """A second print through what an open stage has found, to see whether it holds."""
    job = _prepare(stage, type_of(stage).confirmation(stage), stage.options)
    stage.confirm_print = job
    stage.result = {k: v for k, v in (stage.result or {}).items() if k != "confirm"}
    stage.save(update_fields=["confirm_print", "result"])
    return job


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Compute what depends on a finished pass."""
    job = reading_pass.sheet_print_id
    for stage in Stage.objects.filter(sheet_print=job, state=Stage.State.OPEN):
        compute_stage(stage)
    for stage in Stage.objects.filter(confirm_print=job, state=Stage.State.OPEN):
        compute_confirmation(stage)


def on_readings_suspect(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Take back what open stages computed from readings that are suspect."""
    job = reading_pass.sheet_print_id
    for stage in Stage.objects.filter(sheet_print=job, state=Stage.State.OPEN):
        stage.result = None
        stage.save(update_fields=["result"])
    for stage in Stage.objects.filter(confirm_print=job, state=Stage.State.OPEN).exclude(result=None):
        stage.result = {k: v for k, v in (stage.result or {}).items() if k != "confirm"}
        stage.save(update_fields=["result"])


@transaction.atomic
def compute_stage(stage: Stage) -> None:
    """The stage's result from the average of its passes."""
    if stage.sheet_print is None:
        raise BadInput("this stage has no chart yet")
    stage.result = type_of(stage).compute(stage, averaged(stage.sheet_print)).to_json()
    stage.save()


@transaction.atomic
def compute_confirmation(stage: Stage) -> None:
    """What the second print measured."""
    if stage.confirm_print is None or not stage.result:
        raise BadInput("the curves were not printed yet")
    found = type_of(stage).compute_confirmation(stage, averaged(stage.confirm_print))
    stage.result = found.to_json()
    stage.save(update_fields=["result"])
