"""Print rooms, who belongs to them, the shop's rules, and keys of other programs."""

from __future__ import annotations

import hashlib

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models


class Site(models.Model):
    """A print room."""

    name = models.CharField(max_length=80, unique=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Membership(models.Model):
    """The print room a person works in."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="membership")
    site = models.ForeignKey(Site, null=True, blank=True, on_delete=models.SET_NULL, related_name="members")

    def __str__(self) -> str:
        return f"{self.user} at {self.site or 'no site'}"


class ShopRules(models.Model):
    """What a release asks for; there is one record."""

    check_days = models.PositiveIntegerField(
        "age of the check, days, at most",
        default=30,
        validators=[MinValueValidator(1), MaxValueValidator(3650)],
        help_text="a release asks for a passing check no older than this",
    )
    profile_error = models.FloatField(
        "error of the profile, mean dE00, at most",
        default=1.5,
        validators=[MinValueValidator(0.1), MaxValueValidator(10)],
        help_text="on patches the profile was not made from",
    )
    double_reading = models.BooleanField(
        "charts are read twice",
        default=True,
        help_text="ramps and profile chart, in two passes that agree",
    )
    version = models.PositiveIntegerField(default=1, editable=False)

    class Meta:
        verbose_name_plural = "shop rules"

    def __str__(self) -> str:
        return f"a check of {self.check_days} days, profiles within {self.profile_error:g} dE00"

    @classmethod
    def current(cls) -> ShopRules:
        """The rules in force."""
        return cls.objects.get_or_create(pk=1)[0]


class ProgramKey(models.Model):
    """What another program signs in with, in the name of a person; only its hash is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="program_keys")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True, editable=False)
    made_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["name", "pk"]

    def __str__(self) -> str:
        return f"{self.name} of {self.user}"

    @staticmethod
    def digest_of(key: str) -> str:
        """What is kept of a key."""
        return hashlib.sha256(key.encode()).hexdigest()
