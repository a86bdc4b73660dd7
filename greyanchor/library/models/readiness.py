"""What was done to ready machines, and what was sent to their memories."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.utils import timezone

from greyanchor.library.models.equipment import Media, MediaPreset, Printer
from greyanchor.library.models.modes import PrintMode


class ReadinessRun(models.Model):
    """One time a readiness task was done: the pattern printed, how it was judged, and the value found.

    A record without `done_at` is a pattern that was printed and waits for its judgement. `value` is kept for
    the printer with the media that was in it; nozzle checks hold the missing nozzles by ink instead.
    """

    class How(models.TextChoices):
        EYE = "eye", "by eye"
        READING = "reading", "by reading"

    printer = models.ForeignKey(Printer, on_delete=models.CASCADE, related_name="readiness_runs")
    media = models.ForeignKey(Media, null=True, on_delete=models.CASCADE, related_name="readiness_runs")
    task = models.CharField(max_length=20)
    pattern = models.JSONField(default=dict)
    how = models.CharField(max_length=8, choices=How.choices, blank=True)
    before = models.FloatField(null=True)
    value = models.FloatField(null=True)
    missing = models.JSONField(default=dict, blank=True)
    good = models.BooleanField(default=True)
    note = models.CharField(max_length=200, blank=True)
    printed_at = models.DateTimeField(default=timezone.now)
    done_at = models.DateTimeField(null=True, db_index=True)
    done_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        db_table = "library_readied"
        ordering = ["-printed_at", "-pk"]
        verbose_name = "readiness pattern"
        indexes = [models.Index(fields=["printer", "media", "task", "done_at"])]

    def __str__(self) -> str:
        return f"{self.task} on {self.printer}"


class SlotSent(models.Model):
    """What was last sent to a slot of a printer's memory, and in whose name."""

    printer = models.ForeignKey(Printer, on_delete=models.CASCADE, related_name="slots_sent")
    number = models.PositiveSmallIntegerField()
    preset = models.ForeignKey(MediaPreset, null=True, on_delete=models.SET_NULL, related_name="slots_sent")
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.SET_NULL, related_name="slots_sent")
    title = models.CharField(max_length=160)
    values = models.JSONField(default=dict)
    sent_at = models.DateTimeField(auto_now=True)
    sent_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["number"]
        verbose_name = "slot of a machine's memory"
        verbose_name_plural = "slots of machines' memories"
        constraints = [models.UniqueConstraint(fields=["printer", "number"], name="slot_once_a_printer")]

    def __str__(self) -> str:
        return f"slot {self.number} of {self.printer}: {self.title}"
