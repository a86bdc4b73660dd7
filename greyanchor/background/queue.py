"""One queue for all background work. Each model of work registers the function that does it.

A record is created in the state *queued*, `start` hands it to the worker once the transaction is committed,
and the worker calls the registered function with the record's key. Whoever queues work need not import the
code that does it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import structlog
from django.apps import apps
from django.db import transaction
from django.utils import timezone
from huey.contrib.djhuey import HUEY, db_task
from structlog.contextvars import bound_contextvars, get_contextvars

from greyanchor.background import work
from greyanchor.background.models import BackgroundWork

Handler = Callable[[int], None]
_log = structlog.get_logger(__name__)
#: what waits for longer is looked for in the queue
_LONG_WAIT = timedelta(seconds=20)
_handlers: dict[type[BackgroundWork], Handler] = {}


def handles(model: type[BackgroundWork]) -> Callable[[Handler], Handler]:
    """Register the decorated function as what does the work of `model`; it takes the key of a record."""

    def register(handler: Handler) -> Handler:
        _handlers[model] = handler
        return handler

    return register


def start(record: BackgroundWork) -> None:
    """Hand a queued record to the worker, as soon as the transaction is committed."""
    label, pk = record._meta.label, record.pk
    request = get_contextvars().get("request", "")
    transaction.on_commit(lambda: run_queued(label, pk, request))


def run(record: BackgroundWork) -> None:
    """Do the work of a record here and now, as the worker does."""
    model = type(record)
    work.carry_out(model, record.pk, lambda: _handlers[model](record.pk))


@db_task()
def run_queued(label: str, pk: int, request: str = "") -> None:
    """What the worker runs: the work of one record of the model `label`, queued by a request of a number."""
    model: Any = apps.get_model(label)
    with bound_contextvars(**({"request": request} if request else {})):
        run(model(pk=pk))


def mark_interrupted() -> None:
    """Look through all work for what a worker that is gone was at."""
    for model in _handlers:
        work.mark_interrupted(model)


def queue_lost_again() -> None:
    """Hand over again what waits for the worker though the queue does not know of it: the queue was lost, or
    a process died between its commit and handing over.

    What is handed over twice is done once: work is taken up by one worker alone.
    """
    long_ago = timezone.now() - _LONG_WAIT
    waiting = [
        (model._meta.label, pk)
        for model in _handlers
        for pk in model._default_manager.filter(
            state=BackgroundWork.State.QUEUED, heard_at__lt=long_ago
        ).values_list("pk", flat=True)
    ]
    if not waiting:
        return
    known = {tuple(task.args[:2]) for task in HUEY.pending()}
    for label, pk in waiting:
        if (label, pk) not in known:
            _log.warning("queued work was lost and is queued again", work=label, id=pk)
            run_queued(label, pk)


def recover() -> None:
    """At the start of a worker: what a worker that is gone was at is interrupted, what was queued is queued
    again.
    """
    for model in _handlers:
        work.mark_interrupted(model)
        for pk in model._default_manager.filter(state=BackgroundWork.State.QUEUED).values_list(
            "pk", flat=True
        ):
            run_queued(model._meta.label, pk)
