"""What a shop keeps that grows, and for how long: each part of the application registers its own kinds.

Nothing that evidence rests on is among what goes: readings, checks, prints, profiles, editions and the audit
log stay for ever.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

import structlog
from django.utils import timezone

_log = structlog.get_logger(__name__)


@dataclass(frozen=True)
class Thing:
    """One thing that is kept: its bytes, since when it was not needed, what removes it, and its file."""

    bytes: int
    since: datetime
    remove: Callable[[], None]
    file: Path | None = None


@dataclass(frozen=True)
class Store:
    """A kind of thing that grows.

    `rule` names the rule by which things go that were not needed for so many days; without one they stay.
    `things` gives those that may go by the rule; `used` the number and bytes of all of them. `again` says
    that their files can be made again any time, so that backups leave them out; `missed` is called when a
    backup was put back without them.
    """

    key: str
    title: str
    why: str
    used: Callable[[], tuple[int, int]]
    rule: str = ""
    things: Callable[[], Iterable[Thing]] = lambda: ()
    again: bool = False
    missed: Callable[[], None] = lambda: None


_stores: dict[str, Store] = {}


def register(store: Store) -> Store:
    """Let a kind of thing be seen, and go by its rule."""
    _stores[store.key] = store
    return store


def stores() -> list[Store]:
    """All kinds, as they were registered."""
    return list(_stores.values())


def over(store: Store, days: int, now: datetime | None = None) -> Iterator[Thing]:
    """Things of a kind that were not needed for longer than `days`; none for a rule of 0 days."""
    if not store.rule or days <= 0:
        return
    limit = (now or timezone.now()) - timedelta(days=days)
    for thing in store.things():
        if thing.since < limit:
            yield thing


def tidy(days_of: Callable[[str], int], now: datetime | None = None) -> dict[str, tuple[int, int]]:
    """Remove what is over by the rules; number and bytes by kind. One that cannot be removed stays."""
    found: dict[str, tuple[int, int]] = {}
    for store in stores():
        for thing in over(store, days_of(store.rule), now):
            try:
                thing.remove()
            except OSError:
                _log.exception("what is over could not be removed", kind=store.key)
                continue
            count, size = found.get(store.key, (0, 0))
            found[store.key] = (count + 1, size + thing.bytes)
    return found


def made_again() -> set[Path]:
    """Files that can be made again any time."""
    return {t.file for store in stores() if store.again for t in store.things() if t.file is not None}


def put_back() -> None:
    """A backup was put back, without the files that can be made again."""
    for store in stores():
        store.missed()


def files_below(folder: Path, pattern: str = "*") -> Iterator[Path]:
    """Plain files below a folder, where there is one."""
    if folder.is_dir():
        yield from (p for p in folder.rglob(pattern) if p.is_file() and not p.is_symlink())


def size_of(files: Iterable[Path]) -> tuple[int, int]:
    """Number and bytes of files."""
    count = size = 0
    for path in files:
        try:
            size += path.stat().st_size
        except OSError:
            continue  # it went meanwhile
        count += 1
    return count, size


def old_files(files: Iterable[Path]) -> Iterator[Thing]:
    """Files as things that go by when they were written."""
    for path in files:
        try:
            facts = path.stat()
        except OSError:
            continue
        since = datetime.fromtimestamp(facts.st_mtime, tz=timezone.get_current_timezone())
        yield Thing(facts.st_size, since, partial(path.unlink, missing_ok=True))
