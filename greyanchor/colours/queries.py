"""Who uses a spot colour."""

from __future__ import annotations

import json
from typing import Any

from django.apps import apps
from django.db.models import QuerySet, TextField
from django.db.models.functions import Cast

from greyanchor.checks.models import Check
from greyanchor.colours.models import SwatchBook
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import SpotRecord

_SHOWN = 8


def _holding(rows: QuerySet[Any], field: str, name: str) -> list[Any]:
    """Records whose JSON names a colour, whatever its capitals: looked for as text, then looked at."""
    as_text = rows.annotate(as_text=Cast(field, TextField()))
    found = as_text.filter(as_text__icontains=json.dumps(name)[1:-1])[: 10 * _SHOWN]
    held = [r for r in found if any(n.casefold() == name.casefold() for n in names_in(getattr(r, field)))]
    return held[:_SHOWN]


def names_in(value: Any) -> list[str]:
    """Every key of plain values, however deep."""
    if isinstance(value, dict):
        return [*map(str, value), *(n for v in value.values() for n in names_in(v))]
    return [n for v in value for n in names_in(v)] if isinstance(value, list) else []


def used_by(record: SpotRecord) -> dict[str, list[Any]]:
    """Modes that print a recipe of a colour, checks that were held to it, its swatch books, and artwork that
    asks for it by name.
    """
    artwork = apps.get_model("printroom", "Artwork")
    books = SwatchBook.objects.filter(mode__spot_recipes__colour=record).select_related("mode").distinct()
    checks = Check.objects.only("pk", "name", "spots", "mode__name").select_related("mode")
    return {
        "modes": _holding(PrintMode.objects.only("pk", "name", "recipes"), "recipes", record.name),
        "checks": _holding(checks, "spots", record.name),
        "books": [b for b in books if any(r.get("colour") == record.pk for r in b.rows)][:_SHOWN],
        "artwork": _holding(artwork.objects.only("pk", "name", "facts"), "facts", record.name),
    }
