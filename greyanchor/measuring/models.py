"""Charts, prints and readings as records."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any

import numpy as np
from django.conf import settings
from django.db import models
from django.dispatch import Signal
from django.utils import timezone

from greyanchor.background.models import BackgroundWork
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import Printer
from greyanchor.measuring.cache import remember, remembered

#: sent with `reading_pass` after the last row of a pass is in, or a file took its place
pass_finished = Signal()
#: sent with `reading_pass` instead, when something about the readings is suspect: what was computed from them
#: is no result
readings_suspect = Signal()
#: whoever decided something on readings answers, for `sheet_print` (its key), with the names of what rests on
#: them
evidence_uses = Signal()
#: sent with `sheet_print` (its key), `reason` and `user` after a pass that something rests on was withdrawn
evidence_withdrawn = Signal()
#: whoever laid charts out answers with the primary keys of the prints that still wait for readings (a query
#: will do)
readings_wanted = Signal()


def parsed(text: str, name: str) -> ReadingSet:
    """CGATS text as the core knows it; equal text is parsed once in each process."""
    key = _text_key(text)
    return remembered(key, lambda: cgats.loads(text, name))  # type: ignore[no-any-return]


def written(readings: ReadingSet) -> str:
    """`readings` as CGATS text, which this process need not parse again."""
    text = cgats.dumps(readings)
    if readings.spectra is not None:  # as a reader of the text would have them
        remember(_text_key(text), replace(readings, spectra=np.round(readings.spectra, 6)))
    return text


def _text_key(text: str) -> bytes:
    return hashlib.sha1(text.encode(), usedforsecurity=False).digest()


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
        key = ("chart", self.pk, self.created_at)
        return remembered(key, lambda: parsed(self.text, self.title))  # type: ignore[no-any-return]


class SheetPrint(models.Model):
    """One print of a chart, or one about to be made: `device` is empty until something printed it.

    `sent` are the raw device values that go to the printer, fractions, of `sent_channels`. The sheet
    is dry `dry_minutes` after it was printed. `confirmed` are suspicions about its readings that somebody
    decided to pass over: what, why, who and when, by their keys.
    """

    chart = models.ForeignKey(Chart, on_delete=models.PROTECT, related_name="prints")
    printer = models.ForeignKey(Printer, null=True, on_delete=models.PROTECT, related_name="prints")
    environment = models.JSONField()
    environment_hash = models.CharField(max_length=64)
    sent = models.JSONField()
    sent_channels = models.JSONField(default=list)
    device = models.CharField(max_length=80, blank=True)
    ticket = models.JSONField(default=dict)
    origin = models.CharField(max_length=200, blank=True)
    confirmed = models.JSONField(default=dict)
    dry_minutes = models.FloatField(default=0.0)
    printed_at = models.DateTimeField(null=True)
    printed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    def __str__(self) -> str:
        return f"print {self.pk} of {self.chart}"

    @property
    def print_environment(self) -> PrintEnvironment:
        return PrintEnvironment(**self.environment)

    @property
    def is_film(self) -> bool:
        """Whether it is read by the light it lets through."""
        return bool(self.environment.get("screen"))

    @cached_property
    def raw_chart(self) -> ReadingSet:
        """The chart with the device values that were really sent."""
        key = ("sent", self.pk, self.chart_id, self.chart.created_at)
        return remembered(key, self._raw_chart)  # type: ignore[no-any-return]

    def _raw_chart(self) -> ReadingSet:
        channels = tuple(self.sent_channels or "CMYK")
        return replace(self.chart.patches, channels=channels, device=np.array(self.sent, dtype=float))

    @property
    def dry_at(self) -> datetime | None:
        """When the sheet may be read; None when it is not printed."""
        return None if self.printed_at is None else self.printed_at + timedelta(minutes=self.dry_minutes)

    @property
    def minutes_to_dry(self) -> float:
        """Minutes until the sheet is dry; 0 when it is, or when nothing is printed."""
        if self.dry_at is None:
            return 0.0
        return max(0.0, (self.dry_at - timezone.now()).total_seconds() / 60.0)


class ReadingPass(models.Model):
    """One pass over a print, filled row by row or from a file.

    `early_minutes` is how long before the sheet was dry its reading began; `corners` are the points that
    were set for the sheet in hand, mm; `skipped` rows are left for later. `marks` are rows that were kept
    although they are not what was expected, with the reason; `put_aside` says why, who and when for a pass
    that no longer counts. `content_hash` is of the figures: the same readings are taken once a print.
    """

    class State(models.TextChoices):
        OPEN = "open", "being read"
        DONE = "done", "complete"
        ASIDE = "aside", "left out"

    sheet_print = models.ForeignKey(SheetPrint, on_delete=models.CASCADE, related_name="passes")
    number = models.PositiveSmallIntegerField()
    source = models.CharField(max_length=200)
    condition = models.CharField(max_length=2, default="M1")
    state = models.CharField(max_length=8, choices=State.choices, default=State.OPEN)
    white_at = models.DateTimeField(null=True)
    early_minutes = models.FloatField(default=0.0)
    attempts = models.JSONField(default=dict)
    corners = models.JSONField(default=list)
    skipped = models.JSONField(default=list)
    marks = models.JSONField(default=dict)
    put_aside = models.JSONField(null=True)
    content_hash = models.CharField(max_length=64, blank=True)
    text = models.TextField(blank=True)
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["sheet_print", "number"], name="pass_number_once"),
            models.UniqueConstraint(
                fields=["sheet_print", "content_hash"],
                name="readings_once_a_print",
                condition=~models.Q(content_hash=""),
            ),
        ]

    def __str__(self) -> str:
        return f"pass {self.number} of {self.sheet_print}"

    @cached_property
    def readings(self) -> ReadingSet:
        """The finished pass as the core knows it."""
        key = ("pass", self.pk, self.finished_at)
        return remembered(key, lambda: parsed(self.text, str(self)))  # type: ignore[no-any-return]

    def lab(self) -> np.ndarray[Any, Any]:
        """Lab (n, 3) of the finished pass."""
        return remembered(("lab", self.pk, self.finished_at), lambda: self.readings.lab())


class Upload(BackgroundWork):
    """A file that was sent and is looked at before it is used; it is put aside once it was.

    `understood` is what was found in it, by whoever parsed it once: at once for a small file, by the worker
    for a large one.
    """

    name = models.CharField(max_length=200)
    data = models.BinaryField()
    sheet_print = models.ForeignKey(SheetPrint, null=True, on_delete=models.CASCADE, related_name="uploads")
    sent_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    sent_at = models.DateTimeField(auto_now_add=True)
    understood = models.JSONField(null=True)

    def __str__(self) -> str:
        return self.name


class Delivered(models.Model):
    """A readings file that came by the watched folder or from another program, and what became of it."""

    class Outcome(models.TextChoices):
        TAKEN = "taken", "used as a pass"
        REFUSED = "refused", "refused"

    name = models.CharField(max_length=200)
    via = models.CharField(max_length=80)
    outcome = models.CharField(max_length=8, choices=Outcome.choices)
    reason = models.CharField(max_length=400, blank=True)
    sheet_print = models.ForeignKey(
        SheetPrint, null=True, on_delete=models.SET_NULL, related_name="delivered"
    )
    came_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.name}: {self.outcome}"


class Claim(models.Model):
    """What one process at a time does, such as taking up files of the watched folder: who is at it, and until
    when at the latest.
    """

    name = models.CharField(max_length=80, unique=True)
    holder = models.CharField(max_length=160)
    until = models.DateTimeField()

    def __str__(self) -> str:
        return f"{self.name}: {self.holder}"


class ReadingRow(models.Model):
    """The spectra of one row, or the densities of a row of a film, saved the moment they arrive."""

    reading_pass = models.ForeignKey(ReadingPass, on_delete=models.CASCADE, related_name="rows")
    row = models.PositiveIntegerField()
    spectra = models.JSONField()
    read_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["row"]
        constraints = [models.UniqueConstraint(fields=["reading_pass", "row"], name="row_once_a_pass")]

    def values(self) -> np.ndarray[Any, Any]:
        """Reflectance (n, 36), or transmission densities (n, 2)."""
        return np.array(self.spectra, dtype=float)
