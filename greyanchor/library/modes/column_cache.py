"""Every print mode in memory, as columns: what makes narrowing by many facets quick.

The snapshot follows the database: before each use it asks what changed since, and takes up those rows
alone. Each process has its own; it can be thrown away at any time.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import numpy as np
from django.db.models import Count, Max, Sum

from greyanchor.accounts.models import Site
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.throughput import Carriage, square_metres_an_hour
from greyanchor.core.search.facets import WordIndex
from greyanchor.library.models import InkSet, Media, MediaClass, Printer, PrintMode

_STATES = [value for value, _ in PrintMode.State.choices]
_VERDICTS = ["pass", "fail", ""]
_INTS = ("pk", "printer", "ink_set", "media", "resolution", "passes", "state", "verdict", "made_by")
_FLOATS = ("speed", "calibrated", "changed", "total")
_FIELDS = (
    "pk",
    "name",
    "note",
    "printer_id",
    "ink_set_id",
    "media_id",
    "environment",
    "handling",
    "state",
    "last_verdict",
    "made_by_id",
    "calibrated_at",
    "changed_at",
    "total_ink",
)


@dataclass
class Names:
    """The small tables that modes refer to, by primary key."""

    printers: dict[int, tuple[str, int]] = field(default_factory=dict)
    carriages: dict[int, Carriage | None] = field(default_factory=dict)
    ink_sets: dict[int, str] = field(default_factory=dict)
    media: dict[int, tuple[str, str, int]] = field(default_factory=dict)
    classes: dict[int, str] = field(default_factory=dict)
    sites: dict[int, str] = field(default_factory=dict)


class ColumnCache:
    """Columns of all modes, in no particular order; `names` are those of `Names`."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self._empty()

    def _empty(self) -> None:
        self.count = 0
        self._room = 0
        self.ints: dict[str, np.ndarray[Any, Any]] = {}
        self.floats: dict[str, np.ndarray[Any, Any]] = {}
        self.labels: list[str] = []
        self._notes: list[str] = []
        self.index = WordIndex()
        self._at: dict[int, int] = {}
        self._stamp: Any = None
        self._small_stamp: Any = None
        self._latest: datetime | None = None
        self._ranks: np.ndarray[Any, Any] | None = None
        self.derived: dict[str, Any] | None = (
            None  # what others worked out of the columns; gone with every change
        )
        self.names = Names()

    # --- following the database --------------------------------------------------------------

    def follow(self) -> None:
        """Take up what changed in the database since the last time."""
        small = self._small_now()
        if small != self._small_stamp:
            self._take_small()
            self._small_stamp, self.derived = small, None
        stamp = self._stamp_now()
        if stamp == self._stamp:
            return
        self.derived = None
        changed = PrintMode.objects.order_by()
        if self._latest is not None:
            changed = changed.filter(changed_at__gte=self._latest)
        self._take(changed.values_list(*_FIELDS).iterator(2000))
        if self.count != stamp["n"]:
            names, small = self.names, self._small_stamp
            self._empty()
            self.names, self._small_stamp = names, small
            self._take(PrintMode.objects.order_by().values_list(*_FIELDS).iterator(2000))
        self._stamp, self._latest = stamp, stamp["at"]

    @staticmethod
    def _stamp_now() -> dict[str, Any]:
        """Three questions, each answered from an index alone; one for all of them would read every row."""
        modes = PrintMode.objects.order_by()
        return {
            "n": modes.count(),
            "top": modes.aggregate(top=Max("pk"))["top"],
            "at": modes.aggregate(at=Max("changed_at"))["at"],
        }

    @staticmethod
    def _small_now() -> Any:
        kept = tuple(
            tuple(model._default_manager.aggregate(n=Count("pk"), top=Max("pk"), v=Sum("version")).values())
            for model in (Printer, InkSet, MediaClass, Media)
        )
        return kept, tuple(Site.objects.values_list("pk", "name"))

    def _take_small(self) -> None:
        old, new = self.names, Names()
        for printer in Printer.objects.order_by():
            new.printers[printer.pk] = (printer.name, printer.site_id)
            new.carriages[printer.pk] = printer.machine
        new.ink_sets = dict(InkSet.objects.order_by().values_list("pk", "name"))
        new.classes = dict(MediaClass.objects.order_by().values_list("pk", "name"))
        new.sites = dict(Site.objects.order_by().values_list("pk", "name"))
        for pk, *parts in Media.objects.order_by().values_list("pk", "name", "maker", "media_class_id"):
            new.media[pk] = tuple(parts)  # type: ignore[assignment]
        self.names = new
        moved_classes = {k for k, v in new.classes.items() if old.classes.get(k) != v}
        media = {k for k, v in new.media.items() if old.media.get(k) != v or v[2] in moved_classes}
        printers = {
            k
            for k, v in new.printers.items()
            if old.printers.get(k) != v or old.carriages.get(k) != new.carriages[k]
        }
        if self.count and (media or printers or old.sites != new.sites or old.ink_sets != new.ink_sets):
            everyone = old.sites != new.sites or old.ink_sets != new.ink_sets
            for row in range(self.count):
                if everyone or self.ints["media"][row] in media or self.ints["printer"][row] in printers:
                    self._put_words(row)
            if printers:
                self._stamp = self._latest = None  # speeds are reported again

    def _take(self, rows: Iterable[tuple[Any, ...]]) -> None:
        for parts in rows:
            facts = dict(zip(_FIELDS, parts))
            row = self._at.get(facts["pk"])
            if row is None:
                row = self.count
                self._grow(row + 1)
                self._at[facts["pk"]] = row
                self.count += 1
                self.labels.append("")
                self._notes.append("")
            self._put(row, facts)

    def _grow(self, wanted: int) -> None:
        if wanted <= self._room:
            return
        self._room = max(1024, 2 * self._room)
        for name in _INTS:
            grown = np.full(self._room, -1, dtype=np.int64)
            if name in self.ints:
                grown[: self.count] = self.ints[name][: self.count]
            self.ints[name] = grown
        for name in _FLOATS:
            wide = np.full(self._room, np.nan)
            if name in self.floats:
                wide[: self.count] = self.floats[name][: self.count]
            self.floats[name] = wide

    def _put(self, row: int, facts: dict[str, Any]) -> None:
        environment = facts["environment"]
        ints = {
            "pk": facts["pk"],
            "printer": facts["printer_id"],
            "ink_set": facts["ink_set_id"],
            "media": facts["media_id"],
            "resolution": environment.get("resolution", -1),
            "passes": environment.get("passes", -1),
            "state": _STATES.index(facts["state"]),
            "verdict": _VERDICTS.index(facts["last_verdict"] if facts["last_verdict"] in _VERDICTS else ""),
            "made_by": facts["made_by_id"] if facts["made_by_id"] is not None else -1,
        }
        for name, value in ints.items():
            self.ints[name][row] = value
        calibrated, total = facts["calibrated_at"], facts["total_ink"]
        self.floats["calibrated"][row] = np.nan if calibrated is None else calibrated.timestamp()
        self.floats["changed"][row] = facts["changed_at"].timestamp()
        self.floats["total"][row] = np.nan if total is None else total
        self.floats["speed"][row] = self._speed(facts["printer_id"], environment, facts["handling"])
        if self.labels[row] != facts["name"]:
            self._ranks = None
        self.labels[row], self._notes[row] = facts["name"], facts["note"]
        self._put_words(row)

    def _speed(self, printer: int, environment: dict[str, Any], handling: dict[str, float]) -> float:
        machine = self.names.carriages.get(printer)
        if machine is None or "passes" not in environment:
            return float("nan")
        try:
            return square_metres_an_hour(
                machine,
                environment["resolution"],
                environment["passes"],
                environment["direction"],
                handling.get("pass_pause", 0.0),
                handling.get("overprints", 1.0),
            )
        except (KeyError, TypeError, BadInput):
            return float("nan")

    def _put_words(self, row: int) -> None:
        media = self.names.media.get(int(self.ints["media"][row]), ("", "", 0))
        printer = self.names.printers.get(int(self.ints["printer"][row]), ("", 0))
        self.index.put(
            row,
            [
                (self.labels[row], 2.0),
                (media[0], 1.5),
                (media[1], 1.2),
                (self.names.classes.get(media[2], ""), 1.2),
                (printer[0], 1.2),
                (self.names.sites.get(printer[1], ""), 1.1),
                (self.names.ink_sets.get(int(self.ints["ink_set"][row]), ""), 1.1),
                (self._notes[row], 1.0),
            ],
        )

    # --- reading it --------------------------------------------------------------------------

    def column(self, name: str) -> np.ndarray[Any, Any]:
        """A column by name, (count,)."""
        table = self.ints if name in _INTS else self.floats
        return (
            table[name][: self.count]
            if self.count
            else np.zeros(0, dtype=np.int64 if name in _INTS else float)
        )

    def name_ranks(self) -> np.ndarray[Any, Any]:
        """The place of each mode when they are sorted by name, (count,)."""
        if self._ranks is None or len(self._ranks) != self.count:
            order = np.argsort(np.array([n.casefold() for n in self.labels], dtype=object), kind="stable")
            self._ranks = np.empty(self.count, dtype=np.int64)
            self._ranks[order] = np.arange(self.count)
        return self._ranks


#: the snapshot of this process
CACHE = ColumnCache()
