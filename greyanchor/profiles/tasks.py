"""Background tasks."""

from __future__ import annotations

from django.db import transaction

from greyanchor.background import queue, work
from greyanchor.core.formats import cgats, icc
from greyanchor.core.profiling.build import build_from_model, build_profile
from greyanchor.core.profiling.rebuild import characterization_of
from greyanchor.profiles.models import ProfileWork
from greyanchor.profiles.queries import model_of, readings_of
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import settings_from


@queue.handles(ProfileWork)
def build_outside_a_log(pk: int) -> None:
    """Build a profile outside a log."""
    _build(ProfileWork.objects.select_related("parent").get(pk=pk))


def _build(job: ProfileWork) -> None:
    report = work.progress_of(ProfileWork, job.pk)
    parent = job.parent
    if parent is not None and job.kind == ProfileWork.Kind.SEPARATION:
        readings, model = readings_of(parent), model_of(parent)
        settings = settings_from(job.settings, job.title, len(readings.channels))
        result = build_from_model(model, readings, settings, report)
        made_from = {**parent.made_from, "model": f"of {parent.title}"}
    else:
        if parent is not None:
            readings, source = characterization_of(icc.loads(bytes(parent.data), parent.title))
        else:
            readings, source = (
                cgats.loads(job.readings.encode(), job.title),
                job.settings.get("files", "files"),
            )
        result = build_profile(
            readings, settings_from(job.settings, job.title, len(readings.channels)), report
        )
        made_from = {"from": source, "readings": readings.content_hash()}
    with transaction.atomic():
        made = keep_profile(
            result,
            job.settings.get("title") or job.title,
            int(job.settings.get("version", 4)),
            job.settings,
            made_from,
            job.started_by,
            parent,
        )
        ProfileWork.objects.filter(pk=job.pk).update(result=made)
        work.end(ProfileWork, job.pk, ProfileWork.State.DONE, "done")
