"""Background tasks."""

from __future__ import annotations

from dataclasses import replace

from django.db import transaction
from django.utils import timezone

from greyanchor.background import queue, work
from greyanchor.builds import learning
from greyanchor.builds.models import RefineRound, Stage, Task
from greyanchor.builds.stages import kin
from greyanchor.builds.stages.names import PROFILE_CHART
from greyanchor.builds.stages.profile import ProfileStageResult
from greyanchor.core.characterization.trust import double_spread
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.build import ProfileResult, build_like, build_profile
from greyanchor.measuring.services import averaged, passes_of
from greyanchor.profiles.models import ProposedPatches
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import settings_from


@queue.handles(Task)
def build_stage_profile(pk: int) -> None:
    """Build the profile of a stage."""
    task = Task.objects.select_related("stage__build__mode").get(pk=pk)
    _keep(task, _build(task))


queue.handles(RefineRound)(learning.learn)


def _build(task: Task) -> ProfileResult:
    chart = task.stage.build.stages.get(kind=PROFILE_CHART)
    if chart.sheet_print is None or chart.state != Stage.State.ACCEPTED:
        raise BadInput("the profile chart is not accepted")

    job = chart.sheet_print
    passes = passes_of(job)
    settings = settings_from(task.stage.options, task.stage.build.mode.name, len(job.chart.patches.channels))
    settings, report = replace(settings, noise=double_spread(passes)), work.progress_of(Task, task.pk)
    readings = averaged(job)
    if len(readings) < kin.SMALL:
        report(0.01, "learning from other media")
        others = kin.kin_of(task.stage.build)
        if others is not None:
            return build_like(readings, others, settings, report)[0]
    return build_profile(readings, settings, report)


def _use_up_proposals(stage: Stage) -> None:
    """Patches proposed before the chart was printed have been read by now."""
    job = stage.build.stages.get(kind=PROFILE_CHART).sheet_print
    if job is not None and job.printed_at is not None:
        waiting = ProposedPatches.objects.filter(environment_hash=stage.build.environment_hash, used_at=None)
        waiting.filter(created_at__lt=job.printed_at).update(used_at=timezone.now())


@transaction.atomic
def _keep(task: Task, result: ProfileResult) -> None:
    stage = Stage.objects.select_for_update().get(pk=task.stage_id)
    if Task.objects.filter(pk=task.pk, cancel_asked=True).exists() or stage.state != Stage.State.OPEN:
        raise work.Cancelled
    chart = stage.build.stages.get(kind=PROFILE_CHART)
    made_from = {
        "environment": stage.build.environment_hash,
        "readings": averaged(chart.sheet_print).content_hash() if chart.sheet_print else "",
        "chart": chart.sheet_print.chart.content_hash if chart.sheet_print else "",
    }
    settings = settings_from(stage.options, stage.build.mode.name)
    stage.profile = keep_profile(
        result, settings.title, settings.version, stage.options, made_from, task.started_by
    )
    found = ProfileStageResult.of_report(result.report, doubts=result.report["warnings"])
    stage.result = found.to_json()
    stage.save()
    _use_up_proposals(stage)
    work.end(Task, task.pk, Task.State.DONE, "done")
