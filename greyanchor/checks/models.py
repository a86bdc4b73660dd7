"""Checks, tolerance sets, strips and schedules as records."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.urls import reverse
from django.utils import timezone
from simple_history.models import HistoricalRecords

from greyanchor.checks.content_hash import seal_of
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.tolerances import ToleranceSet, from_dict
from greyanchor.library.models import Printer, PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.profiles.models import AimRecord, Profile


class ToleranceRecord(models.Model):
    """A tolerance set of the shop; `version` counts edits, so that one edit cannot silently undo another."""

    key = models.SlugField(max_length=60, unique=True)
    title = models.CharField(max_length=120)
    data = models.JSONField()
    based_on = models.CharField(max_length=120, blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    changed_at = models.DateTimeField(auto_now=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    history = HistoricalRecords()

    class Meta:
        ordering = ["title"]

    def __str__(self) -> str:
        return self.title

    @property
    def tolerances(self) -> ToleranceSet:
        """The set as the core knows it."""
        return from_dict(self.data)


class StripRecord(models.Model):
    """A control strip of the shop: CMYK patches, with names of spot colours, as CGATS text."""

    name = models.CharField(max_length=120, unique=True)
    text = models.TextField()
    source = models.CharField(max_length=200, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def chart(self) -> ReadingSet:
        """The patches as the core knows them."""
        return cgats.loads(self.text, self.name)


class Check(models.Model):
    """A verdict with its figures, its readings and what it was held to.

    Only `name` and `note` may change after it was made, and every such change leaves a `CheckAmendment`.
    `withdrawn` says why its readings count no more, where they were withdrawn. The `seal` is a hash over
    everything else; what was signed off can be held to it.
    """

    name = models.CharField(max_length=160, blank=True)
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="checks")
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="checks")
    printer = models.ForeignKey(Printer, null=True, on_delete=models.PROTECT, related_name="checks")
    sheet_print = models.ForeignKey(SheetPrint, null=True, on_delete=models.PROTECT, related_name="checks")
    aim = models.ForeignKey(AimRecord, null=True, on_delete=models.PROTECT, related_name="checks")
    against = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="repeated")
    aim_name = models.CharField(max_length=160, blank=True)
    spots = models.JSONField(default=dict, blank=True)
    tolerances = models.CharField(max_length=60)
    tolerance_data = models.JSONField(default=dict)
    corrected = models.BooleanField(default=False)
    verdict = models.CharField(max_length=8)
    grade = models.CharField(max_length=60, blank=True)
    score = models.FloatField(null=True)
    summary = models.CharField(max_length=200)
    criteria = models.JSONField(default=list)
    own = models.JSONField(default=dict, blank=True)
    other_paper = models.JSONField(default=dict)
    guard = models.JSONField(default=dict)
    notes = models.JSONField(default=list)
    result = models.JSONField(default=dict)
    diagnosis = models.JSONField(null=True)
    readings = models.TextField()
    readings_hash = models.CharField(max_length=64)
    condition = models.CharField(max_length=2, default="M1")
    device = models.CharField(max_length=120, blank=True)
    note = models.CharField(max_length=300, blank=True)
    withdrawn = models.CharField(max_length=300, blank=True, editable=False)
    seal = models.CharField(max_length=64, editable=False, blank=True, default="")
    #: what reports that were printed by an earlier version name
    earlier_seal = models.CharField(max_length=64, editable=False, blank=True, default="")
    made_at = models.DateTimeField(default=timezone.now, db_index=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    signed_at = models.DateTimeField(null=True)
    signed_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["-made_at", "-pk"]
        indexes = [models.Index(fields=["mode", "tolerances", "made_at"])]

    def __str__(self) -> str:
        return f"check {self.pk}: {self.verdict}"

    def save(self, *args: Any, **kwargs: Any) -> None:
        if not self.seal:
            self.seal = seal_of(self)
        super().save(*args, **kwargs)

    @property
    def title(self) -> str:
        """What lists call it: its own name, its mode, or its number."""
        return self.name or (self.mode.name if self.mode_id and self.mode else f"check {self.pk}")

    @property
    def tolerance_title(self) -> str:
        """The set's title as it was on the day."""
        return str(self.tolerance_data.get("title", self.tolerances))

    @property
    def is_unchanged(self) -> bool:
        """Whether everything is as it was when the check was made."""
        return seal_of(self) == self.seal


class CheckFigure(models.Model):
    """One figure of a check, for trends."""

    check_made = models.ForeignKey(Check, on_delete=models.CASCADE, related_name="figures")
    criterion = models.CharField(max_length=60)
    value = models.FloatField()
    limit = models.FloatField(null=True)

    class Meta:
        indexes = [models.Index(fields=["criterion", "check_made"])]


class CheckAmendment(models.Model):
    """A change to a check after it was made: what, from what to what, who, and why."""

    check_made = models.ForeignKey(Check, on_delete=models.CASCADE, related_name="amendments")
    what = models.CharField(max_length=20)
    before = models.CharField(max_length=300, blank=True)
    after = models.CharField(max_length=300, blank=True)
    why = models.CharField(max_length=300)
    at = models.DateTimeField(auto_now_add=True)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["-at", "-pk"]


class CheckPrint(models.Model):
    """A control strip on its way through printer and reader: it becomes a check when a reading is
    complete.
    """

    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="check_prints")
    sheet_print = models.OneToOneField(SheetPrint, on_delete=models.CASCADE, related_name="check_print")
    aim = models.ForeignKey(AimRecord, null=True, on_delete=models.PROTECT, related_name="+")
    tolerances = models.CharField(max_length=60)
    corrected = models.BooleanField(default=False)
    spots = models.JSONField(default=dict, blank=True)
    against = models.ForeignKey(Check, null=True, on_delete=models.PROTECT, related_name="+")
    made_check = models.ForeignKey(Check, null=True, on_delete=models.SET_NULL, related_name="+")
    error = models.CharField(max_length=400, blank=True)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    started_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-started_at", "-pk"]


class Schedule(models.Model):
    """How often a mode is checked, and how."""

    mode = models.OneToOneField(PrintMode, on_delete=models.CASCADE, related_name="schedule")
    every_days = models.PositiveSmallIntegerField(
        "every, days", validators=[MinValueValidator(1), MaxValueValidator(366)]
    )
    aim = models.ForeignKey(AimRecord, on_delete=models.PROTECT, related_name="+")
    tolerances = models.CharField(max_length=60)
    corrected = models.BooleanField("substrate-corrected aim", default=True)
    strip = models.CharField(max_length=60, default="full")
    begins = models.DateTimeField(default=timezone.now)
    changed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["mode__name"]


class Drift(models.Model):
    """A figure of a mode that moves: worked out when its newest check was made."""

    mode = models.ForeignKey(PrintMode, on_delete=models.CASCADE, related_name="drifts")
    tolerances = models.CharField(max_length=60)
    criterion = models.CharField(max_length=60)
    text = models.CharField(max_length=240)
    crosses_at = models.DateTimeField(null=True)
    found_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["mode__name"]
        constraints = [
            models.UniqueConstraint(fields=["mode", "tolerances"], name="one_drift_a_mode_and_set")
        ]

    @property
    def trend_url(self) -> str:
        """The page that draws the figure over time."""
        of = {"of": f"mode-{self.mode_id}", "tolerances": self.tolerances, "criterion": self.criterion}
        return f"{reverse('trends')}?{urlencode(of)}"
