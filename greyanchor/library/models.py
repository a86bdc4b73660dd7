"""The shared library."""

from __future__ import annotations

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from simple_history.models import HistoricalRecords

from greyanchor.profiles.models import Profile


class Site(models.Model):
    """A print room."""

    name = models.CharField(max_length=80, unique=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class InkSet(models.Model):
    """The inks of a printer, by channel; `light` names light inks and the channel each belongs to."""

    name = models.CharField(max_length=80, unique=True)
    channels = models.JSONField(default=list)
    light = models.JSONField(default=dict, blank=True)
    kind = models.CharField(max_length=60)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def channel_text(self) -> str:
        return " ".join(self.raw_channels)

    @property
    def raw_channels(self) -> list[str]:
        """Every ink in printing order, light inks last."""
        return [*self.channels, *self.light]

    @property
    def dries_at_once(self) -> bool:
        """Whether lamps cure the ink while it prints."""
        return str(self.kind).startswith("UV")

    @property
    def can_be_built(self) -> bool:
        """Whether the bench can profile these channels."""
        return list(self.channels) == list("CMYK")


class Printer(models.Model):
    """One machine. `standin` tells how the stand-in behind it behaves: drift by channel, and its paper."""

    name = models.CharField(max_length=80, unique=True)
    model = models.CharField(max_length=80)
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="printers")
    serial = models.CharField(max_length=40)
    ink_sets = models.ManyToManyField(InkSet, related_name="printers")
    width_mm = models.PositiveIntegerField()
    resolutions = models.JSONField(default=list)
    passes = models.JSONField(default=list)
    driven_as = models.CharField(max_length=40, default="channels")
    standin = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class MediaClass(models.Model):
    """The group a media belongs to."""

    name = models.CharField(max_length=80, unique=True)

    class Meta:
        ordering = ["name"]
        verbose_name_plural = "media classes"

    def __str__(self) -> str:
        return self.name


class Media(models.Model):
    """What is printed on. `version` counts edits, so that one edit cannot silently undo another."""

    name = models.CharField(max_length=120, unique=True)
    media_class = models.ForeignKey(MediaClass, on_delete=models.PROTECT, related_name="media")
    maker = models.CharField(max_length=120)
    weight = models.PositiveIntegerField(
        "weight, g/m²", validators=[MinValueValidator(20), MaxValueValidator(2000)]
    )
    thickness = models.PositiveIntegerField(
        "thickness, µm", validators=[MinValueValidator(20), MaxValueValidator(20000)]
    )
    width_mm = models.PositiveIntegerField(
        "width, mm", validators=[MinValueValidator(100), MaxValueValidator(5200)]
    )
    brightener = models.CharField(
        "optical brightener",
        max_length=20,
        choices=[("none", "none"), ("faint", "faint"), ("moderate", "moderate"), ("high", "high")],
    )
    travels_backwards = models.BooleanField("may travel backwards", default=True)
    unreadable = models.BooleanField("no instrument can read it", default=False)
    dry_minutes = models.PositiveIntegerField(
        "dry-down, minutes", default=30, validators=[MaxValueValidator(10080)]
    )
    heat = models.FloatField(
        "usual heat, °C", default=36.0, validators=[MinValueValidator(15), MaxValueValidator(90)]
    )
    vacuum = models.FloatField(
        "usual vacuum, %", default=50.0, validators=[MinValueValidator(0), MaxValueValidator(100)]
    )
    notes = models.TextField(blank=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]
        verbose_name_plural = "media"

    def __str__(self) -> str:
        return self.name


class PrintMode(models.Model):
    """What an operator picks: an environment with its limits, curves and profile."""

    class State(models.TextChoices):
        BUILDING = "building", "in the bench"
        READY = "ready", "waiting for release"
        RELEASED = "released", "released"
        RETIRED = "retired", "retired"

    name = models.CharField(max_length=160, unique=True)
    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="modes")
    ink_set = models.ForeignKey(InkSet, on_delete=models.PROTECT, related_name="modes")
    media = models.ForeignKey(Media, on_delete=models.PROTECT, related_name="modes")
    environment = models.JSONField(default=dict)
    environment_hash = models.CharField(max_length=64)
    state = models.CharField(max_length=12, choices=State.choices, default=State.BUILDING, db_index=True)
    limits = models.JSONField(default=dict)
    total_ink = models.FloatField(null=True)
    curves = models.TextField(blank=True)
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="modes")
    splits = models.JSONField(default=list, blank=True)
    inherited = models.JSONField(default=dict, blank=True)
    derived_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.PROTECT, related_name="derived"
    )
    last_verdict = models.CharField(max_length=12, blank=True)
    last_check_summary = models.CharField(max_length=200, blank=True)
    note = models.TextField(blank=True)
    released_at = models.DateTimeField(null=True)
    released_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    history = HistoricalRecords(excluded_fields=["curves"])

    class Meta:
        ordering = ["name"]
        indexes = [models.Index(fields=["printer", "media"])]

    def __str__(self) -> str:
        return self.name

    @property
    def inherited_text(self) -> str:
        """What the mode has from elsewhere, in words; empty when everything is its own."""
        return "; ".join(f"{what} of {told['name']}" for what, told in self.inherited.items())

    @property
    def environment_rows(self) -> list[tuple[str, str]]:
        """The frozen choices with their units, for the mode's card."""
        e = self.environment
        return [
            ("Printer", e["printer"]), ("Ink set", e["ink_set"]), ("Media", e["media"]),
            ("Resolution", f"{e['resolution']} dpi"), ("Passes", str(e["passes"])), ("Direction", e["direction"]),
            ("Halftone", e["halftone"]), ("Heat", f"{e['heat']:g} °C"), ("Vacuum", f"{e['vacuum']:g} %"),
        ]  # fmt: skip


class ClassFallback(models.Model):
    """The mode whose limits, curves and profile a media class lends to media that have none, on one printer."""

    media_class = models.ForeignKey(MediaClass, on_delete=models.CASCADE, related_name="fallbacks")
    printer = models.ForeignKey(Printer, on_delete=models.CASCADE, related_name="fallbacks")
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="lent_by")

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["media_class", "printer"], name="one_fallback_a_class_and_printer"
            )
        ]

    def __str__(self) -> str:
        return f"{self.media_class} on {self.printer}: {self.mode}"
