"""Unattended work as records: what a machine does alone, step by step, and the rules it is kept true by."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from django.urls import reverse
from django.utils import timezone

from greyanchor.builds.models import Build, Restore
from greyanchor.checks.models import Check, CheckPrint
from greyanchor.core.calibration.nightly import DriftLimits
from greyanchor.library.models import Printer, PrintMode
from greyanchor.profiles.models import AimRecord


class Unattended(models.Model):
    """A build, or a night's look at a mode, that a machine carries out alone.

    Work of one machine waits in line, the oldest first. `stop` names the rule that stopped it, `words`
    say why, `todo` what a person does. `not_before` is when a sheet is dry. `wishes` are what a person
    would choose on the way: patches, aim, tolerance set, whether the aim is substrate-corrected, whether
    the eye judges total ink. `tries` counts readings that were suspect, by print.
    """

    class Kind(models.TextChoices):
        BUILD = "build", "build"
        NIGHT = "night", "look at night"

    class State(models.TextChoices):
        GOING = "going", "going on"
        STOPPED = "stopped", "waits for a person"
        DONE = "done", "done"
        ENDED = "ended", "ended by a person"

    OVER = (State.DONE, State.ENDED)

    kind = models.CharField(max_length=8, choices=Kind.choices)
    state = models.CharField(max_length=8, choices=State.choices, default=State.GOING)
    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="unattended")
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="unattended")
    build = models.ForeignKey(Build, null=True, on_delete=models.PROTECT, related_name="unattended")
    restore = models.ForeignKey(Restore, null=True, on_delete=models.PROTECT, related_name="unattended")
    check_print = models.ForeignKey(CheckPrint, null=True, on_delete=models.PROTECT, related_name="+")
    check_made = models.ForeignKey(Check, null=True, on_delete=models.PROTECT, related_name="+")
    wishes = models.JSONField(default=dict)
    tries = models.JSONField(default=dict)
    stop = models.CharField(max_length=12, blank=True)
    words = models.CharField(max_length=400, blank=True)
    todo = models.CharField(max_length=300, blank=True)
    not_before = models.DateTimeField(null=True)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    started_at = models.DateTimeField(auto_now_add=True)
    heard_at = models.DateTimeField(auto_now=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} of {self.mode.name}"

    @property
    def is_over(self) -> bool:
        return self.state in self.OVER

    @property
    def is_stopped(self) -> bool:
        return bool(self.state == self.State.STOPPED)

    @property
    def url(self) -> str:
        """Its page."""
        return reverse("unattended-work", args=[self.pk])

    def choice(self, name: str, usual: Any) -> Any:
        """A wish, or what is usual."""
        return self.wishes.get(name, usual)


class UnattendedStep(models.Model):
    """What unattended work did or decided: `what`, the `figure` it rests on, and `why`."""

    work = models.ForeignKey(Unattended, on_delete=models.CASCADE, related_name="steps")
    at = models.DateTimeField(default=timezone.now)
    what = models.CharField(max_length=120)
    figure = models.CharField(max_length=300, blank=True)
    why = models.CharField(max_length=400, blank=True)
    is_decision = models.BooleanField(default=False)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.what


class NightRule(models.Model):
    """How a mode is kept true: how often its short chart is read and from which hour of the day on, the drift
    that is tolerated, the share of it past which curves are restored, and the aim that a check afterwards
    is held to. Machines without a reader inside get the same as a list to work through.
    """

    mode = models.OneToOneField(PrintMode, on_delete=models.CASCADE, related_name="night_rule")
    is_on = models.BooleanField(default=True)
    every_days = models.PositiveSmallIntegerField(default=1)
    from_hour = models.PositiveSmallIntegerField(default=2)
    tolerance = models.FloatField(default=1.5)
    share_percent = models.FloatField(default=50.0)
    aim = models.ForeignKey(AimRecord, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    tolerances = models.CharField(max_length=80, blank=True)
    last_at = models.DateTimeField(null=True)
    from_now = models.BooleanField(default=False)
    version = models.PositiveIntegerField(default=1)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")

    def __str__(self) -> str:
        return f"night rule of {self.mode.name}"

    @property
    def limits(self) -> DriftLimits:
        """As the core takes it."""
        return DriftLimits(self.tolerance, self.share_percent / 100.0)
