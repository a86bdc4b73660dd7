"""Doing a stage again, or under another environment: what was decided later becomes void and stays
readable.
"""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background.work import cancel
from greyanchor.builds.evidence.log import set_aside, void
from greyanchor.builds.lifecycle.decisions import IN_USE, apply_to_mode, lock_build, locked, open_stage
from greyanchor.builds.models import Build, Stage, Task
from greyanchor.builds.stages.registry import type_of
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import set_history_author


def voided_by(stage: Stage) -> list[Stage]:
    """Accepted or begun stages that doing `stage` again invalidates."""
    later = stage.build.stages.filter(position__gt=stage.position)
    return [s for s in later if s.state != Stage.State.WAITING and s.source != Stage.Source.SKIPPED]


@needs(MAKE)
@transaction.atomic
def redo_stage(pk: int, based_on: int, user: User) -> Stage:
    """Open a decided stage again; what depends on it becomes void and stays readable in the log."""
    stage = locked(pk, based_on, "opened again", user)
    title = type_of(stage).title
    if stage.state != Stage.State.ACCEPTED:
        raise BadInput(f"{title} is not decided, so there is nothing to do again")
    _still_building(stage.build)
    for later in stage.build.stages.filter(position__gt=stage.position).exclude(state=Stage.State.WAITING):
        void(later, f"invalidated: {title.lower()} was done again")
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


def _reopened(build: Build, user: User, what: str) -> None:
    mode = PrintMode.objects.get(pk=build.mode_id)
    if mode.state in IN_USE:
        return
    apply_to_mode(mode, build)
    mode.state = PrintMode.State.BUILDING
    mode.version += 1
    set_history_author(mode, user, what).save()


@needs(MAKE)
@transaction.atomic
def change_environment(
    build_pk: int, based_on: int, choices: dict[str, Any], reason: str, user: User
) -> Build:
    """Another environment for a build: every stage with evidence becomes void, and the first opens again."""
    build = lock_build(build_pk, based_on, "changed the environment", user)
    if build.mode.state in IN_USE:
        raise BadInput("this mode is in production; derive a new mode for another environment")
    _still_building(build)
    changed = changes_of(build, choices)
    if not changed:
        raise BadInput("nothing was changed")
    environment = PrintEnvironment(**{**build.environment, **choices})
    why = f"invalidated: {', '.join(changed)}"
    for stage in build.stages.exclude(state=Stage.State.WAITING):
        void(stage, why)
    build.environment, build.environment_hash = environment.as_dict(), environment.content_hash()
    build.save()
    open_stage(build.stages.earliest("position"))
    _reopened(build, user, f"environment changed: {', '.join(changed)}; {reason}")
    return build


def changes_of(build: Build, choices: dict[str, Any]) -> list[str]:
    """What differs between a build's environment and `choices`, in words."""
    return [
        f"{name.replace('_', ' ')} {_plain(build.environment.get(name, ''))} to {_plain(value)}"
        for name, value in choices.items()
        if build.environment.get(name, "") != value
    ]


def _plain(value: Any) -> str:
    return f"{value:g}" if isinstance(value, int | float) else str(value)


def voided_by_environment(build: Build) -> list[str]:
    """Titles of the stages that another environment invalidates."""
    begun = build.stages.exclude(state=Stage.State.WAITING).exclude(source=Stage.Source.SKIPPED)
    return [type_of(s).title for s in begun]
