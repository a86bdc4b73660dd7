"""What was swapped in a machine, as a record."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.utils import timezone

from greyanchor.core.verification.attribution import HEAD, HEAT, INK, INSTRUMENT, PAPER
from greyanchor.library.models import Printer


class Swap(models.Model):
    """Another batch of media, another lot of ink, another head, another instrument; heat set otherwise by
    hand.

    `ink` is empty for what concerns all of them; `batch` is its number, where it has one.
    """

    class Kind(models.TextChoices):
        PAPER = PAPER, "batch of media"
        INK = INK, "lot of ink"
        HEAD = HEAD, "head"
        INSTRUMENT = INSTRUMENT, "instrument"
        HEAT = HEAT, "heat"

    printer = models.ForeignKey(Printer, on_delete=models.CASCADE, related_name="swaps")
    kind = models.CharField(max_length=12, choices=Kind.choices)
    ink = models.CharField(max_length=12, blank=True)
    batch = models.CharField(max_length=80, blank=True)
    at = models.DateTimeField(default=timezone.now, db_index=True)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["-at", "-pk"]

    def __str__(self) -> str:
        what = f"{self.get_kind_display()}{f' {self.ink}' if self.ink else ''}"
        return f"{what}{f' {self.batch}' if self.batch else ''}"
