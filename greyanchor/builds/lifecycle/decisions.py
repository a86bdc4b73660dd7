"""Decisions about stages; each in one transaction, refused when it is based on an older version."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.evidence.charts import compute_stage, lay_out_stage
from greyanchor.builds.lifecycle.acceptance_rules import objections
from greyanchor.builds.maintenance.baselines import take_baseline
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.registry import named, stage_types, type_of
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import Outdated, set_history_author
from greyanchor.library.records.effective_settings import FROZEN, own_values

IN_USE = (PrintMode.State.RELEASED, PrintMode.State.RETIRED)
#: what a stage takes over from the build its own is based on
_KEPT = (
    "options",
    "sheet_print",
    "confirm_print",
    "result",
    "decision",
    "reason",
    "decided_by",
    "decided_at",
    "profile",
    "made_check",
    "made_under",
)


# --- opening ---------------------------------------------------------------------------------


def open_stage(stage: Stage) -> None:
    """Open a stage and lay its chart out, where it has a chart that needs no choice."""
    stage.state = Stage.State.OPEN
    stage.save(update_fields=["state"])
    if stage.build.mode.media.unreadable:
        return  # decided by eye, inherited or skipped
    stage_type = type_of(stage)
    if stage_type.take_over(stage):
        stage.save()
        compute_stage(stage)
        return
    options = stage_type.opening_options(stage)
    if options is not None:
        lay_out_stage(stage, options)


def locked(stage_pk: int, based_on: int, act: str, user: User | None) -> Stage:
    """A stage whose build nobody changed since `based_on`; raises `Outdated`. `act` is what is done to it."""
    stage = Stage.objects.select_related("build__mode__ink_set", "build__mode__media").get(pk=stage_pk)
    lock_build(stage.build_id, based_on, f"{act} {type_of(stage).title.lower()}", user)
    return stage


def lock_build(pk: int, based_on: int, act: str, user: User | None) -> Build:
    """A build that nobody changed since `based_on`, with its version raised; `act` is kept as its last."""
    build = Build.objects.select_for_update(of=("self",)).get(pk=pk)
    if build.version != based_on:
        raise Outdated(f"{build.last_act_text}, after this page was opened; look at it again, then decide")
    build.version += 1
    build.last_act = {
        "by": (user.get_full_name() or user.get_username()) if user else "",
        "act": act,
        "at": timezone.now().isoformat(),
    }
    build.save(update_fields=["version", "last_act"])
    return build


# --- accepting and skipping ------------------------------------------------------------------


@needs(MAKE)
@transaction.atomic
def accept_stage(pk: int, based_on: int, values: dict[str, Any], reason: str, user: User) -> Stage:
    """Decide a stage and open the next; `BadInput` when evidence is missing or a reason is."""
    stage = locked(pk, based_on, "accepted", user)
    must_be_open(stage)
    stage_type = type_of(stage)
    if missing := stage_type.missing(stage):
        raise BadInput(missing)
    against = objections(stage, values)
    if against and not reason:
        raise BadInput("say why you accept it anyway: " + "; ".join(against))
    stage_type.check_values(values)
    decide(stage, values, reason, user)
    if stage_type.takes_baseline and stage.build.mode.state not in IN_USE:
        take_baseline(stage)
    stage_type.accepted(stage, user)
    return go_on(stage, values, reason, user)


@needs(MAKE)
@transaction.atomic
def skip_stage(pk: int, based_on: int, reason: str, user: User) -> Stage:
    """Go on without a stage that not every mode needs; the log says so."""
    stage = locked(pk, based_on, "skipped", user)
    must_be_open(stage)
    text = type_of(stage).skip_text
    if not text:
        inks = stage.build.mode.ink_set
        able = " and ".join(t.title.lower() for t in stage_types() if t.skip_text and t.serves(inks))
        raise BadInput(f"only {able} can be skipped")
    if not reason:
        raise BadInput("say why this mode goes without it")
    type_of(stage).skip(stage)
    stage.source, stage.source_text = Stage.Source.SKIPPED, text
    decide(stage, {"note": text}, reason, user)
    return go_on(stage, {}, reason, user)


def must_be_open(stage: Stage) -> None:
    """Refuse to decide what is not open."""
    if stage.state != Stage.State.OPEN:
        raise BadInput(f"{type_of(stage).title} is {stage.get_state_display()}; nothing was changed")


def decide(stage: Stage, values: dict[str, Any], reason: str, user: User | None) -> None:
    """Write a decision down."""
    stage.state, stage.decision, stage.reason = Stage.State.ACCEPTED, values, reason[:300]
    stage.decided_by, stage.decided_at = user, timezone.now()
    stage.made_under = stage.made_under or stage.build.environment
    stage.save()


def go_on(stage: Stage, values: dict[str, Any], reason: str, user: User) -> Stage:
    """Carry a decision to the mode and open what follows, past stages that stand already."""
    _carry_to_mode(stage, values, user, reason)
    if type_of(stage).changes_nothing(stage):
        inks = stage.build.mode.ink_set
        later = [t for t in stage_types() if t.position > type_of(stage).position and t.serves(inks)]
        keep_from_base(stage.build, [t.name for t in later if not t.releases])
    following = _following(stage.build)
    while following is not None and following.state == Stage.State.WAITING and not _wanted(following):
        following.source = Stage.Source.SKIPPED
        following.source_text = "not asked for when the build was begun"
        decide(following, {"note": "not asked for"}, "", user)
        following = _following(stage.build)
    if following is None:
        Build.objects.filter(pk=stage.build_id).update(finished_at=timezone.now())
    elif following.state == Stage.State.WAITING:
        open_stage(following)
    return stage


def _following(build: Build) -> Stage | None:
    return build.stages.exclude(state=Stage.State.ACCEPTED).order_by("position").first()


def _wanted(stage: Stage) -> bool:
    return type_of(stage).wanted(stage.build)


def keep_from_base(build: Build, names: list[str]) -> None:
    """Take stages over from the build this one is based on, decided as they were."""
    assert build.base is not None
    for name in names:
        before, mine = build.base.stages.get(kind=name), build.stages.get(kind=name)
        if before.state != Stage.State.ACCEPTED:
            raise BadInput(f"{named(name).title} of {build.base.mode.name} is not decided")
        for field in _KEPT:
            setattr(mine, field, getattr(before, field))
        mine.state, mine.source = Stage.State.ACCEPTED, Stage.Source.KEPT
        log = f"from the log of {build.base.mode.name}, {build.base.started_at:%-d %B %Y}"
        mine.source_text = before.source_text or log
        if before.source == Stage.Source.INHERITED:
            mine.source = Stage.Source.INHERITED
        mine.save()


# --- the mode --------------------------------------------------------------------------------


def _carry_to_mode(stage: Stage, values: dict[str, Any], user: User, reason: str) -> None:
    """A mode being built follows every decision; one in production changes only when it is released again."""
    mode = PrintMode.objects.get(pk=stage.build.mode_id)
    stage_type = type_of(stage)
    if stage_type.releases:
        apply_to_mode(mode, stage.build)
        # the release is the entry of the history
        mode.save_without_historical_record()  # type: ignore[attr-defined]
        _renew_baseline(stage.build)
        mode.refresh_from_db()
        stage_type.release(stage, mode, values, reason, user)
        return
    if mode.state in IN_USE:
        return
    apply_to_mode(mode, stage.build)
    mode.state = stage_type.mode_state or mode.state
    mode.version += 1
    what = f"{stage_type.title} {stage.get_source_display() or 'accepted'}"
    set_history_author(mode, user, f"{what}: {reason}" if reason else what).save()


def _renew_baseline(build: Build) -> None:
    """A build that renews a mode in use takes its baseline when it is released."""
    if build.base_id is None or build.purpose == Build.Purpose.FASTER:
        return
    for stage in build.stages.filter(state=Stage.State.ACCEPTED, source="").order_by("position"):
        if type_of(stage).takes_baseline:
            take_baseline(stage)


def apply_to_mode(mode: PrintMode, build: Build) -> None:
    """Set on `mode`, unsaved, what the accepted stages of `build` have decided."""
    stages = {s.kind: s for s in build.stages.all() if s.state == Stage.State.ACCEPTED}
    mode.inherited = {}
    for stage_type in (t for t in stage_types() if t.serves(mode.ink_set)):
        stage = stages.get(stage_type.name)
        stage_type.apply_to_mode(mode, stage)
        if stage is not None and stage.source == Stage.Source.INHERITED and stage_type.lends:
            source = {"name": (stage.decision or {}).get("from", ""), "text": stage.source_text}
            mode.inherited[stage_type.lends] = source
    mode.environment, mode.environment_hash = build.environment, build.environment_hash
    kept = {k: v for k, v in mode.handling.items() if k not in FROZEN.values()}
    mode.handling = {**kept, **own_values(mode.printer, mode.media, build.environment)}
