"""Sites, who works at each, keys of other programs, and the audit log.

Their tables belong to the library, where they were first made.
"""

from __future__ import annotations

import hashlib

from django.conf import settings
from django.contrib.contenttypes.fields import GenericForeignKey
from django.contrib.contenttypes.models import ContentType
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone


class Site(models.Model):
    """A print room."""

    name = models.CharField(max_length=80, unique=True)

    class Meta:
        app_label = "library"
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Membership(models.Model):
    """The print room a person works in."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="membership")
    site = models.ForeignKey(Site, null=True, blank=True, on_delete=models.SET_NULL, related_name="members")

    class Meta:
        app_label = "library"

    def __str__(self) -> str:
        return f"{self.user} at {self.site or 'no site'}"


class ProgramKey(models.Model):
    """What another program signs in with, in the name of a person; only its hash is kept. Without `may_write`
    it reads alone; after `expires_at` it is refused.
    """

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="program_keys")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True, editable=False)
    made_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)
    expires_at = models.DateTimeField(null=True)
    may_write = models.BooleanField(default=True)

    class Meta:
        app_label = "library"
        ordering = ["name", "pk"]

    def __str__(self) -> str:
        return f"{self.name} of {self.user}"

    @property
    def is_over(self) -> bool:
        """Whether its time has run out."""
        return self.expires_at is not None and self.expires_at <= timezone.now()

    @staticmethod
    def digest_of(key: str) -> str:
        """What is kept of a key."""
        return hashlib.sha256(key.encode()).hexdigest()


class ResetLink(models.Model):
    """A link by which a person sets a new password once; a lead made it, and only its hash is kept."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="reset_link")
    digest = models.CharField(max_length=64, unique=True, editable=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        app_label = "library"

    def __str__(self) -> str:
        return f"reset link of {self.user}"


class SecondFactor(models.Model):
    """What a person signs in with besides a password: a code that changes every half minute (RFC 6238).

    `step` is the last half minute whose code was taken, so that no code is taken twice; `spare` holds hashes
    of codes for the day when the device is lost.
    """

    user = models.OneToOneField(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="second_factor"
    )
    secret = models.CharField(max_length=64, editable=False)
    confirmed_at = models.DateTimeField(null=True)
    step = models.BigIntegerField(default=0)
    spare = models.JSONField(default=list)
    failures = models.PositiveIntegerField(default=0)
    failed_at = models.DateTimeField(null=True)

    class Meta:
        app_label = "library"

    def __str__(self) -> str:
        return f"second factor of {self.user}"


class AccessRules(models.Model):
    """How long a session lasts and who needs a second factor; there is one record."""

    class Whom(models.TextChoices):
        NOBODY = "nobody", "nobody must, anybody may"
        LEADS = "leads", "leads"
        EVERYBODY = "everybody", "everybody"

    idle_hours = models.PositiveIntegerField(
        "a session ends after hours without a step",
        default=12,
        validators=[MinValueValidator(1), MaxValueValidator(24 * 14)],
        help_text="what a page asks by itself is no step",
    )
    longest_days = models.PositiveIntegerField(
        "and after days in any case",
        default=30,
        validators=[MinValueValidator(1), MaxValueValidator(365)],
    )
    second_factor = models.CharField(
        "a second factor is required of", max_length=12, choices=Whom.choices, default=Whom.NOBODY
    )
    version = models.PositiveIntegerField(default=1, editable=False)

    class Meta:
        app_label = "library"
        verbose_name_plural = "access rules"

    def __str__(self) -> str:
        return f"{self.idle_hours} h idle, {self.longest_days} days, second factor: {self.second_factor}"

    @classmethod
    def current(cls) -> AccessRules:
        """The rules in force; those of a new shop where nobody set any."""
        return cls.objects.filter(pk=1).first() or cls(pk=1)


class FirstLink(models.Model):
    """The link that makes the first account of a shop; only its hash is kept."""

    digest = models.CharField(max_length=64, unique=True, editable=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        app_label = "library"

    def __str__(self) -> str:
        return f"first link of {self.made_at:%Y-%m-%d}"

    @staticmethod
    def digest_of(token: str) -> str:
        """What is kept of a link."""
        return hashlib.sha256(token.encode()).hexdigest()


class AuditEntry(models.Model):
    """One change of something that is kept beside a record or has no versions: a file, notes on curves, what
    a
    class lends, a rule, a person's role. `before` is empty for what was added, `after` for what was taken
    away.
    """

    content_type = models.ForeignKey(ContentType, on_delete=models.CASCADE)
    object_id = models.PositiveBigIntegerField()
    subject = GenericForeignKey()
    what = models.CharField(max_length=120)
    before = models.TextField(blank=True)
    after = models.TextField(blank=True)
    at = models.DateTimeField(auto_now_add=True)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        app_label = "library"
        db_table = "library_noted"
        ordering = ["-at", "-pk"]
        indexes = [models.Index(fields=["content_type", "object_id", "at"])]

    def __str__(self) -> str:
        return f"{self.what}: {self.before or 'nothing'} to {self.after or 'nothing'}"
