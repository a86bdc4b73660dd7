"""What rests on readings, and what becomes of it when a lead withdraws them."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Q, QuerySet

from greyanchor.background.work import cancel
from greyanchor.builds.evidence.log import set_aside, void
from greyanchor.builds.lifecycle.decisions import apply_to_mode, lock_build
from greyanchor.builds.models import Baseline, Build, Refinement, RefineRound, Restore, Stage, Task
from greyanchor.builds.stages.registry import type_of
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import set_history_author


def _accepted(sheet_print: int) -> QuerySet[Stage]:
    resting = Q(sheet_print=sheet_print) | Q(confirm_print=sheet_print)
    return Stage.objects.filter(resting, state=Stage.State.ACCEPTED).select_related("build__mode")


def _restores(sheet_print: int) -> QuerySet[Restore]:
    resting = Q(sheet_print=sheet_print) | Q(confirm_print=sheet_print)
    over = (Restore.State.DONE, Restore.State.CLOSED)
    return Restore.objects.filter(resting, state__in=over).select_related("mode")


def _rounds(sheet_print: int) -> QuerySet[RefineRound]:
    used = RefineRound.objects.filter(sheet_print=sheet_print, refinement__outcome=Refinement.Outcome.USED)
    return used.select_related("refinement__mode")


def evidence_of_builds(sender: Any, sheet_print: int, **_: Any) -> list[str]:
    """Accepted stages, finished restores and refinements in use that rest on the readings of a print."""
    names = [
        f"{type_of(stage).title.lower()} of {stage.build.mode.name}"
        for stage in _accepted(sheet_print).order_by("pk")
    ]
    names += [f"restore {r.pk} of {r.mode.name}" for r in _restores(sheet_print).order_by("pk")]
    names += [f"the refined profile of {r.refinement.mode.name}" for r in _rounds(sheet_print)]
    return names


@transaction.atomic
def on_evidence_withdrawn(sender: Any, sheet_print: int, reason: str, user: User, **_: Any) -> None:
    """Void what rests on a print: stages open again, later ones wait, and the mode is a draft."""
    for stage in _accepted(sheet_print).order_by("position"):
        stage.refresh_from_db()
        if stage.state == Stage.State.ACCEPTED:
            _reopen(stage, reason, user)
    for restore in _restores(sheet_print):
        if restore.state == Restore.State.DONE:
            _take_back(
                restore.mode, "curves", restore.curves_after, restore.curves_before, restore, reason, user
            )
        Restore.objects.filter(pk=restore.pk).update(note=f"evidence withdrawn: {reason}"[:300])
    for found in _rounds(sheet_print):
        made = found.refinement
        last = (
            made.rounds.exclude(after=None).latest("number")
            if made.rounds.exclude(after=None).exists()
            else None
        )
        if last is not None:
            _take_back(made.mode, "profile_id", last.after_id, made.base_id, made, reason, user)
        Refinement.objects.filter(pk=made.pk).update(note=f"evidence withdrawn: {reason}"[:300])


def _reopen(stage: Stage, reason: str, user: User) -> None:
    build, title = stage.build, type_of(stage).title
    for task in Task.objects.filter(stage__build=build, state__in=[Task.State.QUEUED, Task.State.RUNNING]):
        cancel(Task, task.pk)
    for later in build.stages.filter(position__gt=stage.position).exclude(state=Stage.State.WAITING):
        void(later, f"invalidated: evidence of {title.lower()} was withdrawn")
    set_aside(stage, f"evidence withdrawn: {reason}")
    stage.state, stage.decision, stage.reason, stage.result = Stage.State.OPEN, None, "", None
    stage.source, stage.source_text = "", ""
    stage.save()
    lock_build(build.pk, build.version, f"withdrew evidence of {title.lower()}", user)
    Build.objects.filter(pk=build.pk).update(finished_at=None)
    mode = PrintMode.objects.get(pk=build.mode_id)
    if type_of(stage).takes_baseline:
        Baseline.objects.filter(mode=mode).update(withdrawn=reason)
    apply_to_mode(mode, build)
    if mode.state != PrintMode.State.RETIRED:
        mode.state = PrintMode.State.BUILDING
    mode.version += 1
    set_history_author(mode, user, f"evidence of {title.lower()} withdrawn: {reason}").save()


def _take_back(
    mode: PrintMode, field: str, made: Any, before: Any, what: Any, reason: str, user: User
) -> None:
    """Give a mode back what it had before a restore or a refinement, where that is what it still has."""
    mode = PrintMode.objects.get(pk=mode.pk)
    if getattr(mode, field) == made:
        setattr(mode, field, before)
    if mode.state == PrintMode.State.RELEASED:
        mode.state = PrintMode.State.READY
    mode.version += 1
    set_history_author(mode, user, f"{what}: evidence withdrawn: {reason}").save()
