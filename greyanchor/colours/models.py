"""Recipes of spot colours on print modes, swatch books, and the places where prints are looked at."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone
from simple_history.models import HistoricalRecords

from greyanchor.accounts.models import Site
from greyanchor.background.models import BackgroundWork
from greyanchor.core.colour.lighting import LightSpectrum
from greyanchor.core.colour.viewing import CONDITIONS, Condition
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.profiles.models import RoomLight, SpotLibrary, SpotRecord


class LightPlace(models.Model):
    """A booth, a table or a window: what its light is held to, and how often it is measured.

    `limits` are by the criteria of `core.colour.viewing`; `source` says which edition of which standard they
    stand for. `version` counts edits.
    """

    name = models.CharField(max_length=80, unique=True)
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="light_places")
    condition = models.CharField(
        "held to", max_length=2, choices=[(c.key, c.title) for c in CONDITIONS.values()], default="P1"
    )
    limits = models.JSONField(default=dict)
    source = models.CharField(max_length=120)
    every_days = models.PositiveSmallIntegerField(
        "measured every, days", default=90, validators=[MinValueValidator(1), MaxValueValidator(3650)]
    )
    lamp_changed_at = models.DateTimeField(null=True, blank=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def held_to(self) -> Condition:
        """What its light is held to, as the core knows it."""
        return Condition(self.condition, CONDITIONS[self.condition].title, self.source, self.limits)

    @property
    def newest(self) -> LightMeasured | None:
        return self.measured.first()

    @property
    def due_at(self) -> datetime:
        """When it is to be measured again; now for a place that never was."""
        last = self.newest
        return last.measured_at + timedelta(days=self.every_days) if last else timezone.now()


class LightMeasured(models.Model):
    """A light as it was measured at a place.

    `power` is W/m2/nm where `is_absolute`, at 300..780 nm from `first` on, `around` are lx at other spots,
    `report` is what `core.colour.viewing` said of it then, by the limits of then.
    """

    place = models.ForeignKey(LightPlace, on_delete=models.CASCADE, related_name="measured")
    light = models.OneToOneField(RoomLight, on_delete=models.CASCADE, related_name="measured")
    measured_at = models.DateTimeField(default=timezone.now, db_index=True)
    measured_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    instrument = models.CharField(max_length=120)
    power = models.JSONField()
    first = models.FloatField()
    step = models.FloatField()
    is_absolute = models.BooleanField(default=False)
    around = models.JSONField(default=list, blank=True)
    report = models.JSONField(default=dict)

    class Meta:
        ordering = ["-measured_at", "-pk"]

    def __str__(self) -> str:
        return str(self.light)

    @property
    def spectrum(self) -> LightSpectrum:
        """As the core knows it."""
        power = tuple(float(v) for v in self.power)
        return LightSpectrum(self.light.name, power, self.first, self.step, self.is_absolute)

    @property
    def criteria(self) -> list[dict[str, Any]]:
        return list(self.report["iso3664"]["criteria"])

    @property
    def verdict(self) -> str:
        return str(self.report["iso3664"]["verdict"])


class SpotRecipe(models.Model):
    """A recipe of a spot colour on a print mode; the newest is the one to print. None is ever changed, but
    for what was read of it.

    `inks` are fractions of the channels of the mode's profile, `predicted` is the Lab they are expected to
    print and `miss` its dE00 from the colour; `read` and `read_miss` the same as read from a book. `of` is
    the colour as it was asked for (Lab), `profile` the hash of the profile it was found through.
    """

    class Why(models.TextChoices):
        MODEL = "model", "found by the mode's profile"
        LEARNED = "learned", "learned from a reading"
        CHOSEN = "chosen", "chosen by a person"

    colour = models.ForeignKey(SpotRecord, on_delete=models.CASCADE, related_name="recipes")
    mode = models.ForeignKey(PrintMode, on_delete=models.CASCADE, related_name="spot_recipes")
    round = models.PositiveSmallIntegerField(default=1)
    inks = models.JSONField()
    of = models.JSONField()
    profile = models.CharField(max_length=64)
    predicted = models.JSONField()
    miss = models.FloatField()
    read = models.JSONField(null=True)
    read_miss = models.FloatField(null=True)
    why = models.CharField(max_length=8, choices=Why.choices, default=Why.MODEL)
    note = models.CharField(max_length=200, blank=True)
    made_at = models.DateTimeField(default=timezone.now)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["-pk"]
        indexes = [models.Index(fields=["mode", "colour"])]

    def __str__(self) -> str:
        return f"{self.colour} on {self.mode}, round {self.round}"


class RecipeWork(BackgroundWork):
    """Recipes of a whole book of spot colours being found on a mode."""

    library = models.ForeignKey(SpotLibrary, on_delete=models.CASCADE, related_name="+")
    mode = models.ForeignKey(PrintMode, on_delete=models.CASCADE, related_name="+")

    def __str__(self) -> str:
        return f"recipes of {self.library} on {self.mode}"


class SwatchBook(models.Model):
    """Spot colours printed raw from their recipes on one mode.

    `rows` are the patches in the order of the chart: ``name``, ``lab`` that is asked, and for colours of a
    book ``recipe``, the key of what was printed. `results` hold what was read: ``lab`` and ``misses``.
    `edition` is that of the mode when it was laid out. Books made in one go share `batch`.
    """

    class Kind(models.TextChoices):
        TABLE = "table", "a table"
        CHIPS = "chips", "chips to cut apart"
        NEIGHBOURS = "near", "neighbours of one colour"

    title = models.CharField(max_length=160)
    kind = models.CharField(max_length=8, choices=Kind.choices, default=Kind.TABLE)
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="swatch_books")
    sheet_print = models.OneToOneField(SheetPrint, on_delete=models.PROTECT, related_name="swatch_book")
    centre = models.ForeignKey(SpotRecord, null=True, on_delete=models.SET_NULL, related_name="+")
    rows = models.JSONField(default=list)
    results = models.JSONField(default=dict)
    error = models.CharField(max_length=400, blank=True)
    edition = models.PositiveIntegerField(default=0)
    batch = models.CharField(max_length=32, blank=True, db_index=True)
    made_at = models.DateTimeField(default=timezone.now)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    read_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        return self.title
