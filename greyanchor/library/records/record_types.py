"""The kinds of records that several people keep, each as one flat set of fields: for edits, merges and
history.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import models
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, RELEASE, Role
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SETTINGS
from greyanchor.library.models import InkSet, Media, MediaClass, MediaPreset, Printer, PrintMode

#: names of fields that say on pages what they hold
_LABELS = {
    "curve_set": "Curves",
    "last_verdict": "Last verdict",
    "total_ink": "Total ink",
    "dry_minutes": "Dry-down, minutes",
    "ink_sets": "Ink sets",
}
#: units of fields that are plain numbers
_UNITS = {"total_ink": " %"}


@dataclass(frozen=True)
class Kind:
    """One kind: its model, the plain fields people change, fields that hold a value for each of many keys,
    and links to many records.
    """

    key: str
    title: str
    model: type[models.Model]
    fields: tuple[str, ...]
    spread: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    address: str = ""
    role: Role = MAKE
    lead: str = ""

    @property
    def plural(self) -> str:
        """Several of them, as a heading."""
        text = str(self.model._meta.verbose_name_plural)
        return f"{text[:1].upper()}{text[1:]}"

    @property
    def list_address(self) -> str:
        """The name of the page that lists them."""
        return "media-list" if self.key == "media" else self.key

    @property
    def with_article(self) -> str:
        """One of them: "a preset", "an ink set"."""
        return f"{'an' if self.title[0] in 'aeiou' else 'a'} {self.title}"

    def label(self, field: str) -> str:
        """The name of a flat field on pages."""
        name, _, key = field.partition(".")
        if key:
            title = SETTINGS[key].title if key in SETTINGS else key.replace("_", " ")
            return f"{title} ({name})" if name in ("abilities", "reasons") else title
        found = _LABELS.get(name) or str(self.model._meta.get_field(name).verbose_name)
        return f"{found[:1].upper()}{found[1:]}"

    def format_value(self, field: str, value: Any) -> str:
        """A value of a flat field as a page shows it."""
        name, _, key = field.partition(".")
        if value is None or value in ("", [], {}):
            return "–"
        if key:
            if isinstance(value, Mapping):
                return ", ".join(f"{k} {v:g}" for k, v in value.items())
            return SETTINGS[key].with_unit(value) if key in SETTINGS and name == "handling" else str(value)
        described = self.model._meta.get_field(name)
        if name in self.links:
            return ", ".join(map(str, described.related_model._default_manager.filter(pk__in=value)))
        if isinstance(described, models.ForeignKey):
            found = described.related_model._default_manager.filter(pk=value).first()
            return str(found or f"{value}, which is gone")
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, datetime):
            return f"{timezone.localtime(value):%-d %b %Y %H:%M}"
        if isinstance(value, float):
            return f"{value:g}{_UNITS.get(name, '')}"
        if isinstance(value, dict):
            return ", ".join(
                f"{k.replace('_', ' ')} {v:g}" if isinstance(v, float) else f"{k.replace('_', ' ')} {v}"
                for k, v in value.items()
            )
        if isinstance(value, list):
            return (
                ", ".join(map(str, value))
                if not any(isinstance(v, dict) for v in value)
                else f"{len(value)} kept"
            )
        choices = dict(described.flatchoices)  # type: ignore[union-attr]
        return str(choices.get(value, value))

    def flat(self, record: Any) -> dict[str, Any]:
        """Plain values of a record, or of an entry of its history, by flat field; what is empty is left
        out.
        """
        out: dict[str, Any] = {}
        for name in self.fields:
            value = getattr(record, self.model._meta.get_field(name).attname)  # type: ignore[union-attr]
            if value not in (None, ""):
                out[name] = value
        for name in self.spread:
            out.update({f"{name}.{key}": value for key, value in (getattr(record, name) or {}).items()})
        for name in self.links:
            if pks := self._linked(record, name):
                out[name] = pks
        return out

    def _linked(self, record: Any, name: str) -> list[int]:
        """Primary keys of the records a record, or an entry of its history, is linked to."""
        if isinstance(record, self.model):
            return sorted(getattr(record, name).values_list("pk", flat=True)) if record.pk else []
        there: Any = self.model._meta.get_field(name)
        return sorted(getattr(record, name).values_list(f"{there.m2m_reverse_field_name()}_id", flat=True))

    def put(self, record: Any, values: Mapping[str, Any]) -> None:
        """Set the fields of a record from flat values; a field that is missing becomes empty.

        Links can only be written beside the record: they wait in `wanted_links` for whoever saves it.
        """
        for name in self.fields:
            field = self.model._meta.get_field(name)
            empty = (
                None
                if field.null
                else ""
                if isinstance(field, models.CharField | models.TextField)
                else field.get_default()
            )  # type: ignore[union-attr]
            setattr(record, field.attname, values.get(name, empty))  # type: ignore[union-attr]
        for name in self.spread:
            start = f"{name}."
            setattr(
                record, name, {k.removeprefix(start): v for k, v in values.items() if k.startswith(start)}
            )
        record.wanted_links = {name: values.get(name) or [] for name in self.links}


_MODE_VALUES = (
    "environment",
    "environment_hash",
    "limits",
    "total_ink",
    "splits",
    "planes",
    "film",
    "inherited",
    "curve_set",
    "profile",
    "preset",
    "readings",
    "calibrated_at",
    "last_verdict",
    "last_check_summary",
)
KINDS: dict[str, Kind] = {
    k.key: k
    for k in (
        Kind(
            "media",
            "media",
            Media,
            (
                "name",
                "media_class",
                "maker",
                "weight",
                "thickness",
                "width_mm",
                "brightener",
                "travels_backwards",
                "unreadable",
                "dry_minutes",
                "price",
                "notes",
            ),
            address="media",
            lead="What is printed on. A media without a print mode is where a build begins.",
        ),
        Kind(
            "media-classes",
            "media class",
            MediaClass,
            ("name", "family", "notes"),
            ("handling", "reasons"),
            address="media-class",
            lead=(
                "A class lends handling settings, and limits, curves and a profile, to media that have "
                "none of their own."
            ),
        ),
        Kind(
            "presets",
            "preset",
            MediaPreset,
            ("name", "media", "printer_model", "notes"),
            ("handling",),
            address="preset",
            lead=(
                "Handling settings for one media on one model of printer. A mode begins with them and may "
                "hold some of its own."
            ),
        ),
        Kind(
            "printers",
            "printer",
            Printer,
            (
                "name",
                "model",
                "site",
                "serial",
                "width_mm",
                "resolutions",
                "passes",
                "driven_as",
                "slots",
                "notes",
            ),
            ("abilities", "carriage", "driver"),
            ("ink_sets",),
            "printer",
            lead="Every machine of every site.",
        ),
        Kind(
            "ink-sets",
            "ink set",
            InkSet,
            ("name", "kind", "channels", "light", "facts", "price", "notes"),
            address="ink-set",
            lead="The inks that printers run, by channel.",
        ),
        Kind(
            "modes",
            "print mode",
            PrintMode,
            ("name", "note", *_MODE_VALUES),
            ("handling",),
            address="mode",
            role=RELEASE,
        ),
    )
}


def record_type_named(key: str) -> Kind:
    """The kind called `key`; `BadInput` when there is none."""
    if key not in KINDS:
        raise BadInput(f"there is no kind of record called {key}")
    return KINDS[key]


def record_type_of(record: models.Model) -> Kind:
    """The kind of a record."""
    return next(k for k in KINDS.values() if isinstance(record, k.model))
