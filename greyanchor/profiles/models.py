"""Profiles and aims as records."""

from __future__ import annotations

import hashlib

from django.conf import settings as django_settings
from django.db import models


class Profile(models.Model):
    """An ICC profile, what it was made from, and how good it is."""

    title = models.CharField(max_length=160)
    version = models.PositiveSmallIntegerField(default=4)
    data = models.BinaryField()
    sha256 = models.CharField(max_length=64, editable=False)
    report = models.JSONField(default=dict)
    settings = models.JSONField(default=dict)
    neutral = models.JSONField(default=list)
    boundary = models.JSONField(default=list)
    lightest = models.FloatField(default=100.0)
    darkest = models.FloatField(default=0.0)
    made_from = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return self.title

    def save(self, *args: object, **kwargs: object) -> None:
        self.sha256 = hashlib.sha256(bytes(self.data)).hexdigest()
        super().save(*args, **kwargs)  # type: ignore[arg-type]

    @property
    def file_name(self) -> str:
        plain = "".join(c if c.isalnum() or c in "-_." else "-" for c in self.title).strip("-")
        return f"{plain or 'profile'}.icc"


class AimRecord(models.Model):
    """An aim in one edition; checks keep the edition they used."""

    name = models.CharField(max_length=120)
    edition = models.PositiveSmallIntegerField(default=1)
    source = models.CharField(max_length=300)
    data = models.BinaryField()
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name", "-edition"]
        constraints = [models.UniqueConstraint(fields=["name", "edition"], name="aim_edition_once")]

    def __str__(self) -> str:
        return f"{self.name}, edition {self.edition}"
