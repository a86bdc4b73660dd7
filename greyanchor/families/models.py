"""Families and their members as records."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from django.urls import reverse

from greyanchor.background.models import BackgroundWork
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import AimRecord, Profile


class Family(models.Model):
    """Modes that are to print alike, on the same media or not, of several machines and sites.

    `tinted` says that papers are tinted to a common white; else each is left bare. `found` is what was
    computed last: white and black, what each member keeps, what each costs the others, and how far each
    pair is apart before and after, dE00. `aim` is what all of them print, to be held to.
    """

    name = models.CharField(max_length=120, unique=True)
    tinted = models.BooleanField(default=True)
    found = models.JSONField(default=dict)
    aim = models.ForeignKey(AimRecord, null=True, on_delete=models.PROTECT, related_name="families")
    version = models.PositiveIntegerField(default=1)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        verbose_name_plural = "families"

    def __str__(self) -> str:
        return self.name

    @property
    def url(self) -> str:
        """Its page."""
        return reverse("family", args=[self.pk])


class FamilyMember(models.Model):
    """A mode in a family: its `own` profile, and the `profile` that renders into what is common.
    `own_sha` names the profile that the common ground was computed from: where the mode has another by
    now, it is out of date.
    """

    family = models.ForeignKey(Family, on_delete=models.CASCADE, related_name="members")
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="memberships")
    own = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="+")
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["family", "mode"], name="member_once")]

    def __str__(self) -> str:
        return f"{self.mode.name} in {self.family}"

    @property
    def is_in_use(self) -> bool:
        """Whether the mode prints through the family's profile now."""
        return self.profile_id is not None and self.mode.profile_id == self.profile_id

    def found(self, figures: dict[str, Any]) -> dict[str, Any]:
        """What was computed of it last."""
        return dict(figures.get("members", {}).get(str(self.mode_id), {}))


class FamilyWork(BackgroundWork):
    """The common ground being found, and the members' profiles made."""

    family = models.ForeignKey(Family, on_delete=models.CASCADE, related_name="works")

    def __str__(self) -> str:
        return f"{self.family}, {self.state}"
