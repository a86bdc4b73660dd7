"""Charts, prints and readings as records."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from functools import cached_property
from typing import Any

import numpy as np
from django.conf import settings
from django.db import models
from django.dispatch import Signal

from greyanchor.core.environment import PrintEnvironment
from greyanchor.core.formats import cgats
from greyanchor.core.readings import ReadingSet

#: sent with `reading_pass` after the last row of a pass is in, or a file took its place
pass_finished = Signal()


_PARSED: OrderedDict[bytes, ReadingSet] = OrderedDict()
_PARSED_KEPT = 64


def parsed(text: str, name: str) -> ReadingSet:
    """CGATS text as the core knows it; equal text is parsed once in each process."""
    key = hashlib.sha1(text.encode(), usedforsecurity=False).digest()
    found = _PARSED.get(key)
    if found is None:
        found = cgats.loads(text, name)
        _PARSED[key] = found
        while len(_PARSED) > _PARSED_KEPT:
            _PARSED.popitem(last=False)
    return found


class Chart(models.Model):
    """A laid-out chart; `text` is its CGATS file."""

    purpose = models.CharField(max_length=20)
    title = models.CharField(max_length=200)
    text = models.TextField()
    content_hash = models.CharField(max_length=64)
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.title

    @cached_property
    def patches(self) -> ReadingSet:
        """The chart as the core knows it."""
        return parsed(self.text, self.title)


class SheetPrint(models.Model):
    """One print of a chart, or one about to be made: `device` is empty until something printed it.

    `sent` are the raw device values that go to the printer, fractions.
    """

    chart = models.ForeignKey(Chart, on_delete=models.PROTECT, related_name="prints")
    environment = models.JSONField()
    environment_hash = models.CharField(max_length=64)
    sent = models.JSONField()
    device = models.CharField(max_length=80, blank=True)
    ticket = models.JSONField(default=dict)
    origin = models.CharField(max_length=200, blank=True)
    printed_at = models.DateTimeField(null=True)
    printed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    def __str__(self) -> str:
        return f"print {self.pk} of {self.chart}"

    @property
    def can_be_read_here(self) -> bool:
        """Whether the stand-in printer made it, so that the stand-in instrument can read it."""
        return bool(self.ticket)

    @property
    def print_environment(self) -> PrintEnvironment:
        return PrintEnvironment(**self.environment)

    @cached_property
    def raw_chart(self) -> ReadingSet:
        """The chart with the device values that were really sent."""
        from dataclasses import replace

        return replace(self.chart.patches, device=np.array(self.sent, dtype=float))


class ReadingPass(models.Model):
    """One pass over a print, filled row by row or from a file."""

    class State(models.TextChoices):
        OPEN = "open", "being read"
        DONE = "done", "complete"

    sheet_print = models.ForeignKey(SheetPrint, on_delete=models.CASCADE, related_name="passes")
    number = models.PositiveSmallIntegerField()
    source = models.CharField(max_length=200)
    state = models.CharField(max_length=8, choices=State.choices, default=State.OPEN)
    white_at = models.DateTimeField(null=True)
    attempts = models.JSONField(default=dict)
    text = models.TextField(blank=True)
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["sheet_print", "number"], name="pass_number_once")]

    def __str__(self) -> str:
        return f"pass {self.number} of {self.sheet_print}"

    @cached_property
    def readings(self) -> ReadingSet:
        """The finished pass as the core knows it."""
        return parsed(self.text, str(self))


class ReadingRow(models.Model):
    """The spectra of one row, saved the moment they arrive."""

    reading_pass = models.ForeignKey(ReadingPass, on_delete=models.CASCADE, related_name="rows")
    row = models.PositiveIntegerField()
    spectra = models.JSONField()
    read_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["row"]
        constraints = [models.UniqueConstraint(fields=["reading_pass", "row"], name="row_once_a_pass")]

    def values(self) -> np.ndarray[Any, Any]:
        """Reflectance (n, 36)."""
        return np.array(self.spectra, dtype=float)
