"""SQLite: copied and put back by its own online backup."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.operations.databases.migrations import not_newer

_TABLES = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"


class Sqlite:
    """One file."""

    FILE = "greyanchor.sqlite3"

    def __init__(self, path: Path) -> None:
        self._path = path

    def exists(self) -> bool:
        return self._path.exists()

    def copy(self, target: Path) -> dict[str, int]:
        with closing(sqlite3.connect(self._path)) as live, closing(sqlite3.connect(target)) as kept:
            live.backup(kept)
        return _sound(target)

    def examine(self, path: Path, rows: dict[str, int]) -> None:
        if _sound(path) != rows:
            raise BadInput("the database in the backup has other rows than it says")
        with closing(sqlite3.connect(path)) as opened:
            not_newer(opened.execute("SELECT app, name FROM django_migrations"))

    def put_back(self, path: Path, rows: dict[str, int]) -> None:
        with closing(sqlite3.connect(path)) as kept, closing(sqlite3.connect(self._path, timeout=60)) as live:
            kept.backup(live)
            live.execute("PRAGMA journal_mode=WAL")

    def prove(self) -> None:
        _sound(self._path)


def _sound(path: Path) -> dict[str, int]:
    """Rows of each table of a database that is whole; `BadInput` when it is not."""
    try:
        with closing(sqlite3.connect(path)) as opened:
            found = opened.execute("PRAGMA integrity_check").fetchone()[0]
            broken = opened.execute("PRAGMA foreign_key_check").fetchone()
            tables = [r[0] for r in opened.execute(_TABLES)]
            counts = {t: opened.execute(f'SELECT count(*) FROM "{t}"').fetchone()[0] for t in tables}
    except sqlite3.DatabaseError as error:
        raise BadInput(f"the database is damaged ({error})") from None
    if found != "ok" or broken is not None:
        raise BadInput(
            f"the database is not whole ({found if found != 'ok' else 'a reference leads nowhere'})"
        )
    return counts
