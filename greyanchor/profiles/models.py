"""Profiles, aims, lights and proposed patches as records, and background work."""

from __future__ import annotations

import hashlib

from django.conf import settings as django_settings
from django.db import models
from simple_history.models import HistoricalRecords

from greyanchor.background.models import BackgroundWork
from greyanchor.core.verification.spots import SpotColour


class Profile(models.Model):
    """An ICC profile, what it was made from, and how good it is."""

    title = models.CharField(max_length=160)
    version = models.PositiveSmallIntegerField(default=4)
    data = models.BinaryField()
    sha256 = models.CharField(max_length=64, editable=False, db_index=True)
    report = models.JSONField(default=dict)
    settings = models.JSONField(default=dict)
    neutral = models.JSONField(default=list)
    boundary = models.JSONField(default=list)
    lightest = models.FloatField(default=100.0)
    darkest = models.FloatField(default=0.0)
    made_from = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    channels = models.JSONField(default=list)
    fitted = models.BinaryField(null=True)
    derived_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="offspring"
    )

    class Meta:
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return self.title

    def save(self, *args: object, **kwargs: object) -> None:
        if not self.sha256:  # the bytes of a profile never change once it is kept
            self.sha256 = hashlib.sha256(bytes(self.data)).hexdigest()
        super().save(*args, **kwargs)  # type: ignore[arg-type]

    @property
    def file_name(self) -> str:
        plain = "".join(c if c.isalnum() or c in "-_." else "-" for c in self.title).strip("-")
        return f"{plain or 'profile'}.icc"


class ProfileWork(BackgroundWork):
    """A profile being built outside a print mode's log: from files, with another separation, or again from
    itself.
    """

    class Kind(models.TextChoices):
        NEW = "new", "from readings"
        SEPARATION = "separation", "with another separation"
        REBUILD = "rebuild", "from its characterization data"

    kind = models.CharField(max_length=12, choices=Kind.choices)
    title = models.CharField(max_length=160)
    settings = models.JSONField(default=dict)
    readings = models.TextField(blank=True)
    noise = models.FloatField(default=0.0)
    parent = models.ForeignKey(Profile, null=True, on_delete=models.CASCADE, related_name="works")
    result = models.ForeignKey(Profile, null=True, on_delete=models.SET_NULL, related_name="+")

    def __str__(self) -> str:
        return f"{self.title}, {self.state}"


class RoomLight(models.Model):
    """A viewing light as measured in the room: 421 powers at 360..780 nm."""

    name = models.CharField(max_length=80, unique=True)
    power = models.JSONField()
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class ProposedPatches(models.Model):
    """Patches that would help a profile most, waiting for the next profile chart of their environment."""

    profile = models.ForeignKey(Profile, on_delete=models.CASCADE, related_name="proposals")
    environment_hash = models.CharField(max_length=64, db_index=True)
    device = models.JSONField()
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    used_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{len(self.device)} patches for {self.environment_hash[:8]}"


class AimRecord(models.Model):
    """An aim in one edition; checks keep the edition they used.

    `data` is the file as it came: a profile, characterization data, or a list of spot colours. `filled` holds
    the patches of control strips that data lack, as CGATS text, and `lacks` says which they are and how far
    they can be trusted, or why there are none.
    """

    class Kind(models.TextChoices):
        DATA = "data", "characterization data"
        PROFILE = "profile", "ICC profile"
        SPOTS = "spots", "spot colours"
        MODE = "mode", "baseline of a print mode"

    name = models.CharField(max_length=120)
    edition = models.PositiveSmallIntegerField(default=1)
    kind = models.CharField(max_length=8, choices=Kind.choices, default=Kind.DATA)
    source = models.CharField(max_length=300)
    file_name = models.CharField(max_length=120, blank=True)
    data = models.BinaryField()
    filled = models.TextField(blank=True)
    lacks = models.CharField(max_length=300, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["name", "-edition"]
        constraints = [models.UniqueConstraint(fields=["name", "edition"], name="aim_edition_once")]

    def __str__(self) -> str:
        return f"{self.name}, edition {self.edition}"


class SpotLibrary(models.Model):
    """A book of spot colours. Where two have a colour of one name, artwork gets that of the book with the
    lower `place`. `version` counts edits of the book itself.
    """

    name = models.CharField(max_length=120, unique=True)
    place = models.PositiveSmallIntegerField(default=1)
    note = models.CharField(max_length=300, blank=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    history = HistoricalRecords()

    class Meta:
        ordering = ["place", "name"]
        verbose_name_plural = "spot libraries"

    def __str__(self) -> str:
        return self.name


def house_library() -> int:
    """The shop's own book of spot colours, made when it is first asked for."""
    first = SpotLibrary.objects.order_by("place", "pk").values_list("pk", flat=True).first()
    return first or SpotLibrary.objects.create(name="House colours").pk


class SpotRecord(models.Model):
    """A spot colour of a book: Lab of the solid, and of tints where they were measured (by percent, as
    text); its spectrum, and what it is over black, where they are known. `version` counts edits.
    """

    library = models.ForeignKey(
        SpotLibrary, on_delete=models.CASCADE, related_name="colours", default=house_library
    )
    name = models.CharField(max_length=80, db_index=True)
    lightness = models.FloatField("L*")
    a = models.FloatField("a*")
    b = models.FloatField("b*")
    tints = models.JSONField(default=dict, blank=True)
    spectrum = models.JSONField(default=list, blank=True)
    over_black = models.JSONField(null=True, blank=True)
    condition = models.CharField(max_length=2, default="M1")
    source = models.CharField(max_length=200, blank=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    changed_at = models.DateTimeField(auto_now=True)
    history = HistoricalRecords()

    class Meta:
        ordering = ["library__place", "name"]
        constraints = [models.UniqueConstraint(fields=["library", "name"], name="spot_once_in_a_book")]

    def __str__(self) -> str:
        return self.name

    @property
    def colour(self) -> SpotColour:
        """The colour as the core knows it."""
        return SpotColour.from_dict(
            self.name,
            {
                "lab": (self.lightness, self.a, self.b),
                "tints": self.tints,
                "spectrum": self.spectrum,
                "over_black": self.over_black,
                "condition": self.condition,
            },
        )
