"""What goes on unattended: the first work of each machine, step by step, and what is due by rule."""

from __future__ import annotations

import time
from datetime import datetime

import structlog
from django.db.models import Q
from django.utils import timezone

from greyanchor.accounts.roles import acting
from greyanchor.library.models import Printer
from greyanchor.measuring.claims import claimed
from greyanchor.unattended import building, nightly, services
from greyanchor.unattended.models import Unattended
from greyanchor.unattended.records import stopped, waits
from greyanchor.unattended.stops import Stop, Wait

_log = structlog.get_logger(__name__)
_GO_ON = {Unattended.Kind.BUILD: building.go_on, Unattended.Kind.NIGHT: nightly.go_on}
_CLAIM_SECONDS = 900.0


def tick(now: datetime | None = None, seconds: float = 30.0) -> int:
    """Begin what is due, and carry on with the first work of each machine for about so many seconds in all;
    the number of steps taken. Does nothing while another process is at it.
    """
    steps = 0
    with claimed("unattended", _CLAIM_SECONDS) as mine:
        if not mine:
            return 0
        services.begin_due(now or timezone.now())
        end = time.monotonic() + seconds
        for printer in Printer.objects.filter(unattended__state=Unattended.State.GOING).distinct():
            while time.monotonic() < end and _step(printer, now or timezone.now()):
                steps += 1
        for work in Unattended.objects.filter(state=Unattended.State.STOPPED, stop="media"):
            if work.printer.loaded_media_id == work.mode.media_id:
                services.carry_on(work, None)
    return steps


def _step(printer: Printer, now: datetime) -> bool:
    """One step of the machine's first work; whether there may be another now. What a person must look at
    first does not hold up the rest of the line.
    """
    line = Unattended.objects.filter(printer=printer, state=Unattended.State.GOING).order_by("pk")
    ready = line.filter(Q(not_before=None) | Q(not_before__lte=now))
    work = ready.select_related(
        "printer", "mode__media", "started_by", "build", "restore", "check_print"
    ).first()
    if work is None:
        return False
    return advance(work)


def advance(work: Unattended) -> bool:
    """One step of some work; whether there is more to do at once."""
    work.not_before = None
    with acting(work.started_by):
        try:
            return _GO_ON[Unattended.Kind(work.kind)](work)
        except Wait as wait:
            waits(work, wait)
        except Stop as stop:
            stopped(work, stop)
        except Exception as error:  # nobody is there to see it otherwise
            _log.exception("unattended work failed", work=work.pk)
            stopped(work, Stop("person", f"it failed: {type(error).__name__}: {error}"[:300]))
    return False
