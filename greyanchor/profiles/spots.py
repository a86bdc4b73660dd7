"""What changes the shop's books of spot colours, and finds colours in them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Count, Max

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.spots import SpotColour
from greyanchor.profiles.models import SpotLibrary, SpotRecord, house_library

#: dE00 within which two colours of other names are said to be one
TWINS = 0.8


@needs(MAKE)
@transaction.atomic
def add_library(name: str, note: str, user: User | None) -> SpotLibrary:
    """Another book, after those that are there."""
    if not name.strip():
        raise BadInput("a book needs a name")
    if SpotLibrary.objects.filter(name__iexact=name.strip()).exists():
        raise BadInput(f"there is a book called {name.strip()} already; choose another name")
    last = SpotLibrary.objects.order_by("-place").values_list("place", flat=True).first() or 0
    made = SpotLibrary(name=name.strip(), note=note, place=last + 1, created_by=user)
    made._history_user = user
    made.save()
    return made


@needs(MAKE)
@transaction.atomic
def first_of_all(library: SpotLibrary, user: User | None) -> None:
    """From now on artwork looks for its colours in this book first."""
    others = [b for b in SpotLibrary.objects.select_for_update() if b.pk != library.pk]
    for place, book in enumerate([library, *others], start=1):
        if book.place != place:
            book.place, book._history_user = place, user
            book.save()


@needs(MAKE)
@transaction.atomic
def keep_spots(
    colours: Mapping[str, SpotColour],
    source: str,
    user: User | None,
    replace_old: bool,
    library: SpotLibrary | None = None,
) -> dict[str, list[str]]:
    """Put colours into a book, the first one where none is named: names that were added, replaced, left alone
    because they were there, and alike.
    """
    book = library or SpotLibrary.objects.get(pk=house_library())
    there = {r.name.casefold(): r for r in book.colours.all()}
    facts: dict[str, list[str]] = {"added": [], "replaced": [], "left": [], "alike": []}
    for name, colour in colours.items():
        record = there.get(name.casefold())
        if record is not None and record.colour.as_dict() == colour.as_dict():
            facts["alike"].append(name)
            continue
        if record is not None and not replace_old:
            facts["left"].append(name)
            continue
        facts["added" if record is None else "replaced"].append(name)
        save_spot(record or SpotRecord(name=name, library=book), colour, source, user)
    return facts


@needs(MAKE)
def save_spot(record: SpotRecord, colour: SpotColour, source: str, user: User | None) -> SpotRecord:
    """Write a colour into a record, with who did it."""
    record.lightness, record.a, record.b = colour.lab
    record.tints = colour.as_dict()["tints"]
    record.spectrum = list(colour.spectrum)
    record.over_black = list(colour.over_black) if colour.over_black else None
    record.condition = colour.condition
    record.source = source[:200]
    record.version = record.version + 1 if record.pk else 1
    record._history_user = user
    record.save()
    return record


@needs(MAKE)
def remove_spot(record: SpotRecord, user: User) -> str:
    """Take a spot colour out of its book; checks keep what they were held to. Gives its name."""
    name = record.name
    record._history_user = user
    record.delete()
    return name


def named(names: Iterable[str]) -> dict[str, SpotRecord]:
    """Spot colours by the names that artwork gives them, whatever their capitals; of two books the one with
    the lower place.
    """
    wanted = {n.casefold(): n for n in names}
    first: dict[str, int] = {}
    if wanted:
        for pk, name, _ in _all(None)[0]:
            if (asked := wanted.get(name.casefold())) is not None:
                first.setdefault(asked, pk)
    records = SpotRecord.objects.select_related("library").in_bulk(first.values())
    return {name: records[pk] for name, pk in first.items() if pk in records}


@dataclass(frozen=True)
class Near:
    """A colour and how far it is from what was asked for, dE00."""

    pk: int
    name: str
    library: int
    lab: tuple[float, float, float]
    away: float


def _all(library: int | None) -> tuple[list[tuple[int, str, int]], Array]:
    """Key, name and book of every colour, in the order in which artwork looks for them, and Lab (n, 3)."""
    now = SpotRecord.objects.aggregate(n=Count("pk"), last=Max("changed_at"))
    books = tuple(SpotLibrary.objects.order_by("place", "pk").values_list("pk", "place"))
    return _held(library, now["n"], now["last"], books)


@lru_cache(maxsize=8)
def _held(
    library: int | None, count: int, changed: datetime | None, books: tuple[Any, ...]
) -> tuple[list[tuple[int, str, int]], Array]:
    """The same, read once for each state of the table in each process."""
    rows = SpotRecord.objects.order_by("library__place", "library_id", "name")
    if library is not None:
        rows = rows.filter(library=library)
    values = list(rows.values_list("pk", "name", "library_id", "lightness", "a", "b"))
    return [v[:3] for v in values], np.array([v[3:] for v in values], dtype=float).reshape(-1, 3)


def nearest(lab: tuple[float, float, float], count: int = 12, library: int | None = None) -> list[Near]:
    """The colours of a book, or of all, nearest to a Lab (D50), the nearest first."""
    keys, labs = _all(library)
    if not keys:
        return []
    away = delta_e_2000(labs, np.array(lab, dtype=float))
    order = np.argsort(away, kind="stable")[:count]
    return [_near(keys[i], labs[i], float(away[i])) for i in order]


def _near(key: tuple[int, str, int], lab: Array, away: float) -> Near:
    return Near(*key, (float(lab[0]), float(lab[1]), float(lab[2])), away)


def twins(library: int | None = None, most: int = 200) -> list[tuple[Near, Near]]:
    """Pairs of colours that are one by name (in two books) or by colour (within `TWINS`), the nearest first.
    The second of a pair says how far it is from the first.
    """
    keys, labs = _all(library)
    pairs: list[tuple[float, int, int]] = []
    # what is farther apart in Lab than this is farther than TWINS in dE00, but for very high chroma
    order = np.argsort(labs[:, 0], kind="stable") if len(keys) else np.zeros(0, dtype=int)
    light = labs[order, 0] if len(keys) else np.zeros(0)
    for at, i in enumerate(order):
        upto = int(np.searchsorted(light, light[at] + 3.0))
        others = order[at + 1 : upto]
        if not len(others):
            continue
        apart = delta_e_2000(labs[i], labs[others])
        pairs += [(float(a), int(i), int(j)) for a, j in zip(apart, others) if a <= TWINS]
    held = {(min(i, j), max(i, j)) for _, i, j in pairs}
    by_name: dict[str, int] = {}
    for j, (_, name, _) in enumerate(keys):
        i = by_name.setdefault(name.casefold(), j)
        if i != j and (min(i, j), max(i, j)) not in held:
            pairs.append((float(delta_e_2000(labs[i], labs[j])), i, j))

    ordered = sorted(pairs)[:most]
    return [(_near(keys[i], labs[i], 0.0), _near(keys[j], labs[j], away)) for away, i, j in ordered]
