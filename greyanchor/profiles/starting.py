"""Queueing the building of profiles outside a log."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background import queue
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.profiles.models import Profile, ProfileWork

_ACTIVE = (ProfileWork.State.QUEUED, ProfileWork.State.RUNNING)


@needs(MAKE)
@transaction.atomic
def start(
    kind: str,
    title: str,
    settings: dict[str, Any],
    user: User,
    parent: Profile | None = None,
    readings: ReadingSet | None = None,
) -> ProfileWork:
    """Queue the building of a profile outside a log; one at a time for each parent and kind."""
    if parent is not None:
        active = parent.works.filter(kind=kind, state__in=_ACTIVE).first()
        if active is not None and not active.looks_dead:
            raise BadInput("that profile is being built already")
    work = ProfileWork.objects.create(
        kind=kind,
        title=title[:160],
        settings=settings,
        started_by=user,
        parent=parent,
        readings=cgats.dumps(readings) if readings is not None else "",
        message="waiting for the worker",
    )

    queue.start(work)
    return work
