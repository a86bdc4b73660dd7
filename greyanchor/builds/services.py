"""Decisions about stages; each in one transaction, refused when it rests on an older version."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background.work import cancel
from greyanchor.builds.acceptance_rules import objections
from greyanchor.builds.baselines import take_baseline
from greyanchor.builds.charts import compute_stage, decided, lay_out_stage
from greyanchor.builds.log import empty, set_aside
from greyanchor.builds.models import Build, Stage, Task
from greyanchor.builds.release_evidence import evidence, readings_of
from greyanchor.builds.stages import kinds, results
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import PrintMode
from greyanchor.library.modes.services import release_mode
from greyanchor.library.records.editing import Outdated, signed
from greyanchor.library.records.effective_settings import FROZEN, own_values

IN_USE = (PrintMode.State.RELEASED, PrintMode.State.RETIRED)


def open_stage(stage: Stage) -> None:
    """Open a stage and lay its chart out with the usual options, where it has a chart that needs no choice."""
    stage.state = Stage.State.OPEN
    stage.save(update_fields=["state"])
    build = stage.build
    if build.mode.media.unreadable:
        return  # decided by eye, inherited or skipped
    if stage.kind in (kinds.INK_LIMITS, kinds.GREYS, kinds.TOTAL_INK):
        lay_out_stage(stage, {})
    elif stage.kind == kinds.LINEARIZATION and not _reuse_ramps(stage):
        lay_out_stage(stage, {"aim": "sctv"})


def _reuse_ramps(stage: Stage) -> bool:
    """Take the ramps of the build this one rests on, when they reach the new limits."""
    base = stage.build.base
    if base is None or stage.build.purpose != Build.Purpose.LIMITS:
        return False
    before = base.stages.get(kind=kinds.LINEARIZATION)
    if before.sheet_print is None:
        return False
    old, new = decided(base, kinds.INK_LIMITS), decided(stage.build, kinds.INK_LIMITS)
    if old.get("splits", []) != new.get("splits", []):
        return False
    if any(new["limits"][c] > old["limits"][c] + 0.05 for c in "CMYK"):
        return False
    stage.sheet_print, stage.options = before.sheet_print, {"aim": before.options.get("aim", "sctv")}
    stage.made_under = before.made_under
    stage.save()
    compute_stage(stage)
    return True


# --- decisions -------------------------------------------------------------------------------


def locked(stage_pk: int, based_on: int) -> Stage:
    """A stage whose build nobody changed since `based_on`; raises `Outdated`."""
    stage = Stage.objects.select_related("build__mode__ink_set", "build__mode__media").get(pk=stage_pk)
    lock_build(stage.build_id, based_on)
    return stage


def lock_build(pk: int, based_on: int) -> Build:
    """A build that nobody changed since `based_on`, with its version raised."""
    build = Build.objects.select_for_update(of=("self",)).get(pk=pk)
    if build.version != based_on:
        raise Outdated(
            "somebody else changed this build since the page was opened; look at it again, then decide"
        )
    build.version += 1
    build.save(update_fields=["version"])
    return build


@needs(MAKE)
@transaction.atomic
def accept_stage(
    pk: int, based_on: int, values: dict[str, Any], reason: str, user: AbstractBaseUser
) -> Stage:
    """Decide a stage and open the next; `BadInput` when evidence is missing or a reason is."""
    stage = locked(pk, based_on)
    must_be_open(stage)
    if stage.kind != kinds.RELEASE and stage.result is None:
        raise BadInput(f"{kinds.BY_NAME[stage.kind].title} has no result yet; read its chart first")
    against = objections(stage, values)
    if against and not reason:
        raise BadInput("say why you accept it anyway: " + "; ".join(o.text for o in against))
    _check_values(stage, values)
    decide(stage, values, reason, user)
    if stage.kind in (kinds.LINEARIZATION, kinds.GREYS) and stage.build.mode.state not in IN_USE:
        take_baseline(stage)
    return go_on(stage, values, reason, user)


def must_be_open(stage: Stage) -> None:
    """Refuse to decide what is not open."""
    if stage.state != Stage.State.OPEN:
        raise BadInput(
            f"{kinds.BY_NAME[stage.kind].title} is {stage.get_state_display()}; nothing was changed"
        )


def decide(stage: Stage, values: dict[str, Any], reason: str, user: AbstractBaseUser) -> None:
    """Write a decision down."""
    stage.state, stage.decision, stage.reason = Stage.State.ACCEPTED, values, reason[:300]
    stage.decided_by, stage.decided_at = user, timezone.now()
    stage.made_under = stage.made_under or stage.build.environment
    stage.save()


def go_on(stage: Stage, values: dict[str, Any], reason: str, user: AbstractBaseUser) -> Stage:
    """Carry a decision to the mode and open what follows, past stages that stand already."""
    _carry_to_mode(stage, values, user, reason)
    if stage.kind == kinds.INK_LIMITS and _nothing_changed(stage):
        keep_from_base(stage.build, [k.name for k in kinds.KINDS[1:-1]])
    following = _following(stage.build)
    if following is not None and following.kind == kinds.GREYS and not stage.build.measuring.get("greys"):
        _pass_over(following, user)
        following = _following(stage.build)
    if following is None:
        Build.objects.filter(pk=stage.build_id).update(finished_at=timezone.now())
    elif following.state == Stage.State.WAITING:
        open_stage(following)
    return stage


def _following(build: Build) -> Stage | None:
    return build.stages.exclude(state=Stage.State.ACCEPTED).order_by("position").first()


def _pass_over(stage: Stage, user: AbstractBaseUser) -> None:
    """Leave a stage out that this build was not begun with; it can still be opened."""
    if stage.state != Stage.State.WAITING:
        return
    stage.source, stage.source_text = Stage.Source.SKIPPED, "not asked for when the build was begun"
    decide(stage, {"note": "not asked for"}, "", user)


def _nothing_changed(stage: Stage) -> bool:
    """Whether a build that refines limits ended with the limits it began with."""
    build = stage.build
    if build.purpose != Build.Purpose.LIMITS or build.base is None:
        return False
    old = decided(build.base, kinds.INK_LIMITS)
    new = stage.decision or {}
    same = all(abs(new["limits"][c] - v) <= 0.05 for c, v in old["limits"].items())
    return same and old.get("splits", []) == new.get("splits", [])


def keep_from_base(build: Build, names: list[str]) -> None:
    """Take stages over from the build this one rests on, decided as they were."""
    assert build.base is not None
    for name in names:
        before, mine = build.base.stages.get(kind=name), build.stages.get(kind=name)
        if before.state != Stage.State.ACCEPTED:
            raise BadInput(f"{kinds.BY_NAME[name].title} of {build.base.mode.name} is not decided")
        for field in ("options", "sheet_print", "confirm_print", "result", "decision", "reason", "decided_by",
                      "decided_at", "profile", "made_check", "made_under"):  # fmt: skip
            setattr(mine, field, getattr(before, field))
        mine.state, mine.source = Stage.State.ACCEPTED, Stage.Source.KEPT
        mine.source_text = (
            before.source_text or f"from the log of {build.base.mode.name}, {build.base.started_at:%-d %B %Y}"
        )
        if before.source == Stage.Source.INHERITED:
            mine.source = Stage.Source.INHERITED
        mine.save()


def _check_values(stage: Stage, values: dict[str, Any]) -> None:
    if stage.kind == kinds.INK_LIMITS:
        for channel, value in values["limits"].items():
            if not 15 <= value <= 100:
                raise BadInput(f"the limit of {channel}, {value:g} %, lies outside 15..100 %")
        results.checked_splits(values.get("splits", []))
    if stage.kind == kinds.TOTAL_INK and not 120 <= values["total_ink"] <= 400:
        raise BadInput(f"a total ink of {values['total_ink']:g} % lies outside 120..400 %")


def _carry_to_mode(stage: Stage, values: dict[str, Any], user: AbstractBaseUser, reason: str) -> None:
    """A mode in the bench follows every decision; one in production changes only when it is released again."""
    mode = PrintMode.objects.get(pk=stage.build.mode_id)
    if stage.kind == kinds.RELEASE:
        put_on_mode(mode, stage.build)
        mode.save_without_historical_record()  # the release that follows is the entry of the history
        linearized = stage.build.stages.get(kind=kinds.LINEARIZATION)
        if linearized.source == "" and stage.build.base_id and stage.build.purpose != Build.Purpose.FASTER:
            take_baseline(linearized)
        mode.refresh_from_db()
        told = evidence(mode, stage.build)
        release_mode(mode.pk, user, values.get("note", ""), told, reason, readings_of(stage.build))
        return
    if mode.state in IN_USE:
        return
    put_on_mode(mode, stage.build)
    if stage.kind == kinds.CHECK:
        mode.state = PrintMode.State.READY
    mode.version += 1
    what = f"{kinds.BY_NAME[stage.kind].title} {stage.get_source_display() or 'accepted'}"
    signed(mode, user, f"{what}: {reason}" if reason else what).save()


def put_on_mode(mode: PrintMode, build: Build) -> None:
    """Set on `mode`, unsaved, what the accepted stages of `build` have decided."""
    stages = {s.kind: s for s in build.stages.all()}

    def accepted(kind: str) -> Stage | None:
        return stages[kind] if stages[kind].state == Stage.State.ACCEPTED else None

    limits, curves = accepted(kinds.INK_LIMITS), accepted(kinds.LINEARIZATION)
    total, profile = accepted(kinds.TOTAL_INK), accepted(kinds.PROFILE)
    mode.limits = (limits.decision or {}).get("limits", {}) if limits else {}
    mode.splits = (limits.decision or {}).get("splits", []) if limits else []
    greys = accepted(kinds.GREYS)
    shaped = greys if greys and greys.result else curves
    mode.curves = (shaped.result or {}).get("curves_csv", "") if shaped else ""
    mode.total_ink = (total.decision or {}).get("total_ink") if total else None
    mode.profile = profile.profile if profile else None
    mode.environment, mode.environment_hash = build.environment, build.environment_hash
    kept = {k: v for k, v in mode.handling.items() if k not in FROZEN.values()}
    mode.handling = {**kept, **own_values(mode.printer, mode.media, build.environment)}
    check = accepted(kinds.CHECK)
    made = check.made_check if check else None
    mode.last_verdict, mode.last_check_summary = (made.verdict, made.summary) if made else ("", "")
    mode.inherited = {
        name: {"name": (s.decision or {}).get("from", ""), "text": s.source_text}
        for name, s in (("limits", limits), ("curves", curves), ("total ink", total), ("profile", profile))
        if s is not None and s.source == Stage.Source.INHERITED
    }


@needs(MAKE)
@transaction.atomic
def skip_stage(pk: int, based_on: int, reason: str, user: AbstractBaseUser) -> Stage:
    """Go on without a check, or without grey balance; the log says so."""
    stage = locked(pk, based_on)
    must_be_open(stage)
    told = {kinds.CHECK: "no check was made", kinds.GREYS: "greys were not balanced"}.get(stage.kind)
    if told is None:
        raise BadInput("only grey balance and the check can be left out")
    if not reason:
        raise BadInput("say why this mode goes without it")
    if stage.kind == kinds.GREYS:
        stage.result, stage.sheet_print, stage.confirm_print = None, None, None
    stage.source, stage.source_text = Stage.Source.SKIPPED, told
    decide(stage, {"note": told}, reason, user)
    return go_on(stage, {}, reason, user)


# --- doing again -----------------------------------------------------------------------------


def voided_by(stage: Stage) -> list[Stage]:
    """Accepted or begun stages that doing `stage` again makes void."""
    later = stage.build.stages.filter(position__gt=stage.position)
    return [s for s in later if s.state != Stage.State.WAITING and s.source != Stage.Source.SKIPPED]


@needs(MAKE)
@transaction.atomic
def redo_stage(pk: int, based_on: int, user: AbstractBaseUser) -> Stage:
    """Open a decided stage again; what rests on it becomes void and stays readable in the log."""
    stage = locked(pk, based_on)
    if stage.state != Stage.State.ACCEPTED:
        raise BadInput(f"{kinds.BY_NAME[stage.kind].title} is not decided, so there is nothing to do again")
    _still_building(stage.build)
    title = kinds.BY_NAME[stage.kind].title
    for later in stage.build.stages.filter(position__gt=stage.position).exclude(state=Stage.State.WAITING):
        empty(later, f"void: {title.lower()} was done again")
    elsewhere = stage.source
    set_aside(stage, "done again")
    stage.state, stage.decision, stage.reason = Stage.State.OPEN, None, ""
    stage.source, stage.source_text = "", ""
    stage.save()
    if elsewhere and (stage.sheet_print is None or stage.made_under != stage.build.environment):
        stage.result, stage.profile, stage.sheet_print, stage.confirm_print = None, None, None, None
        stage.options, stage.made_under = {}, None
        stage.save()
        open_stage(stage)
    _reopened(stage.build, user, f"{title} opened again")
    return stage


def _still_building(build: Build) -> None:
    if build.finished_at is not None or (
        build.mode.state in IN_USE and build.purpose in (Build.Purpose.WHOLE, Build.Purpose.FASTER)
    ):
        raise BadInput("this mode is released; start a new build to change it")
    for task in Task.objects.filter(stage__build=build, state__in=[Task.State.QUEUED, Task.State.RUNNING]):
        cancel(Task, task.pk)


def _reopened(build: Build, user: AbstractBaseUser, what: str) -> None:
    mode = PrintMode.objects.get(pk=build.mode_id)
    if mode.state in IN_USE:
        return
    put_on_mode(mode, build)
    mode.state = PrintMode.State.BUILDING
    mode.version += 1
    signed(mode, user, what).save()


@needs(MAKE)
@transaction.atomic
def change_environment(
    build_pk: int, based_on: int, choices: dict[str, Any], reason: str, user: AbstractBaseUser
) -> Build:
    """Another environment for a build: every stage with evidence becomes void, and the first opens anew."""
    build = lock_build(build_pk, based_on)
    if build.mode.state in IN_USE:
        raise BadInput("this mode is in production; derive a new mode for another environment")
    _still_building(build)
    changed = changes_of(build, choices)
    if not changed:
        raise BadInput("nothing was changed")
    environment = PrintEnvironment(**{**build.environment, **choices})
    why = f"void: {', '.join(changed)}"
    for stage in build.stages.exclude(state=Stage.State.WAITING):
        empty(stage, why)
    build.environment, build.environment_hash = environment.as_dict(), environment.content_hash()
    build.save()
    open_stage(build.stages.get(position=0))
    _reopened(build, user, f"environment changed: {', '.join(changed)}; {reason}")
    return build


def changes_of(build: Build, choices: dict[str, Any]) -> list[str]:
    """What differs between a build's environment and `choices`, in words."""
    return [
        f"{name} {build.environment[name]:g} to {value:g}"
        if isinstance(value, int | float)
        else f"{name} {build.environment[name]} to {value}"
        for name, value in choices.items()
        if build.environment[name] != value
    ]


def voided_by_environment(build: Build) -> list[str]:
    """Titles of the stages that another environment makes void."""
    return [
        kinds.BY_NAME[s.kind].title
        for s in build.stages.exclude(state=Stage.State.WAITING).exclude(source=Stage.Source.SKIPPED)
    ]
