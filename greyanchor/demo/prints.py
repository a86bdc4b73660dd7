"""Prints of the demo data."""

from __future__ import annotations

from datetime import timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_on_standin, standin_reading
from greyanchor.measuring.services import keep_whole_pass


def read_print(job: SheetPrint, passes: int, user: User) -> None:
    """Print, let dry, and read with a careful hand."""
    job = print_on_standin(job.pk, user, timezone.now() - timedelta(minutes=job.dry_minutes))
    for number in range(1, passes + 1):
        keep_whole_pass(job, standin_reading(job, number), "stand-in strip reader SR-1042", user)
