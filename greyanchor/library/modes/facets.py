"""Choices that narrow the library, with how many modes each leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.contrib.auth.models import User
from django.http import QueryDict
from django.utils import timezone

from greyanchor.accounts.people import named
from greyanchor.library.models import PrintMode
from greyanchor.library.modes.column_cache import ColumnCache

#: choices of a facet that are shown at once, and most of them that are shown after "more"
SHOWN, MOST_SHOWN = 6, 24
_AGES = (
    (7, "up to a week"),
    (30, "up to a month"),
    (90, "up to 3 months"),
    (180, "up to 6 months"),
    (1e9, "older"),
)
_SPEEDS = (
    (2, "up to 2 m²/h"),
    (5, "2 to 5 m²/h"),
    (10, "5 to 10 m²/h"),
    (20, "10 to 20 m²/h"),
    (1e9, "over 20 m²/h"),
)
_STATES = list(PrintMode.State.choices)
_VERDICTS = ["pass", "FAIL", "no check"]
Codes = np.ndarray[Any, Any]


@dataclass(frozen=True)
class Choice:
    """One choice of a facet, with what would be left, and the address that takes it or gives it up."""

    value: str
    label: str
    count: int
    chosen: bool
    address: str


@dataclass(frozen=True)
class Facet:
    """One way to narrow; `rest` are the choices beyond those shown at once, `unseen` how many more there
    are.
    """

    key: str
    title: str
    choices: list[Choice]
    rest: list[Choice]
    unseen: int = 0

    @property
    def chosen(self) -> list[Choice]:
        return [c for c in [*self.choices, *self.rest] if c.chosen]


#: facet, title, and how its codes and labels come from a snapshot
FACETS: tuple[tuple[str, str], ...] = (
    ("state", "State"),
    ("printer", "Printer"),
    ("site", "Site"),
    ("ink_set", "Ink set"),
    ("media_class", "Media class"),
    ("maker", "Maker"),
    ("media", "Media"),
    ("resolution", "Resolution"),
    ("passes", "Passes"),
    ("speed", "Speed"),
    ("age", "Calibrated"),
    ("verdict", "Last check"),
    ("made_by", "Made by"),
)


def _coded(values: Codes, labels: Mapping[int, str]) -> tuple[Codes, list[tuple[str, str]]]:
    """Values as codes from 0 in the order of their labels, and for each code its value in the address and its
    label.
    """
    known, at = np.unique(values, return_inverse=True)
    order = sorted(range(len(known)), key=lambda i: labels.get(int(known[i]), str(known[i])).casefold())
    items = [int(known[i]) for i in order if known[i] != -1]
    place = {v: i for i, v in enumerate(items)}
    codes = np.array([place.get(int(v), -1) for v in known], dtype=np.int64)
    return codes[at] if len(known) else np.zeros(0, dtype=np.int64), [
        (str(v), labels.get(v, str(v))) for v in items
    ]


def facet_codes(shot: ColumnCache) -> dict[str, tuple[Codes, list[tuple[str, str]]]]:
    """Codes of every facet; those that do not move with the clock are kept until the snapshot changes."""
    if shot.derived is None:
        shot.derived = _still_codes(shot)
    now = timezone.now().timestamp()
    return {**shot.derived, "age": _binned((now - shot.column("calibrated")) / 86400.0, _AGES)}


def _binned(values: Codes, edges: Sequence[tuple[float, str]]) -> tuple[Codes, list[tuple[str, str]]]:
    codes = np.digitize(np.nan_to_num(values, nan=-1.0), [e for e, _ in edges[:-1]], right=True)
    return np.where(np.isnan(values), -1, codes), [(str(i), label) for i, (_, label) in enumerate(edges)]


def _still_codes(shot: ColumnCache) -> dict[str, tuple[Codes, list[tuple[str, str]]]]:
    names = shot.names
    media, printer = shot.column("media"), shot.column("printer")

    def through(values: Codes, mapping: Mapping[int, int]) -> Codes:
        keys = np.array(sorted(mapping), dtype=np.int64)
        if not len(keys):
            return np.full(len(values), -1, dtype=np.int64)
        targets = np.array([mapping[int(k)] for k in keys], dtype=np.int64)
        at = np.clip(np.searchsorted(keys, values), 0, len(keys) - 1)
        return np.where(keys[at] == values, targets[at], -1)

    makers = sorted({parts[1] for parts in names.media.values()}, key=str.casefold)
    maker_code = {m: i for i, m in enumerate(makers)}
    people = {u.pk: named(u) for u in User.objects.filter(pk__in=np.unique(shot.column("made_by")).tolist())}

    return {
        "state": (shot.column("state"), _STATES),
        "printer": _coded(printer, {k: v[0] for k, v in names.printers.items()}),
        "site": _coded(through(printer, {k: v[1] for k, v in names.printers.items()}), names.sites),
        "ink_set": _coded(shot.column("ink_set"), names.ink_sets),
        "media_class": _coded(through(media, {k: v[2] for k, v in names.media.items()}), names.classes),
        "maker": (
            through(media, {k: maker_code[v[1]] for k, v in names.media.items()}),
            [(m, m) for m in makers],
        ),
        "media": _coded(media, {k: v[0] for k, v in names.media.items()}),
        "resolution": _by_number(shot.column("resolution"), "dpi"),
        "passes": _by_number(shot.column("passes"), "passes"),
        "speed": _binned(shot.column("speed"), _SPEEDS),
        "verdict": (
            shot.column("verdict"),
            [(v or "none", label) for v, label in zip(("pass", "fail", ""), _VERDICTS)],
        ),
        "made_by": _coded(shot.column("made_by"), people),
    }


def _by_number(values: Codes, unit: str) -> tuple[Codes, list[tuple[str, str]]]:
    known = np.unique(values[values >= 0])
    codes = np.searchsorted(known, values)
    return np.where(values < 0, -1, codes), [(str(v), f"{v} {unit}") for v in known.tolist()]


def chosen_codes(values: Sequence[str], choices: Sequence[tuple[str, str]]) -> list[int]:
    """Codes of the values in an address.

    A value that nothing has any more leaves nothing, rather than everything.
    """
    place = {value: i for i, (value, _) in enumerate(choices)}
    return [place.get(v, -2) for v in values if v != ""]


def address_with(query: QueryDict, **changes: Any) -> str:
    """The query of an address with some of its values replaced; None takes a value away. The page is
    forgotten.
    """
    items = [
        (k, v) for k, values in query.lists() for v in values if k not in changes and k != "page" and v != ""
    ]
    items += [
        (k, str(v))
        for k, values in changes.items()
        for v in (values if isinstance(values, list) else [values])
        if v is not None
    ]
    return urlencode(items)


def facet_of(
    key: str,
    title: str,
    choices: Sequence[tuple[str, str]],
    counts: Codes,
    chosen: Sequence[int],
    query: QueryDict,
) -> Facet:
    taken, held = query.getlist(key), set(chosen)
    left = [(code, int(counts[code]) if code < len(counts) else 0) for code in range(len(choices))]
    left = [(code, count) for code, count in left if count or code in held]
    if key in ("printer", "media", "media_class", "maker", "ink_set", "made_by", "site"):
        left.sort(key=lambda c: (c[0] not in held, -c[1], c[0]))
    made, rest = [], address_with(query, **{key: None})
    for code, count in left[:MOST_SHOWN]:
        value, label = choices[code]
        values = [v for v in taken if v != value] if value in taken else [*taken, value]
        own = urlencode([(key, v) for v in values])
        made.append(Choice(value, label, count, code in held, "&".join(filter(None, (rest, own)))))
    return Facet(key, title, made[:SHOWN], made[SHOWN:], max(0, len(left) - MOST_SHOWN))
