"""Packs on their way in, what a catalogue offers, and what was taken from it."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.utils import timezone

from greyanchor.background.models import BackgroundWork
from greyanchor.library.models.modes import PrintMode


class PackImport(BackgroundWork):
    """A pack, or loose profiles, being brought in: tested, planned, decided, then written all or not at all.

    `path` is the file below the home folder; `plan` says what it would create, change or leave, `choices`
    what a person decided, `result` what came of it. `WAITING` means that it waits for a person.
    """

    class Kind(models.TextChoices):
        PACK = "pack", "pack of print modes"
        PROFILES = "profiles", "loose profiles"

    class Step(models.TextChoices):
        TEST = "test", "being tested"
        PLAN = "plan", "waiting for a decision"
        WRITE = "write", "being written"
        DONE = "done", "imported"

    kind = models.CharField(max_length=10, choices=Kind.choices, default=Kind.PACK)
    step = models.CharField(max_length=6, choices=Step.choices, default=Step.TEST)
    name = models.CharField(max_length=200)
    path = models.CharField(max_length=200)
    sha256 = models.CharField(max_length=64)
    plan = models.JSONField(default=dict)
    choices = models.JSONField(default=dict)
    result = models.JSONField(default=dict)
    offer_key = models.CharField(max_length=120, blank=True)
    offer_version = models.CharField(max_length=20, blank=True)

    def __str__(self) -> str:
        return f"{self.name}, {self.get_step_display()}"

    @property
    def is_decidable(self) -> bool:
        """Whether a person may still choose what becomes of it."""
        return self.step == self.Step.PLAN and not self.is_active


class PackExport(BackgroundWork):
    """A pack being written for another shop: which modes, what it calls itself, and the file once it is
    whole.
    """

    modes = models.JSONField(default=list)
    title = models.CharField(max_length=160)
    maker = models.CharField(max_length=120, blank=True)
    note = models.TextField(blank=True)
    count = models.PositiveIntegerField(default=0)
    size = models.PositiveBigIntegerField(default=0)
    sha256 = models.CharField(max_length=64, blank=True)

    def __str__(self) -> str:
        return self.title


class Shelf(models.Model):
    """What the catalogue said when it was last asked, and when; there is one record."""

    address = models.CharField(max_length=200, blank=True)
    asked_at = models.DateTimeField(null=True)
    reached_at = models.DateTimeField(null=True)
    trouble = models.CharField(max_length=300, blank=True)

    class Meta:
        verbose_name_plural = "shelves"

    def __str__(self) -> str:
        return f"catalogue at {self.address or 'no address'}"

    @classmethod
    def current(cls) -> Shelf:
        """The record of the catalogue in use."""
        return cls.objects.get_or_create(pk=1)[0]


class Offer(models.Model):
    """One pack of the catalogue in its newest version, as the catalogue said it."""

    key = models.CharField(max_length=120, unique=True)
    title = models.CharField(max_length=160)
    maker = models.CharField(max_length=120)
    media_class = models.CharField(max_length=160)
    printer = models.CharField(max_length=80)
    version = models.CharField(max_length=20)
    versions = models.JSONField(default=list)
    modes = models.PositiveIntegerField()
    size = models.PositiveIntegerField()
    sha256 = models.CharField(max_length=64)
    note = models.TextField(blank=True)
    seen_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["maker", "title"]

    def __str__(self) -> str:
        return f"{self.title} {self.version}"


class Installed(models.Model):
    """A pack of the catalogue that was imported here, in one version, and the modes it brought."""

    key = models.CharField(max_length=120)
    version = models.CharField(max_length=20)
    title = models.CharField(max_length=160)
    sha256 = models.CharField(max_length=64)
    modes = models.ManyToManyField(PrintMode, related_name="installed_by")
    installed_at = models.DateTimeField(auto_now_add=True)
    installed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["key", "-installed_at"]

    def __str__(self) -> str:
        return f"{self.title} {self.version}"
