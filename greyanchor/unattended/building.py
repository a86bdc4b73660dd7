"""A build from its environment to a checked mode in review, stage by stage, with nobody there."""

from __future__ import annotations

from django.db import transaction

from greyanchor.background import queue
from greyanchor.builds.evidence.charts import lay_out_confirmation, lay_out_stage
from greyanchor.builds.evidence.log import headline
from greyanchor.builds.lifecycle.acceptance_rules import objections
from greyanchor.builds.lifecycle.decisions import accept_stage
from greyanchor.builds.models import Build, Stage, Task
from greyanchor.builds.stages.registry import type_of
from greyanchor.core.errors import BadInput
from greyanchor.measuring.queries import double_reading
from greyanchor.measuring.services import method_of
from greyanchor.unattended import sheets
from greyanchor.unattended.models import Unattended
from greyanchor.unattended.records import done, note
from greyanchor.unattended.stops import Stop

ALONE = "decided unattended: nothing speaks against it"


def go_on(work: Unattended) -> bool:
    """One stage further; whether there is more to do. Raises `Stop` or `Wait`."""
    assert work.build is not None
    build = Build.objects.select_related("mode__ink_set", "mode__media").get(pk=work.build_id)
    stage = build.stages.exclude(state=Stage.State.ACCEPTED).order_by("position").first()
    if stage is None:
        done(work, f"{work.mode.name} is built")
        return False
    if type_of(stage).releases:
        check = build.mode.last_check_summary
        done(work, f"{work.mode.name} waits for its release: {check or 'checked'}")
        return False
    if build.mode.media.unreadable:
        raise Stop("eye", f"no instrument reads {build.mode.media.name}: it is built by eye")
    try:
        _evidence(work, stage)
        _accept(work, stage)
    except BadInput as error:
        raise Stop("doubt", f"{type_of(stage).title}: {error.sentence}") from error
    return True


def _evidence(work: Unattended, stage: Stage) -> None:
    kind = type_of(stage)
    if not kind.passes:
        _made(work, stage)
        return
    job = stage.sheet_print
    if job is None or (not job.device and method_of(job) != sheets.INLINE):
        lay_out_stage(stage, {**kind.options_alone(stage, work.wishes), "method": sheets.INLINE})
        stage.refresh_from_db()
    assert stage.sheet_print is not None
    sheets.evidence(work, stage.sheet_print, max(kind.passes, int(work.choice("passes", 1))))
    stage.refresh_from_db()
    if stage.result is None:
        raise Stop("suspect", f"{kind.title} has no result from its readings")
    if kind.confirms and "confirm" not in {k for k, v in stage.result.items() if v}:
        job = stage.confirm_print or lay_out_confirmation(stage)
        sheets.evidence(work, job, 2)
        stage.refresh_from_db()


def _made(work: Unattended, stage: Stage) -> None:
    """What is computed rather than read: the profile, by the queue's own function, here and now."""
    if stage.result is not None:
        return
    kind = type_of(stage)
    settings = kind.settings_alone(stage, work.mode.name)
    stage.options = settings
    stage.save(update_fields=["options"])
    task = Task.objects.create(stage=stage, started_by=work.started_by, message="unattended")
    note(work, f"{kind.title} is being built")
    queue.run(task)
    task.refresh_from_db()
    if task.state != Task.State.DONE:
        why = task.error.strip().splitlines()[-1] if task.error.strip() else task.message
        raise Stop("doubt", f"{kind.title} was not built: {why}")
    stage.refresh_from_db()


def _accept(work: Unattended, stage: Stage) -> None:
    """By the same rules as a person; what speaks against it is a person's to weigh."""
    kind = type_of(stage)
    values = kind.found_values(stage)
    against = objections(stage, values)
    if against:
        raise Stop("check" if kind.mode_state else "doubt", f"{kind.title}: {'; '.join(against)}")
    doubts = kind.doubts_alone(stage, work.wishes)
    if doubts is not None:
        raise Stop(doubts[0], f"{kind.title}: {doubts[1]}")
    build = Build.objects.get(pk=stage.build_id)
    twice = double_reading(stage.sheet_print) if stage.sheet_print else None
    read = f"read twice, within {twice.mean:.2f} dE00 mean; " if twice else ""
    with transaction.atomic():  # no decision without its line
        accepted = accept_stage(stage.pk, build.version, values, ALONE, work.started_by)
        note(work, f"{kind.title} accepted", headline(accepted), f"{read}nothing speaks against it", True)
