"""Inks, machines, media and their presets: each with notes, a version that counts edits, and its history."""

from __future__ import annotations

from django.conf import settings
from django.contrib.contenttypes.fields import GenericForeignKey
from django.contrib.contenttypes.models import ContentType
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from simple_history.models import HistoricalRecords

from greyanchor.accounts.models import Site
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import is_additive
from greyanchor.core.printing.families import FAMILIES
from greyanchor.core.printing.handling import Ability, abilities_of
from greyanchor.core.printing.inks import FILM, PLANES, Ink, check_inks, inks_of
from greyanchor.core.printing.throughput import Carriage


class VersionedRecord(models.Model):
    """A record that several people keep: `version` counts edits, so that one cannot silently undo another."""

    notes = models.TextField(blank=True, max_length=10000)
    version = models.PositiveIntegerField(default=1, editable=False)

    class Meta:
        abstract = True


class InkSet(VersionedRecord):
    """The inks of a printer: `channels` are those of the separation, in printing order; `light` names inks of
    other weights, and second blacks, with the channel each shares with; `facts` holds by channel what else is
    known (role, place, drop_pl, density, spectrum), and names white, varnish and spot inks.
    """

    name = models.CharField(max_length=80, unique=True)
    channels = models.JSONField(default=list)
    light = models.JSONField(default=dict, blank=True)
    facts = models.JSONField(default=dict, blank=True)
    kind = models.CharField(max_length=60)
    price = models.FloatField(
        "price a litre",
        null=True,
        blank=True,
        validators=[MinValueValidator(0.0), MaxValueValidator(1e6)],
        help_text="in the shop's own money; jobs say what they cost where it is known",
    )
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def channel_text(self) -> str:
        return " ".join([*self.raw_channels, *(f"+ {i.channel}" for i in self.planes)])

    @property
    def raw_channels(self) -> list[str]:
        """Every ink that a separation prints, in printing order, those that share last."""
        return [*self.channels, *self.light]

    @property
    def inks(self) -> tuple[Ink, ...]:
        """Every ink with what is known of it."""
        return inks_of(self.channels, self.light, self.facts)

    @property
    def planes(self) -> list[Ink]:
        """White, varnish and spot inks: no separation uses them."""
        return [i for i in self.inks if i.role in PLANES]

    @property
    def parts_itself(self) -> bool:
        """Whether the printer takes R G B and parts it among its inks by its own driver."""
        return is_additive(tuple(self.channels))

    @property
    def is_film(self) -> bool:
        """Whether it prints films, which are judged by the light they stop and not by colour."""
        return any(i.role == FILM for i in self.inks)

    @property
    def dries_at_once(self) -> bool:
        """Whether lamps cure the ink while it prints."""
        return str(self.kind).startswith("UV")

    @property
    def can_be_built(self) -> bool:
        """Whether builds can serve these inks."""
        return not self.not_built

    @property
    def not_built(self) -> str:
        """Why builds cannot serve these inks; empty where they can."""
        try:
            check_inks(self.channels, self.light, self.facts)
        except BadInput as error:
            return str(error)
        return ""


class Printer(VersionedRecord):
    """One machine.

    `abilities` are the handling settings it has, each with range, step and usual value; `carriage` is
    what decides its speed. Its `connection` says which driver reaches it.
    """

    name = models.CharField(max_length=80, unique=True)
    model = models.CharField(max_length=80)
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="printers")
    serial = models.CharField(max_length=40)
    ink_sets = models.ManyToManyField(InkSet, related_name="printers")
    width_mm = models.PositiveIntegerField()
    resolutions = models.JSONField(default=list)
    passes = models.JSONField(default=list)
    driven_as = models.CharField(max_length=40, default="channels")
    driver = models.JSONField(
        "driver settings",
        default=dict,
        blank=True,
    )
    abilities = models.JSONField(default=dict, blank=True)
    carriage = models.JSONField(default=dict, blank=True)
    slots = models.PositiveSmallIntegerField("memory slots", default=8)
    loaded_media = models.ForeignKey(
        "Media", null=True, blank=True, on_delete=models.SET_NULL, related_name="loaded_on"
    )
    loaded_at = models.DateTimeField(null=True, blank=True)
    history = HistoricalRecords(m2m_fields=[ink_sets])

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def ability_map(self) -> dict[str, Ability]:
        """The handling settings the machine has, as the core knows them."""
        return abilities_of(self.abilities)

    @property
    def not_usable(self) -> str:
        """What a build lacks of it, in words; empty where it can be printed on."""
        lacks = [
            word
            for word, there in (
                ("an ink set", self.ink_sets.exists()),
                ("resolutions", bool(self.resolutions)),
                ("passes", bool(self.passes)),
            )
            if not there
        ]
        return " and ".join([", ".join(lacks[:-1]), lacks[-1]] if len(lacks) > 1 else lacks)

    @property
    def machine(self) -> Carriage | None:
        """What decides its speed; None when not given."""
        try:
            return Carriage(width=float(self.width_mm), **self.carriage) if self.carriage else None
        except (TypeError, BadInput):
            return None


class MediaClass(VersionedRecord):
    """The group a media belongs to. `handling` are the values it lends, `reasons` why each is what it is."""

    name = models.CharField(max_length=80, unique=True)
    family = models.CharField(
        max_length=40, blank=True, choices=[("", "none"), *((f.key, f.title) for f in FAMILIES.values())]
    )
    handling = models.JSONField(default=dict, blank=True)
    reasons = models.JSONField(default=dict, blank=True)
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]
        verbose_name_plural = "media classes"

    def __str__(self) -> str:
        return self.name


class Media(VersionedRecord):
    """What is printed on."""

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
    price = models.FloatField(
        "price a square metre",
        null=True,
        blank=True,
        validators=[MinValueValidator(0.0), MaxValueValidator(1e6)],
        help_text="in the shop's own money; jobs say what they cost where it is known",
    )
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]
        verbose_name_plural = "media"

    def __str__(self) -> str:
        return self.name


class MediaPreset(VersionedRecord):
    """Handling settings for one media on one model of printer."""

    name = models.CharField(max_length=160, unique=True)
    media = models.ForeignKey(Media, on_delete=models.PROTECT, related_name="presets")
    printer_model = models.CharField(max_length=80, db_index=True)
    handling = models.JSONField(default=dict, blank=True)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+", editable=False
    )
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]
        verbose_name = "preset"

    def __str__(self) -> str:
        return self.name


class Attachment(models.Model):
    """A file beside a record: a data sheet, a photo."""

    content_type = models.ForeignKey(ContentType, on_delete=models.CASCADE)
    object_id = models.PositiveBigIntegerField()
    owner = GenericForeignKey()
    name = models.CharField(max_length=160)
    kind = models.CharField(max_length=80)
    note = models.CharField(max_length=200, blank=True)
    sha256 = models.CharField(max_length=64)
    size = models.PositiveIntegerField()
    data = models.BinaryField()
    added_at = models.DateTimeField(auto_now_add=True)
    added_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ["name", "pk"]
        indexes = [models.Index(fields=["content_type", "object_id"])]

    def __str__(self) -> str:
        return self.name
