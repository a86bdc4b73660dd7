"""How long until something is tried again."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from greyanchor.delivery.models import Attempted

#: seconds from one attempt to the next; after the last it is given up
WAITS = (10, 60, 300, 1800, 7200, 21_600, 86_400)


def failed(record: Attempted, reason: str) -> None:
    """An attempt did not succeed: it is tried again later, or given up."""
    record.attempts += 1
    record.reason = reason[:300]
    if record.attempts > len(WAITS):
        record.state = Attempted.State.GIVEN_UP
    else:
        record.next_at = timezone.now() + timedelta(seconds=WAITS[record.attempts - 1])
    record.save()


def succeeded(record: Attempted, **facts: Any) -> None:
    """It is delivered."""
    record.attempts += 1
    record.state, record.reason, record.done_at = Attempted.State.DONE, "", timezone.now()
    for name, value in facts.items():
        setattr(record, name, value)
    record.save()


def again(record: Attempted) -> None:
    """Try at once what failed or was given up, from the beginning."""
    record.state, record.attempts, record.next_at = Attempted.State.WAITING, 0, timezone.now()
    record.save()


def due(model: type[Attempted], now: datetime | None = None) -> Any:
    """What is to be tried now, the oldest first."""
    waiting = model._default_manager.filter(state=Attempted.State.WAITING, next_at__lte=now or timezone.now())
    return waiting.order_by("next_at", "pk")
