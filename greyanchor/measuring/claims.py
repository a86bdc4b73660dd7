"""Claims: what only one process does at a time, however many there are."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta

from django.db import IntegrityError, transaction
from django.utils import timezone

from greyanchor.measuring.models import Claim


@contextmanager
def claimed(name: str, seconds: float = 120.0) -> Iterator[bool]:
    """Claim `name` for as long as the block runs; gives False, and waits for nothing, while another has it.

    A claim whose process died can be taken over after `seconds`.
    """
    holder, now = uuid.uuid4().hex, timezone.now()
    until = now + timedelta(seconds=seconds)
    taken = Claim.objects.filter(name=name, until__lt=now).update(holder=holder, until=until)
    if not taken:
        try:
            with transaction.atomic():
                Claim.objects.create(name=name, holder=holder, until=until)
            taken = 1
        except IntegrityError:
            taken = 0
    try:
        yield bool(taken)
    finally:
        if taken:
            Claim.objects.filter(name=name, holder=holder).delete()
