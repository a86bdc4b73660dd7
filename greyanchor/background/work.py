"""Background work: taking it up, reporting how it goes, stopping it, and what was interrupted."""

from __future__ import annotations

import os
import socket
import threading
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import structlog
from django.db import close_old_connections, connection
from django.db.models import Q
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background.models import SILENCE, BackgroundWork
from greyanchor.core.errors import BadInput

_ACTIVE = (BackgroundWork.State.QUEUED, BackgroundWork.State.RUNNING)
_log = structlog.get_logger(__name__)
#: seconds between two signs of life
_BEAT = 10.0


def this_process() -> str:
    """What work is marked with by the process that takes it up: host and process number."""
    return f"{socket.gethostname()}:{os.getpid()}"[:120]


def is_alive(worker: str) -> bool:
    """Whether a process of this host still runs; those of other hosts are taken to."""
    host, _, number = worker.rpartition(":")
    if host != socket.gethostname() or not number.isdecimal():
        return bool(host)
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


class Cancelled(Exception):
    """Somebody asked the work to stop."""


def begin(model: type[BackgroundWork], pk: int) -> bool:
    """Take queued work up; False when somebody else did, or it was cancelled."""
    return bool(
        model._default_manager.filter(pk=pk, state=BackgroundWork.State.QUEUED).update(
            state=BackgroundWork.State.RUNNING, heard_at=timezone.now(), worker=this_process()
        )
    )


def progress_of(model: type[BackgroundWork], pk: int) -> Callable[[float, str], None]:
    """What the core says its progress to; raises `Cancelled` when somebody asked the work to stop."""

    def report(share: float, text: str) -> None:
        kept = model._default_manager.filter(pk=pk)
        kept.update(progress=share, message=text[:200], heard_at=timezone.now())
        if kept.filter(cancel_asked=True).exists():
            raise Cancelled

    return report


@contextmanager
def _heard(model: type[BackgroundWork], pk: int) -> Iterator[None]:
    """Let work be heard of while it runs, however long a step of it takes; within a transaction nobody
    else sees it until that is over.
    """
    if connection.in_atomic_block:
        yield
        return
    over = threading.Event()

    def beat() -> None:
        while not over.wait(_BEAT):
            try:
                running = model._default_manager.filter(pk=pk, state=BackgroundWork.State.RUNNING)
                running.update(heard_at=timezone.now())
            except Exception:
                _log.exception("a sign of life was not written", work=model._meta.label, id=pk)
            close_old_connections()

    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join(timeout=1.0)


def end(model: type[BackgroundWork], pk: int, state: str, message: str, error: str = "") -> None:
    """Keep how work ended."""
    facts: dict[str, Any] = {
        "state": state,
        "message": message[:200],
        "error": error,
        "heard_at": timezone.now(),
    }
    if state == BackgroundWork.State.DONE:
        facts["progress"] = 1.0
    model._default_manager.filter(pk=pk).update(**facts)


def carry_out(model: type[BackgroundWork], pk: int, what: Callable[[], None]) -> None:
    """Do queued work; every end, good or bad, is kept with it."""
    if not begin(model, pk):
        return
    log = _log.bind(work=model._meta.label, id=pk)
    log.info("work begun")
    try:
        with _heard(model, pk):
            what()
        log.info("work done")
    except Cancelled:
        log.info("work cancelled")
        end(model, pk, BackgroundWork.State.CANCELLED, "cancelled")
    except BadInput as error:
        log.warning("work refused", reason=str(error))
        end(model, pk, BackgroundWork.State.FAILED, str(error))
    except Exception as error:
        log.exception("work failed")
        end(model, pk, BackgroundWork.State.FAILED, f"the program failed: {error}", traceback.format_exc())


@needs(MAKE)
def cancel(model: type[BackgroundWork], pk: int) -> None:
    """Ask work to stop; it stops at its next step, or at once when it has not begun."""
    ask_to_stop(model, pk)


def ask_to_stop(model: type[BackgroundWork], pk: int) -> None:
    """The same, for services that hold to a role themselves."""
    every = model._default_manager.filter(pk=pk)
    every.filter(state=BackgroundWork.State.QUEUED).update(state=BackgroundWork.State.CANCELLED)
    every.filter(state=BackgroundWork.State.RUNNING).update(cancel_asked=True)


def mark_interrupted(model: type[BackgroundWork]) -> None:
    """Work whose worker is gone is running no more: a process of this host that ended, or one that was not
    heard of for too long. What another worker is at goes on.
    """
    running = model._default_manager.filter(state=BackgroundWork.State.RUNNING)
    gone = [pk for pk, worker in running.values_list("pk", "worker") if not is_alive(worker)]
    silent = Q(heard_at__lt=timezone.now() - SILENCE)
    running.filter(Q(pk__in=gone) | silent).update(
        state=BackgroundWork.State.INTERRUPTED,
        message="the worker stopped before it was done; start it again",
    )
