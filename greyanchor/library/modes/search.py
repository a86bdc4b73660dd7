"""The finding page: choices with counts, search, sort and columns, all from the address."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db.models import Prefetch
from django.http import QueryDict

from greyanchor.accounts.people import named
from greyanchor.core.errors import BadInput
from greyanchor.core.search.facets import narrow
from greyanchor.library.models import InkSet, Media, PackImport, Printer, PrintMode
from greyanchor.library.modes.column_cache import CACHE, ColumnCache
from greyanchor.library.modes.facets import (
    FACETS,
    Codes,
    Facet,
    address_with,
    chosen_codes,
    facet_codes,
    facet_of,
)
from greyanchor.library.modes.pins import pins_of

PAGE = 50


@dataclass(frozen=True)
class Column:
    """One column of the table: its heading, whether it is shown, and the addresses that sort by it or show
    it.
    """

    key: str
    title: str
    shown: bool
    numeric: bool
    sorted: str
    sort_address: str
    toggle_address: str


@dataclass(frozen=True)
class Cell:
    """One cell of the table; a verdict is reported by its key, everything else by its text."""

    text: str
    numeric: bool = False
    verdict: str | None = None


@dataclass(frozen=True)
class Row:
    """One mode of the table with its cells, in the order of the shown columns."""

    mode: PrintMode
    pinned: str
    cells: list[Cell]


@dataclass
class FindingPage:
    """All that the page shows."""

    rows: list[Row]
    total: int
    everything: int
    facets: list[Facet]
    columns: list[Column]
    number: int
    pages: int
    previous: str
    following: str
    query: str
    taken_for: dict[str, str] = field(default_factory=dict)
    pinned: str = ""
    pins: dict[int, str] = field(default_factory=dict)
    address: str = ""
    all_pks: list[int] = field(default_factory=list)

    @property
    def modes(self) -> list[PrintMode]:
        """The modes of this page."""
        return [r.mode for r in self.rows]


#: column, title, numeric
COLUMNS: tuple[tuple[str, str, bool], ...] = (
    ("printer", "Printer", False),
    ("site", "Site", False),
    ("ink_set", "Ink set", False),
    ("media_class", "Media class", False),
    ("maker", "Maker", False),
    ("media", "Media", False),
    ("resolution", "Resolution, dpi", True),
    ("passes", "Passes", True),
    ("speed", "Speed, m²/h", True),
    ("total", "Total ink", True),
    ("state", "State", False),
    ("age", "Calibrated", False),
    ("verdict", "Last check", False),
    ("made_by", "Made by", False),
    ("changed", "Changed", False),
)
_USUAL = ("printer", "media", "passes", "speed", "state", "age", "verdict")


def named_pks(query: QueryDict) -> list[int]:
    """Modes that an address names; `BadInput` for what is no number of one."""
    found = query.getlist("m")
    if wrong := next((v for v in found if not v.isdecimal() or len(v) > 15), None):
        raise BadInput(f"there is no print mode {wrong[:20]!r}")
    return [int(v) for v in found]


def find(query: QueryDict, user: Any) -> FindingPage:
    """Narrow, search, sort and cut to a page, as an address asks."""
    shot = CACHE
    with shot.lock:
        shot.follow()
        coded = facet_codes(shot)
        chosen = {key: chosen_codes(query.getlist(key), coded[key][1]) for key, _ in FACETS}
        words = query.get("q", "").strip()[:200]
        found = shot.index.find(words, shot.count)
        within = found.scores > 0
        pinned = query.get("pinned", "")
        pins = pins_of(user)
        if pinned in ("mine", "site"):
            within &= np.isin(shot.column("pk"), [pk for pk, whose in pins.items() if pinned in whose])
        brought = PackImport.objects.filter(
            pk=_number(query.get("brought")) if query.get("brought") else 0
        ).first()
        if brought is not None:
            within &= np.isin(shot.column("pk"), brought.result.get("modes", []))
        result = narrow({key: codes for key, (codes, _) in coded.items()}, chosen, within)
        rows = np.flatnonzero(result.mask)
        sort = query.get("sort", "") or ("best" if words else "name")
        rows = _sorted(rows, shot, coded, sort, found.scores)
        pks = shot.column("pk")[rows]
        everything = shot.count
    facets = [
        facet_of(key, title, coded[key][1], result.counts[key], chosen[key], query) for key, title in FACETS
    ]
    pages = max(1, -(-len(pks) // PAGE))
    number = min(max(_number(query.get("page")), 1), pages)
    every: list[int] = pks.tolist()
    on_page = every[(number - 1) * PAGE : number * PAGE]
    columns = _columns(query, sort)
    return FindingPage(
        rows=_rows(_loaded(on_page), columns, pins),
        total=len(pks),
        everything=everything,
        facets=facets,
        columns=columns,
        number=number,
        pages=pages,
        previous=address_with(query, page=number - 1) if number > 1 else "",
        following=address_with(query, page=number + 1) if number < pages else "",
        query=words,
        taken_for=found.taken_for,
        pinned=pinned,
        pins=pins,
        address=address_with(query),
        all_pks=every,
    )


#: what the table can show of a mode, and no more: it is read fifty times a page
_SHOWN_FIELDS = (
    "name",
    "environment",
    "handling",
    "state",
    "last_verdict",
    "calibrated_at",
    "changed_at",
    "total_ink",
    "inherited",
    "version",
    "printer",
    "media",
    "ink_set",
    "made_by",
)
_SHOWN_OF_PRINTER = ("name", "width_mm", "carriage", "site__name")
_SHOWN_OF_MEDIA = ("name", "maker", "media_class__name")


def _loaded(pks: list[int]) -> list[PrintMode]:
    # fifty modes share a few printers and media: each of those is read and made once
    found = (
        PrintMode.objects.filter(pk__in=pks)
        .only(*_SHOWN_FIELDS)
        .prefetch_related(
            Prefetch("printer", Printer.objects.select_related("site").only(*_SHOWN_OF_PRINTER)),
            Prefetch("media", Media.objects.select_related("media_class").only(*_SHOWN_OF_MEDIA)),
            Prefetch("ink_set", InkSet.objects.only("name")),
            Prefetch("made_by", User.objects.only("first_name", "last_name", "username")),
        )
    )
    by_pk = {m.pk: m for m in found}
    return [by_pk[pk] for pk in pks if pk in by_pk]


_TEXTS: dict[str, Callable[[PrintMode], str]] = {
    "printer": lambda m: m.printer.name,
    "site": lambda m: m.printer.site.name,
    "ink_set": lambda m: m.ink_set.name,
    "media_class": lambda m: m.media.media_class.name,
    "maker": lambda m: m.media.maker,
    "media": lambda m: m.media.name,
    "resolution": lambda m: str(m.environment.get("resolution", "–")),
    "passes": lambda m: str(m.environment.get("passes", "–")),
    "speed": lambda m: "–" if m.speed is None else f"{m.speed:.1f}",
    "total": lambda m: "–" if m.total_ink is None else f"{m.total_ink:.0f} %",
    "state": lambda m: m.get_state_display(),
    "age": lambda m: f"{m.calibrated_at:%-d %b %Y}" if m.calibrated_at else "–",
    "made_by": lambda m: named(m.made_by) if m.made_by else "–",
    "changed": lambda m: f"{m.changed_at:%-d %b %Y}",
}


def _rows(modes: list[PrintMode], columns: list[Column], pins: dict[int, str]) -> list[Row]:
    shown = [c for c in columns if c.shown]
    out = []
    for mode in modes:
        cells = [
            Cell("", verdict=mode.last_verdict)
            if c.key == "verdict"
            else Cell(_TEXTS[c.key](mode), c.numeric)
            for c in shown
        ]
        out.append(Row(mode, pins.get(mode.pk, ""), cells))
    return out


def _number(text: str | None) -> int:
    return int(text) if text and text.isdecimal() and len(text) < 7 else 1


def _sorted(rows: Codes, shot: ColumnCache, coded: dict[str, Any], sort: str, scores: Codes) -> Codes:
    """The rows in the order that is asked for, and by name where that leaves them equal."""
    down = sort.startswith("-")
    key = sort.lstrip("-")
    ranks = shot.name_ranks()[rows] if shot.count else np.zeros(0, dtype=np.int64)
    if key == "best":
        value = -scores[rows]
    elif key in ("speed", "total", "changed"):
        value = np.nan_to_num(shot.column(key)[rows], nan=-1.0)
    elif key == "age":
        value = -np.nan_to_num(shot.column("calibrated")[rows], nan=0.0)
    elif key in coded:
        value = coded[key][0][rows]
    else:
        return rows[np.argsort(-ranks if down else ranks)]
    return rows[np.lexsort((ranks, -value if down else value))]


def _columns(query: QueryDict, sort: str) -> list[Column]:
    wanted = [c for c in query.get("cols", "").split(",") if c] or list(_USUAL)
    out = []
    for key, title, numeric in COLUMNS:
        shown = key in wanted
        text = "descending" if sort == f"-{key}" else "ascending" if sort == key else ""
        toggled = [c for c, _, _ in COLUMNS if (c in wanted) != (c == key)]
        out.append(
            Column(
                key,
                title,
                shown,
                numeric,
                text,
                address_with(query, sort=f"-{key}" if sort == key else key),
                address_with(query, cols=",".join(toggled) or key),
            )
        )
    return out


def warm() -> None:
    """Read the library into memory, so that the first person need not wait."""
    with CACHE.lock:
        CACHE.follow()
