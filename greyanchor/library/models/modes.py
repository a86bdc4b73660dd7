"""Print modes, what they hold, and their editions."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone
from simple_history.models import HistoricalRecords

from greyanchor.accounts.models import Site
from greyanchor.core.printing.film_screen import FilmScreen
from greyanchor.core.printing.throughput import square_metres_an_hour
from greyanchor.library.models.equipment import InkSet, Media, MediaClass, MediaPreset, Printer
from greyanchor.profiles.models import Profile


class KeptText(models.Model):
    """A text that many records share, kept once by its hash and never changed: curves, or readings."""

    class Kind(models.TextChoices):
        CURVES = "curves", "tone curves"
        READINGS = "readings", "readings"

    sha256 = models.CharField(max_length=64, unique=True)
    kind = models.CharField(max_length=10, choices=Kind.choices)
    text = models.TextField()
    notes = models.TextField(blank=True, max_length=10000)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} {self.sha256[:8]}"

    @classmethod
    def of(cls, text: str, kind: str) -> KeptText:
        """The record of a text, made when there is none."""
        digest = hashlib.sha256(text.encode()).hexdigest()
        return cls.objects.get_or_create(sha256=digest, defaults={"kind": kind, "text": text})[0]


class LimitSet(models.Model):
    """Ink limits by channel and the total, in percent, kept once by their hash and never changed."""

    sha256 = models.CharField(max_length=64, unique=True)
    limits = models.JSONField()
    total_ink = models.FloatField(null=True)
    notes = models.TextField(blank=True, max_length=10000)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        text = ", ".join(f"{c} {v:.0f}" for c, v in self.limits.items())
        return f"{text}; total {self.total_ink:.0f} %" if self.total_ink else text

    @staticmethod
    def digest(limits: dict[str, float], total: float | None) -> str:
        """The hash that names limits, to a hundredth of a percent."""
        items = [
            sorted((c, round(v, 2)) for c, v in limits.items()),
            None if total is None else round(total, 2),
        ]
        return hashlib.sha256(json.dumps(items).encode()).hexdigest()

    @classmethod
    def of(cls, limits: dict[str, float], total: float | None) -> LimitSet:
        """The record of limits, made when there is none."""
        return cls.objects.get_or_create(
            sha256=cls.digest(limits, total), defaults={"limits": limits, "total_ink": total}
        )[0]


class PrintMode(models.Model):
    """What an operator picks: an environment with its limits, curves and profile.

    `handling` are the values the mode itself holds; the others come from preset, class and printer.
    `film` holds what a mode of films is: the opacity asked for and reached, its solid, and how true its dots
    are; it has no profile. `readings` names the readings it is based on, as {purpose, sha256} of `KeptText`.
    `calibrated_at` is when its curves were last made.
    """

    class State(models.TextChoices):
        BUILDING = "building", "draft"
        READY = "ready", "in review"
        RELEASED = "released", "released"
        RETIRED = "retired", "retired"

    name = models.CharField(max_length=160, unique=True)
    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="modes")
    ink_set = models.ForeignKey(InkSet, on_delete=models.PROTECT, related_name="modes")
    media = models.ForeignKey(Media, on_delete=models.PROTECT, related_name="modes")
    environment = models.JSONField(default=dict)
    environment_hash = models.CharField(max_length=64)
    preset = models.ForeignKey(
        MediaPreset, null=True, blank=True, on_delete=models.PROTECT, related_name="modes"
    )
    handling = models.JSONField(default=dict, blank=True)
    state = models.CharField(max_length=12, choices=State.choices, default=State.BUILDING, db_index=True)
    limits = models.JSONField(default=dict)
    total_ink = models.FloatField(null=True)
    limit_set = models.ForeignKey(
        LimitSet, null=True, on_delete=models.PROTECT, related_name="modes", editable=False
    )
    curve_set = models.ForeignKey(
        KeptText, null=True, on_delete=models.PROTECT, related_name="modes", editable=False
    )
    calibrated_at = models.DateTimeField(null=True, editable=False)
    readings = models.JSONField(default=list, blank=True)
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="modes")
    splits = models.JSONField(default=list, blank=True)
    planes = models.JSONField(default=dict, blank=True)
    film = models.JSONField(default=dict, blank=True)
    recipes = models.JSONField(default=dict, blank=True)
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
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+", editable=False
    )
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True, db_index=True)
    version = models.PositiveIntegerField(default=1, editable=False)
    history = HistoricalRecords()

    class Meta:
        ordering = ["name"]
        indexes = [models.Index(fields=["printer", "media"])]

    def __str__(self) -> str:
        return self.name

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Keep `limit_set` what `limits` and `total_ink` say."""
        before = self.limit_set_id
        self.limit_set = LimitSet.of(self.limits, self.total_ink) if self.limits else None
        fields = kwargs.get("update_fields")
        if fields is not None and self.limit_set_id != before:
            kwargs["update_fields"] = {*fields, "limit_set"}
        super().save(*args, **kwargs)

    def recipe_of(self, name: str, lab: Sequence[float]) -> list[float] | None:
        """Fractions of its profile's channels that it prints of a spot colour (Lab, D50); None where it keeps
        none for this colour through this profile.
        """
        fact = next((f for n, f in self.recipes.items() if n.casefold() == name.casefold()), None)
        if fact is None or self.profile is None or fact["profile"] != self.profile.sha256:
            return None
        same = all(abs(x - y) <= 0.005 for x, y in zip(fact["of"], lab, strict=True))
        return [float(v) for v in fact["inks"]] if same else None

    @property
    def is_whole(self) -> bool:
        """Whether it has all that prints are made with: curves, and a profile unless it prints films."""
        return self.curve_set_id is not None and (self.profile_id is not None or self.ink_set.is_film)

    @property
    def drift_unit(self) -> str:
        """What its drift is counted in: its dots for films, colour for everything else."""
        return "% of dots" if self.ink_set.is_film else "dE00"

    @property
    def lacks(self) -> str:
        """What a mode that is not whole is said to have."""
        return "no curves" if self.ink_set.is_film else "no profile or no curves"

    @property
    def curves(self) -> str:
        """The curves in use as CSV; empty before there are any."""
        return self.curve_set.text if self.curve_set else ""

    @curves.setter
    def curves(self, text: str) -> None:
        made = KeptText.of(text, KeptText.Kind.CURVES) if text else None
        if made != self.curve_set:
            self.curve_set = made
            self.calibrated_at = timezone.now() if made else None

    @property
    def speed(self) -> float | None:
        """Print speed, m2/h; None when the machine's carriage is not known."""
        return mode_speed(self.printer, self.environment, self.handling)

    @property
    def inherited_text(self) -> str:
        """What the mode has from elsewhere, in words; empty when everything is its own."""
        return "; ".join(f"{what} of {parts['name']}" for what, parts in self.inherited.items())

    @property
    def environment_rows(self) -> list[tuple[str, str]]:
        """The frozen choices with their units, for the mode's card."""
        e = self.environment
        return [
            ("Printer", e["printer"]),
            ("Ink set", e["ink_set"]),
            ("Media", e["media"]),
            ("Resolution", f"{e['resolution']} dpi"),
            ("Passes", str(e["passes"])),
            ("Direction", e["direction"]),
            ("Halftone", e["halftone"]),
            ("Heat", f"{e['heat']:g} °C"),
            ("Vacuum", f"{e['vacuum']:g} %"),
            *([("Film screen", FilmScreen.of(e["screen"]).words)] if e.get("screen") else []),
            *(
                (words, str(e[key]))
                for key, words in (
                    ("driver_colour", "Driver colour"),
                    ("driver_media", "Driver media"),
                    ("driver_quality", "Driver quality"),
                )
                if e.get(key)
            ),
        ]


def mode_speed(printer: Printer, environment: dict[str, Any], handling: dict[str, float]) -> float | None:
    """Print speed of an environment on a machine, m2/h; pauses and overprints are those the mode holds."""
    machine = printer.machine
    if machine is None or "passes" not in environment:
        return None
    return square_metres_an_hour(
        machine,
        environment["resolution"],
        environment["passes"],
        environment["direction"],
        handling.get("pass_pause", 0.0),
        handling.get("overprints", 1.0),
    )


class Edition(models.Model):
    """A mode as it was released: never changed, so that what was printed then can be printed again.

    `content` holds environment, limits, handling in force with its sources, media and preset of that day.
    """

    mode = models.ForeignKey(PrintMode, on_delete=models.CASCADE, related_name="editions")
    number = models.PositiveIntegerField()
    mode_version = models.PositiveIntegerField()
    content = models.JSONField()
    content_hash = models.CharField(max_length=64)
    curve_set = models.ForeignKey(KeptText, null=True, on_delete=models.PROTECT, related_name="editions")
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="editions")
    readings = models.JSONField(default=list)
    evidence = models.JSONField(default=list)
    exception = models.CharField(max_length=300, blank=True)
    note = models.TextField(blank=True)
    released_at = models.DateTimeField()
    released_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["mode", "number"], name="edition_number_once")]

    def __str__(self) -> str:
        return f"{self.mode}, edition {self.number}"


class Pin(models.Model):
    """A mode kept within reach, by a person or for a whole site."""

    mode = models.ForeignKey(PrintMode, on_delete=models.CASCADE, related_name="pins")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="pins"
    )
    site = models.ForeignKey(Site, null=True, on_delete=models.CASCADE, related_name="pins")
    pinned_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["mode", "user"], name="pin_once_a_person"),
            models.UniqueConstraint(fields=["mode", "site"], name="pin_once_a_site"),
            models.CheckConstraint(
                condition=models.Q(user__isnull=True, site__isnull=False)
                | models.Q(user__isnull=False, site__isnull=True),
                name="pin_of_a_person_or_a_site",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.mode} pinned by {self.user or self.site}"


class ClassFallback(models.Model):
    """The mode whose limits, curves and profile a media class lends to media that have none, on one
    printer.
    """

    media_class = models.ForeignKey(MediaClass, on_delete=models.CASCADE, related_name="fallbacks")
    printer = models.ForeignKey(Printer, on_delete=models.CASCADE, related_name="fallbacks")
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="lent_by")

    class Meta:
        verbose_name = "loan of a class"
        verbose_name_plural = "loans of classes"
        constraints = [
            models.UniqueConstraint(
                fields=["media_class", "printer"], name="one_fallback_a_class_and_printer"
            )
        ]

    def __str__(self) -> str:
        return f"{self.media_class} on {self.printer}: {self.mode}"
