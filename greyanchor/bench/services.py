"""What changes builds; each change in one transaction, refused when it rests on an older version."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.utils import timezone

from greyanchor.bench import kinds, results
from greyanchor.bench.headlines import headline
from greyanchor.bench.models import Build, Stage, Task
from greyanchor.checks.services import make_check
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts.patches import design
from greyanchor.core.environment import PrintEnvironment
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.verification.aims import strip_through_profile
from greyanchor.core.verification.tolerances import SHIPPED
from greyanchor.library.models import InkSet, Media, Printer, PrintMode
from greyanchor.library.services import Outdated, release_mode, signed
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.queries import double_reading
from greyanchor.measuring.services import averaged, make_chart, prepare_print
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.queries import aim_of

CHART_PURPOSE = {
    kinds.INK_LIMITS: "ink-limit",
    kinds.LINEARIZATION: "linearization",
    kinds.TOTAL_INK: "total-ink",
    kinds.PROFILE_CHART: "profile",
    kinds.CHECK: "control-strip",
}


# --- beginning -------------------------------------------------------------------------------


@transaction.atomic
def start_build(
    name: str,
    printer: Printer,
    ink_set: InkSet,
    media: Media,
    choices: dict[str, Any],
    user: AbstractBaseUser,
) -> Build:
    """Freeze an environment and open its first stage; the mode exists from now on, in the bench."""
    if not ink_set.can_be_built:
        raise BadInput(f"{ink_set.name} prints {ink_set.channel_text}; builds are made for C M Y K ink sets")
    if ink_set not in printer.ink_sets.all():
        raise BadInput(f"{printer.name} does not run {ink_set.name}")
    if PrintMode.objects.filter(name=name).exists():
        raise BadInput(f"there is a print mode called {name} already; choose another name")
    environment = PrintEnvironment(printer=printer.model, ink_set=ink_set.name, media=media.name, **choices)
    mode = PrintMode(
        name=name,
        printer=printer,
        ink_set=ink_set,
        media=media,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
    )
    signed(mode, user, "build started").save()
    build = Build.objects.create(
        mode=mode, owner=user, environment=environment.as_dict(), environment_hash=environment.content_hash()
    )
    for position, kind in enumerate(kinds.KINDS):
        state = Stage.State.OPEN if position == 0 else Stage.State.WAITING
        Stage.objects.create(build=build, position=position, kind=kind.name, state=state)
    open_stage(build.stages.get(position=0))
    return build


def open_stage(stage: Stage) -> None:
    """Open a stage and lay its chart out with the usual options, where it has a chart that needs no choice."""
    stage.state = Stage.State.OPEN
    stage.save(update_fields=["state"])
    if stage.kind == kinds.INK_LIMITS or stage.kind == kinds.TOTAL_INK:
        lay_out_stage(stage, {})
    elif stage.kind == kinds.LINEARIZATION:
        lay_out_stage(stage, {"aim": "sctv"})


# --- charts ----------------------------------------------------------------------------------


def decided(build: Build, kind: str) -> dict[str, Any]:
    """The decision of an accepted stage; `BadInput` when it stands open."""
    stage = build.stages.get(kind=kind)
    if stage.state != Stage.State.ACCEPTED or stage.decision is None:
        raise BadInput(f"{kinds.BY_NAME[kind].title} must be accepted first")
    return dict(stage.decision)


def curves_of(build: Build) -> CurveSet:
    """The accepted linearization."""
    stage = build.stages.get(kind=kinds.LINEARIZATION)
    if stage.state != Stage.State.ACCEPTED or not stage.result:
        raise BadInput("Linearization must be accepted first")
    return CurveSet.from_csv(stage.result["curves_csv"], "curves of this build")


@transaction.atomic
def lay_out_stage(stage: Stage, options: dict[str, Any]) -> SheetPrint:
    """Design and keep the stage's chart; an earlier chart and its readings are set aside in the log."""
    build = stage.build
    purpose = CHART_PURPOSE[stage.kind]
    environment = build.print_environment
    pipeline: Any = None
    limits: dict[str, float] = {}
    total, count = 3.0, None
    if stage.kind == kinds.LINEARIZATION:
        limits = {c: v / 100.0 for c, v in decided(build, kinds.INK_LIMITS)["limits"].items()}
    elif stage.kind == kinds.TOTAL_INK:
        pipeline = curves_of(build).apply
    elif stage.kind == kinds.PROFILE_CHART:
        pipeline = curves_of(build).apply
        total = decided(build, kinds.TOTAL_INK)["total_ink"] / 100.0
        count = int(options.get("patches", 1000))
    device = design(purpose, tuple("CMYK"), count, total, limits)
    subject = kinds.BY_NAME[stage.kind].title.lower().removesuffix(" chart")
    title = f"{build.mode.name}: {subject} chart"
    chart = make_chart(purpose, device, title, environment, str(options.get("page", "a4")))
    if stage.kind == kinds.CHECK:
        pipeline = _strip_pipeline(build, chart.patches, options)
    if stage.result is not None:
        _set_aside(stage, "laid out again")
    job = prepare_print(chart, environment, pipeline, f"/builds/{build.pk}/#{stage.kind}")
    stage.sheet_print, stage.options, stage.result = job, options, None
    stage.save()
    return job


def _strip_pipeline(build: Build, strip: Any, options: dict[str, Any]) -> Any:
    profile = build.mode.profile
    if profile is None:
        raise BadInput("Profile must be accepted first")
    aim = aim_of(AimRecord.objects.get(pk=options["aim"]))
    sent = strip_through_profile(
        strip, aim, icc.loads(bytes(profile.data), profile.title), bool(options.get("corrected"))
    )
    curves = curves_of(build)
    return lambda _device: curves.apply(sent.values())


# --- results ---------------------------------------------------------------------------------


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Compute the result of the stage that a finished pass belongs to."""
    for stage in Stage.objects.filter(sheet_print=reading_pass.sheet_print_id, state=Stage.State.OPEN):
        compute_stage(stage)


@transaction.atomic
def compute_stage(stage: Stage) -> None:
    """The stage's result from the average of its passes."""
    if stage.sheet_print is None:
        raise BadInput("this stage has no chart yet")
    readings = averaged(stage.sheet_print)
    if stage.kind == kinds.INK_LIMITS:
        stage.result = results.ink_limits(readings)
    elif stage.kind == kinds.LINEARIZATION:
        limits = decided(stage.build, kinds.INK_LIMITS)["limits"]
        stage.result = results.linearization(readings, limits, str(stage.options.get("aim", "sctv")))
    elif stage.kind == kinds.TOTAL_INK:
        stage.result = results.total_ink(readings)
    elif stage.kind == kinds.PROFILE_CHART:
        stage.result = results.profile_chart(readings)
    elif stage.kind == kinds.CHECK:
        aim = AimRecord.objects.get(pk=stage.options["aim"])
        made = make_check(
            stage.build.mode,
            readings,
            aim,
            stage.options["tolerances"],
            bool(stage.options.get("corrected")),
            stage.sheet_print.printed_by,
        )
        stage.made_check = made
        stage.result = {"verdict": made.verdict, "summary": made.summary}
    stage.save()


@transaction.atomic
def change_tone_aim(stage: Stage, aim: str) -> None:
    """Another aim for the tone scale, from the same readings."""
    from greyanchor.core.calibration.linearization import parse_aim

    parse_aim(aim)
    stage.options = {**stage.options, "aim": aim}
    stage.save(update_fields=["options"])
    if stage.result is not None:
        compute_stage(stage)


# --- decisions -------------------------------------------------------------------------------


@dataclass(frozen=True)
class Objection:
    """Why accepting a stage asks for a reason."""

    text: str


def objections(stage: Stage, values: dict[str, Any] | None = None) -> list[Objection]:
    """What stands against accepting a stage as it is, or with other `values` than those found."""
    found: list[Objection] = []
    kind = kinds.BY_NAME[stage.kind]
    if stage.sheet_print is not None and kind.passes:
        count = stage.sheet_print.passes.filter(state=ReadingPass.State.DONE).count()
        if count < kind.passes:
            found.append(
                Objection(f"read {count} time{'s' if count != 1 else ''}, {kind.passes} readings are wanted")
            )
        comparison = double_reading(stage.sheet_print)
        if comparison is not None and not comparison.acceptable():
            found.append(
                Objection(f"the passes differ: mean {comparison.mean:.2f}, largest {comparison.max:.2f} dE00")
            )
    if stage.kind == kinds.CHECK and stage.result and stage.result["verdict"] != "pass":
        found.append(Objection("the check failed"))
    if values and stage.result:
        if stage.kind == kinds.INK_LIMITS:
            moved = [
                c for c, v in values["limits"].items() if abs(v - stage.result["limits"][c]["percent"]) > 0.05
            ]
            if moved:
                found.append(Objection(f"the limit of {', '.join(moved)} was moved from what was found"))
        if stage.kind == kinds.TOTAL_INK and abs(values["total_ink"] - stage.result["percent"]) > 0.05:
            found.append(Objection("the total was moved from what was found"))
    return found


def _locked(stage_pk: int, based_on: int) -> Stage:
    stage = Stage.objects.select_related("build__mode").get(pk=stage_pk)
    build = Build.objects.select_for_update().get(pk=stage.build_id)
    if build.version != based_on:
        raise Outdated(
            "somebody else changed this build since the page was opened; look at it again, then decide"
        )
    build.version += 1
    build.save(update_fields=["version"])
    return stage


@transaction.atomic
def accept_stage(
    pk: int, based_on: int, values: dict[str, Any], reason: str, user: AbstractBaseUser
) -> Stage:
    """Decide a stage and open the next; `BadInput` when evidence is missing or a reason is."""
    stage = _locked(pk, based_on)
    if stage.state != Stage.State.OPEN:
        raise BadInput(
            f"{kinds.BY_NAME[stage.kind].title} is {stage.get_state_display()}; nothing was changed"
        )
    if stage.kind != kinds.RELEASE and stage.result is None:
        raise BadInput(f"{kinds.BY_NAME[stage.kind].title} has no result yet; read its chart first")
    against = objections(stage, values)
    if against and not reason:
        raise BadInput("say why you accept it anyway: " + "; ".join(o.text for o in against))
    _check_values(stage, values)
    stage.state, stage.decision, stage.reason = Stage.State.ACCEPTED, values, reason[:300]
    stage.decided_by, stage.decided_at = user, timezone.now()
    stage.save()
    _carry_to_mode(stage, values, user, reason)
    following = stage.build.stages.filter(position=stage.position + 1).first()
    if following is not None:
        open_stage(following)
    else:
        Build.objects.filter(pk=stage.build_id).update(finished_at=timezone.now())
    return stage


def _check_values(stage: Stage, values: dict[str, Any]) -> None:
    if stage.kind == kinds.INK_LIMITS:
        for channel, value in values["limits"].items():
            if not 20 <= value <= 100:
                raise BadInput(f"the limit of {channel}, {value:g} %, lies outside 20..100 %")
    if stage.kind == kinds.TOTAL_INK and not 120 <= values["total_ink"] <= 400:
        raise BadInput(f"a total ink of {values['total_ink']:g} % lies outside 120..400 %")


def _carry_to_mode(stage: Stage, values: dict[str, Any], user: AbstractBaseUser, reason: str) -> None:
    mode = PrintMode.objects.get(pk=stage.build.mode_id)
    if stage.kind == kinds.INK_LIMITS:
        mode.limits = values["limits"]
    elif stage.kind == kinds.LINEARIZATION:
        mode.curves = stage.result["curves_csv"]  # type: ignore[index]
    elif stage.kind == kinds.TOTAL_INK:
        mode.total_ink = values["total_ink"]
    elif stage.kind == kinds.PROFILE:
        mode.profile = stage.profile
    elif stage.kind == kinds.CHECK:
        mode.state = PrintMode.State.READY
    elif stage.kind == kinds.RELEASE:
        release_mode(mode.pk, user, values.get("note", ""))
        return
    mode.version += 1
    what = f"{kinds.BY_NAME[stage.kind].title} accepted"
    signed(mode, user, f"{what}: {reason}" if reason else what).save()


def voided_by(stage: Stage) -> list[Stage]:
    """Accepted or begun stages that doing `stage` again makes void."""
    later = stage.build.stages.filter(position__gt=stage.position)
    return [s for s in later if s.state != Stage.State.WAITING]


@transaction.atomic
def redo_stage(pk: int, based_on: int, user: AbstractBaseUser) -> Stage:
    """Open a decided stage again; what rests on it becomes void and stays readable in the log."""
    stage = _locked(pk, based_on)
    if stage.state != Stage.State.ACCEPTED:
        raise BadInput(f"{kinds.BY_NAME[stage.kind].title} is not decided, so there is nothing to do again")
    if stage.build.mode.state in (PrintMode.State.RELEASED, PrintMode.State.RETIRED):
        raise BadInput("this mode is released; start a new build to change it")
    for task in Task.objects.filter(
        stage__build=stage.build, state__in=[Task.State.QUEUED, Task.State.RUNNING]
    ):
        cancel_task(task.pk)
    for later in voided_by(stage):
        _set_aside(later, f"void: {kinds.BY_NAME[stage.kind].title.lower()} was done again")
        later.state, later.sheet_print, later.result, later.options = Stage.State.WAITING, None, None, {}
        later.decision, later.profile, later.made_check, later.reason = None, None, None, ""
        later.save()
    _set_aside(stage, "done again")
    stage.state, stage.decision, stage.reason = Stage.State.OPEN, None, ""
    stage.save()
    mode = PrintMode.objects.get(pk=stage.build.mode_id)
    mode.state = PrintMode.State.BUILDING
    mode.version += 1
    signed(mode, user, f"{kinds.BY_NAME[stage.kind].title} opened again").save()
    return stage


def _set_aside(stage: Stage, why: str) -> None:
    """Keep what a stage had in its own log, with the figures that matter."""
    stage.superseded = [
        *stage.superseded,
        {
            "why": why,
            "at": timezone.now().isoformat(timespec="minutes"),
            "headline": headline(stage),
            "decision": stage.decision,
            "print": stage.sheet_print_id,
            "profile": stage.profile_id,
            "check": stage.made_check_id,
        },
    ]


# --- background work -------------------------------------------------------------------------


@transaction.atomic
def start_profile(stage: Stage, settings: dict[str, Any], user: AbstractBaseUser) -> Task:
    """Queue the building of a profile; one at a time for each stage."""
    if stage.state != Stage.State.OPEN or stage.kind != kinds.PROFILE:
        raise BadInput("the profile stage is not open")
    active = stage.tasks.filter(state__in=[Task.State.QUEUED, Task.State.RUNNING]).first()
    if active is not None and not active.looks_dead:
        raise BadInput("a profile is being built for this stage already")
    if active is not None:
        Task.objects.filter(pk=active.pk).update(state=Task.State.INTERRUPTED)
    stage.options = settings
    stage.save(update_fields=["options"])
    task = Task.objects.create(stage=stage, started_by=user, message="waiting for the worker")

    from greyanchor.bench.tasks import build_profile_task

    transaction.on_commit(lambda: build_profile_task(task.pk))
    return task


def cancel_task(pk: int) -> None:
    """Ask a task to stop; it stops at its next step, or at once when it has not begun."""
    Task.objects.filter(pk=pk, state=Task.State.QUEUED).update(state=Task.State.CANCELLED)
    Task.objects.filter(pk=pk, state=Task.State.RUNNING).update(cancel_asked=True)


def mark_interrupted_tasks() -> None:
    """At the start of a worker: what was running before is not running now."""
    Task.objects.filter(state=Task.State.RUNNING).update(
        state=Task.State.INTERRUPTED, message="the worker stopped in the middle of it; start it again"
    )


def tolerance_choices() -> list[tuple[str, str]]:
    """Shipped tolerance sets for forms."""
    return [(t.id, t.title) for t in SHIPPED.values()]
