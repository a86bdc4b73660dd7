"""Charts of stages: what is printed, through what, and what its readings give."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.log import set_aside
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import kinds, results
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.linearization import parse_aim
from greyanchor.core.calibration.restore import short_chart
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.charts.patches import design
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.verification.aims import strip_through_profile
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.pipelines import CMYK, dry_minutes, sent_channels, to_raw
from greyanchor.measuring.printing import ReadingPlan, make_chart, prepare_print
from greyanchor.measuring.services import averaged
from greyanchor.profiles.models import AimRecord, Profile, ProposedPatches
from greyanchor.profiles.queries import aim_of

#: the tolerance set that grey balance is verified under
VERIFIED_UNDER = "g7-grayscale"
CHART_PURPOSE = {
    kinds.INK_LIMITS: "ink-limit",
    kinds.LINEARIZATION: "linearization",
    kinds.GREYS: "grey",
    kinds.TOTAL_INK: "total-ink",
    kinds.PROFILE_CHART: "profile",
    kinds.CHECK: "control-strip",
}


def decided(build: Build, kind: str) -> dict[str, Any]:
    """The decision of an accepted stage; `BadInput` when it stands open."""
    stage = build.stages.get(kind=kind)
    if stage.state != Stage.State.ACCEPTED or stage.decision is None:
        raise BadInput(f"{kinds.BY_NAME[kind].title} must be accepted first")
    return dict(stage.decision)


def curves_of(build: Build) -> CurveSet:
    """The accepted curves: those of grey balance where it was done, else the linearization."""
    greys = build.stages.filter(kind=kinds.GREYS, state=Stage.State.ACCEPTED).first()
    if greys is not None and greys.result:
        return CurveSet.from_csv(greys.result["curves_csv"], "curves of this build")
    return linear_curves(build)


def linear_curves(build: Build) -> CurveSet:
    """The accepted linearization."""
    stage = build.stages.get(kind=kinds.LINEARIZATION)
    if stage.state != Stage.State.ACCEPTED or not stage.result:
        raise BadInput("Linearization must be accepted first")
    return CurveSet.from_csv(stage.result["curves_csv"], "curves of this build")


def profile_of(build: Build) -> Profile:
    """The accepted profile."""
    stage = build.stages.select_related("profile").get(kind=kinds.PROFILE)
    if stage.state != Stage.State.ACCEPTED or stage.profile is None:
        raise BadInput("Profile must be accepted first")
    return stage.profile


def plan_of(build: Build, options: dict[str, Any]) -> ReadingPlan:
    """How a stage's chart is to be read: its own choices over the build's."""
    told = {k: v for k, v in options.items() if k in ("method", "page", "patch", "dots") and v}
    plan = ReadingPlan.of({**build.measuring, **told})
    media = build.mode.media
    check_travel(plan.method, media.name, media.travels_backwards, not media.unreadable)
    return plan


@needs(MAKE)
@transaction.atomic
def lay_out_stage(stage: Stage, options: dict[str, Any]) -> SheetPrint:
    """Design and keep the stage's chart; an earlier chart and its readings are set aside in the log."""
    build, mode = stage.build, stage.build.mode
    purpose = CHART_PURPOSE[stage.kind]
    environment = build.print_environment
    plan = plan_of(build, options)
    channels, limits, total, count = CMYK, {}, 3.0, None
    pipeline: Callable[[Array], Array] | None = None
    splits: list[dict[str, Any]] = []
    if stage.kind == kinds.INK_LIMITS:
        channels = tuple(mode.ink_set.raw_channels)
    else:
        limit_decision = decided(build, kinds.INK_LIMITS)
        splits = limit_decision.get("splits", [])
        share = to_raw(splits)
        pipeline = share
        limits = {c: limit_decision["limits"][c] / 100.0 for c in CMYK}
    if stage.kind in (kinds.GREYS, kinds.TOTAL_INK, kinds.PROFILE_CHART):
        curves = linear_curves(build) if stage.kind == kinds.GREYS else curves_of(build)
        pipeline = lambda device: share(curves.apply(device))  # noqa: E731
    if stage.kind == kinds.PROFILE_CHART:
        total = decided(build, kinds.TOTAL_INK)["total_ink"] / 100.0
        count = int(options.get("patches", 1000))
    device = design(purpose, channels, count, total, limits if stage.kind == kinds.LINEARIZATION else None)
    if stage.kind == kinds.PROFILE_CHART:
        device = _with_proposals(build, device, total)
    chart = make_chart(purpose, device, _title(stage), environment, plan, channels)
    if stage.kind == kinds.CHECK:
        pipeline = _strip_pipeline(build, chart.patches, options, share)
    if stage.result is not None:
        set_aside(stage, "laid out again")
    job = prepare_print(
        chart,
        environment,
        pipeline,
        f"/builds/{build.pk}/#{stage.kind}",
        mode.printer,
        sent_channels(mode.ink_set, splits) if pipeline else channels,
        dry_minutes(mode.ink_set, mode.media),
    )
    stage.sheet_print, stage.options, stage.result = job, options, None
    stage.confirm_print, stage.made_under = None, environment.as_dict()
    stage.save()
    return job


def _with_proposals(build: Build, device: Array, total: float) -> Array:
    """The chart with the patches that a profile of this environment asked for."""
    waiting = ProposedPatches.objects.filter(environment_hash=build.environment_hash, used_at=None).first()
    if waiting is None:
        return device
    asked = np.array(waiting.device)
    return np.vstack([device, asked[asked.sum(axis=1) <= total + 1e-9]])


def _title(stage: Stage, subject: str = "") -> str:
    subject = subject or kinds.BY_NAME[stage.kind].title.lower().removesuffix(" chart")
    return f"{stage.build.mode.name}: {subject} chart"


def _strip_pipeline(
    build: Build, strip: Any, options: dict[str, Any], share: Callable[[Array], Array]
) -> Callable[[Array], Array]:
    profile = profile_of(build)
    aim = aim_of(AimRecord.objects.get(pk=options["aim"]))
    sent = strip_through_profile(
        strip, aim, icc.loads(bytes(profile.data), profile.title), bool(options.get("corrected"))
    )
    curves = curves_of(build)
    return lambda _device: share(curves.apply(sent.values()))


@needs(MAKE)
@transaction.atomic
def lay_out_confirmation(stage: Stage) -> SheetPrint:
    """The short chart through the curves that an open linearization has found."""
    if stage.kind != kinds.LINEARIZATION or stage.state != Stage.State.OPEN or not stage.result:
        raise BadInput("curves are confirmed while linearization is open and has a result")
    return _second_print(stage, "short", short_chart(), "short")


@needs(MAKE)
@transaction.atomic
def lay_out_verification(stage: Stage) -> SheetPrint:
    """The grey scale strip through the curves that an open grey balance has found: a second print, to verify them."""
    if stage.kind != kinds.GREYS or stage.state != Stage.State.OPEN or not stage.result:
        raise BadInput("grey balance is verified while it is open and has a result")
    return _second_print(stage, "grey-verification", STRIPS["grey"].patches(), "grey verification")


def _second_print(stage: Stage, purpose: str, device: Array, subject: str) -> SheetPrint:
    """A chart that is printed through the curves of an open stage, to see whether they hold."""
    build, mode = stage.build, stage.build.mode
    result = dict(stage.result or {})
    curves = CurveSet.from_csv(result["curves_csv"], "curves of this build")
    splits = decided(build, kinds.INK_LIMITS).get("splits", [])
    share, environment = to_raw(splits), build.print_environment
    chart = make_chart(purpose, device, _title(stage, subject), environment, plan_of(build, stage.options))
    job = prepare_print(
        chart,
        environment,
        lambda values: share(curves.apply(values)),
        f"/builds/{build.pk}/#{stage.kind}",
        mode.printer,
        sent_channels(mode.ink_set, splits),
        dry_minutes(mode.ink_set, mode.media),
    )
    stage.confirm_print = job
    stage.result = {k: v for k, v in result.items() if k != "confirm"}
    stage.save(update_fields=["confirm_print", "result"])
    return job


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Compute what rests on a finished pass."""
    job = reading_pass.sheet_print_id
    for stage in Stage.objects.filter(sheet_print=job, state=Stage.State.OPEN):
        compute_stage(stage)
    for stage in Stage.objects.filter(confirm_print=job, state=Stage.State.OPEN):
        compute_confirmation(stage)


@transaction.atomic
def compute_stage(stage: Stage) -> None:
    """The stage's result from the average of its passes."""
    if stage.sheet_print is None:
        raise BadInput("this stage has no chart yet")
    readings = averaged(stage.sheet_print)
    marks = stage.options.get("marks", {})
    if stage.kind == kinds.INK_LIMITS:
        stage.result = results.ink_limits(readings, stage.build.mode.ink_set.light, marks)
    elif stage.kind == kinds.LINEARIZATION:
        limits = decided(stage.build, kinds.INK_LIMITS)["limits"]
        stage.result = results.linearization(
            readings, limits, str(stage.options.get("aim", "sctv")), stage.options.get("touches")
        )
        stage.confirm_print = None  # it was printed through other curves
    elif stage.kind == kinds.GREYS:
        stage.result = results.grey_balance(readings, linear_curves(stage.build))
        stage.confirm_print = None
    elif stage.kind == kinds.TOTAL_INK:
        stage.result = results.total_ink(readings, marks)
    elif stage.kind == kinds.PROFILE_CHART:
        stage.result = results.profile_chart(readings)
    elif stage.kind == kinds.CHECK:
        aim = AimRecord.objects.get(pk=stage.options["aim"])
        mode = stage.build.mode
        order = Order(aim, stage.options["tolerances"], bool(stage.options.get("corrected")))
        subject = Subject(mode, profile_of(stage.build), mode.printer, stage.sheet_print)
        made = make_check(subject, readings, order, stage.sheet_print.printed_by)
        stage.made_check = made
        stage.result = {"verdict": made.verdict, "summary": made.summary}
    stage.save()


@transaction.atomic
def compute_confirmation(stage: Stage) -> None:
    """How even the tone scales are on the print through the curves."""
    if stage.confirm_print is None or not stage.result:
        raise BadInput("the curves were not printed yet")
    if stage.kind == kinds.GREYS:
        _verify(stage)
        return
    aim = str(stage.options.get("aim", "sctv"))
    found = results.confirmation(averaged(stage.confirm_print), "sctv" if aim == "eye" else aim)
    stage.result = {**stage.result, "confirm": found}
    stage.save(update_fields=["result"])


def _verify(stage: Stage) -> None:
    """The verdict on grey balance: a check of the second print under G7 Grayscale."""
    job, mode = stage.confirm_print, stage.build.mode
    subject = Subject(mode, None, mode.printer, job, f"{mode.name}, grey balance")
    made = make_check(subject, averaged(job), Order(None, VERIFIED_UNDER), job.printed_by)  # type: ignore[arg-type, union-attr]
    found = {"check": made.pk, "verdict": made.verdict, "summary": made.summary}
    stage.result = {**(stage.result or {}), "confirm": found}
    stage.save(update_fields=["result"])


@needs(MAKE)
@transaction.atomic
def change_tone_aim(stage: Stage, aim: str) -> None:
    """Another aim for the tone scale, from the same readings; touches by hand belonged to the old one."""
    parse_aim(aim)
    stage.options = {**{k: v for k, v in stage.options.items() if k != "touches"}, "aim": aim}
    stage.save(update_fields=["options"])
    if stage.result is not None:
        compute_stage(stage)


@needs(MAKE)
@transaction.atomic
def touch_curve(stage: Stage, channel: str, handle: str, output: float | None) -> None:
    """Move one handle of a channel's curve to a raw output in percent; None takes all its moves back."""
    if stage.kind != kinds.LINEARIZATION or stage.state != Stage.State.OPEN or not stage.result:
        raise BadInput("a curve is touched while linearization is open and has a result")
    if channel not in stage.result["curves"]:
        raise BadInput(f"there is no curve of {channel}")
    touches = {c: dict(t) for c, t in stage.options.get("touches", {}).items()}
    if output is None:
        touches.pop(channel, None)
    else:
        if not 0.0 <= output <= 100.0:
            raise BadInput(f"a raw output of {output:g} % lies outside 0..100 %")
        touches.setdefault(channel, {})[handle] = round(output, 2)
    stage.options = {**stage.options, "touches": touches, "touched_last": channel}
    compute_stage(stage)
