"""Checks as records."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import AimRecord, Profile


class Check(models.Model):
    """A verdict with its figures, its readings and what it was held to. Never changed after it is made."""

    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="checks")
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="checks")
    aim = models.ForeignKey(AimRecord, on_delete=models.PROTECT, related_name="checks")
    tolerances = models.CharField(max_length=60)
    corrected = models.BooleanField(default=False)
    verdict = models.CharField(max_length=8)
    summary = models.CharField(max_length=200)
    criteria = models.JSONField(default=list)
    result = models.JSONField(default=dict)
    readings = models.TextField()
    readings_hash = models.CharField(max_length=64)
    condition = models.CharField(max_length=2, default="M1")
    made_at = models.DateTimeField(auto_now_add=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        return f"check {self.pk}: {self.verdict}"
