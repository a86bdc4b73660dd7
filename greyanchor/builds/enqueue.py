"""Queueing the background work of builds."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background import queue
from greyanchor.builds.models import Stage, Task
from greyanchor.core.errors import BadInput


@needs(MAKE)
@transaction.atomic
def start_profile(stage: Stage, settings: dict[str, Any], user: User) -> Task:
    """Queue the building of a profile; one at a time for each stage."""
    if stage.state != Stage.State.OPEN:
        raise BadInput("the profile stage is not open")
    active = stage.tasks.filter(state__in=[Task.State.QUEUED, Task.State.RUNNING]).first()
    if active is not None and not active.looks_dead:
        raise BadInput("a profile is being built for this stage already")
    if active is not None:
        Task.objects.filter(pk=active.pk).update(state=Task.State.INTERRUPTED)
    stage.options = settings
    stage.save(update_fields=["options"])
    task = Task.objects.create(stage=stage, started_by=user, message="waiting for the worker")
    queue.start(task)
    return task
