"""The finding page: choices with counts, search, sort and columns, all from the address."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.contrib.auth.models import User
from django.db.models import Prefetch
from django.http import QueryDict
from django.utils import timezone

from greyanchor.accounts.people import named, site_of
from greyanchor.core.errors import BadInput
from greyanchor.core.search.facets import narrow
from greyanchor.library.models import InkSet, Media, PackImport, Pin, Printer, PrintMode
from greyanchor.library.modes.column_cache import CACHE, ColumnCache

PAGE = 50
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


#: facet, title, and how its codes and labels come from a snapshot
_FACETS: tuple[tuple[str, str], ...] = (
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


def _facet_codes(shot: ColumnCache) -> dict[str, tuple[Codes, list[tuple[str, str]]]]:
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
        coded = _facet_codes(shot)
        chosen = {key: _chosen(query.getlist(key), coded[key][1]) for key, _ in _FACETS}
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
        _facet(key, title, coded[key][1], result.counts[key], chosen[key], query) for key, title in _FACETS
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
        previous=_address(query, page=number - 1) if number > 1 else "",
        following=_address(query, page=number + 1) if number < pages else "",
        query=words,
        taken_for=found.taken_for,
        pinned=pinned,
        pins=pins,
        address=_address(query),
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


def pins_of(user: Any) -> dict[int, str]:
    """Modes that are pinned for a person: "mine", "site" or both, by primary key."""
    site = site_of(user)
    out: dict[int, str] = {}
    for mode, owner in Pin.objects.filter(user=user).values_list("mode_id", "user_id"):
        out[mode] = "mine" if owner else ""
    if site is not None:
        for mode in Pin.objects.filter(site=site).values_list("mode_id", flat=True):
            out[mode] = f"{out.get(mode, '')} site".strip()
    return out


def _chosen(values: Sequence[str], choices: Sequence[tuple[str, str]]) -> list[int]:
    """Codes of the values in an address.

    A value that nothing has any more leaves nothing, rather than everything.
    """
    place = {value: i for i, (value, _) in enumerate(choices)}
    return [place.get(v, -2) for v in values if v != ""]


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


def _address(query: QueryDict, **changes: Any) -> str:
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


def _facet(
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
    made, rest = [], _address(query, **{key: None})
    for code, count in left[:MOST_SHOWN]:
        value, label = choices[code]
        values = [v for v in taken if v != value] if value in taken else [*taken, value]
        own = urlencode([(key, v) for v in values])
        made.append(Choice(value, label, count, code in held, "&".join(filter(None, (rest, own)))))
    return Facet(key, title, made[:SHOWN], made[SHOWN:], max(0, len(left) - MOST_SHOWN))


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
                _address(query, sort=f"-{key}" if sort == key else key),
                _address(query, cols=",".join(toggled) or key),
            )
        )
    return out


def pinned(user: Any, most: int = 12) -> list[PrintMode]:
    """Modes pinned for a person, by name."""
    found = (
        PrintMode.objects.filter(pk__in=pins_of(user))
        .select_related("printer")
        .only("name", "printer__name", "last_verdict", "state")
    )
    return list(found.order_by("name")[:most])


def warm() -> None:
    """Read the library into memory, so that the first person need not wait."""
    with CACHE.lock:
        CACHE.follow()
