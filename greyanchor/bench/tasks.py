"""Background tasks."""

from __future__ import annotations

import traceback
from typing import Any

from django.db import transaction
from django.utils import timezone
from huey.contrib.djhuey import db_task

from greyanchor.bench import kinds
from greyanchor.bench.models import Stage, Task
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.measuring.services import averaged
from greyanchor.profiles.services import keep_profile


class Cancelled(Exception):
    """Somebody asked the task to stop."""


@db_task()
def build_profile_task(pk: int) -> None:
    """Build the profile of a stage; every end, good or bad, is kept with the task."""
    if not Task.objects.filter(pk=pk, state=Task.State.QUEUED).update(
        state=Task.State.RUNNING, heard_at=timezone.now()
    ):
        return
    task = Task.objects.select_related("stage__build__mode").get(pk=pk)
    try:
        result = _build(task)
        _keep(task, result)
    except Cancelled:
        _end(pk, Task.State.CANCELLED, "cancelled")
    except BadInput as error:
        _end(pk, Task.State.FAILED, str(error))
    except Exception as error:
        _end(pk, Task.State.FAILED, f"the program failed: {error}", traceback.format_exc())


def _build(task: Task) -> ProfileResult:
    chart = task.stage.build.stages.get(kind=kinds.PROFILE_CHART)
    if chart.sheet_print is None or chart.state != Stage.State.ACCEPTED:
        raise BadInput("the profile chart is not accepted")

    def tell(share: float, text: str) -> None:
        Task.objects.filter(pk=task.pk).update(progress=share, message=text[:200], heard_at=timezone.now())
        if Task.objects.filter(pk=task.pk, cancel_asked=True).exists():
            raise Cancelled

    return build_profile(
        averaged(chart.sheet_print), settings_from(task.stage.options, task.stage.build.mode.name), tell
    )


def settings_from(options: dict[str, Any], title: str) -> ProfileSettings:
    """The core's settings from a stage's options, which are percent."""
    return ProfileSettings(
        separation=Separation(
            total_ink=options["total_ink"] / 100.0,
            black_start=options["black_start"] / 100.0,
            black_strength=options["black_strength"] / 100.0,
            max_black=options["max_black"] / 100.0,
        ),
        version=int(options["version"]),
        title=options.get("title") or title,
        sizes=TableSizes.draft() if options.get("quality") == "draft" else None,
    )


@transaction.atomic
def _keep(task: Task, result: ProfileResult) -> None:
    stage = Stage.objects.select_for_update().get(pk=task.stage_id)
    if Task.objects.filter(pk=task.pk, cancel_asked=True).exists() or stage.state != Stage.State.OPEN:
        raise Cancelled
    chart = stage.build.stages.get(kind=kinds.PROFILE_CHART)
    made_from = {
        "environment": stage.build.environment_hash,
        "readings": averaged(chart.sheet_print).content_hash() if chart.sheet_print else "",
        "chart": chart.sheet_print.chart.content_hash if chart.sheet_print else "",
    }
    settings = settings_from(stage.options, stage.build.mode.name)
    stage.profile = keep_profile(
        result, settings.title, settings.version, stage.options, made_from, task.started_by
    )
    stage.result = {
        name: result.report[name]
        for name in ("fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume", "seconds")
    }
    stage.result["doubts"] = result.report["warnings"]
    stage.save()
    _end(task.pk, Task.State.DONE, "done")


def _end(pk: int, state: str, message: str, error: str = "") -> None:
    Task.objects.filter(pk=pk).update(
        state=state,
        message=message[:200],
        error=error,
        heard_at=timezone.now(),
        **({"progress": 1.0} if state == Task.State.DONE else {}),
    )
