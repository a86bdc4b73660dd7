"""Claims: what only one process does at a time, however many there are."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta

from django.db import IntegrityError, transaction
from django.utils import timezone

from greyanchor.background.work import is_alive, this_process
from greyanchor.measuring.models import Claim


@contextmanager
def claimed(name: str, seconds: float = 120.0) -> Iterator[bool]:
    """Claim `name` for as long as the block runs; gives False, and waits for nothing, while another has it.

    A claim whose process died is taken over: at once on the same host, after `seconds` elsewhere.
    """
    holder, now = f"{this_process()} {uuid.uuid4().hex}", timezone.now()
    until = now + timedelta(seconds=seconds)
    taken = Claim.objects.filter(name=name, until__lt=now).update(holder=holder, until=until)
    if not taken:
        try:
            with transaction.atomic():
                Claim.objects.create(name=name, holder=holder, until=until)
            taken = 1
        except IntegrityError:
            taken = _taken_over(name, holder, until)
    try:
        yield bool(taken)
    finally:
        if taken:
            Claim.objects.filter(name=name, holder=holder).delete()


def _taken_over(name: str, holder: str, until: datetime) -> int:
    """Take a claim from a process of this host that is gone; 1 where that was so."""
    held = Claim.objects.filter(name=name).values_list("holder", flat=True).first() or ""
    process, space, _ = held.rpartition(" ")
    if not space or is_alive(process):
        return 0
    return Claim.objects.filter(name=name, holder=held).update(holder=holder, until=until)
