"""Copying a database whole and putting a copy in its place, by each kind's own means."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from django.conf import settings


class Kept(Protocol):
    """One kind of database, as backup and restore ask of it."""

    #: name of its copy in a backup
    FILE: str

    def exists(self) -> bool:
        """Whether there is anything to copy."""

    def copy(self, target: Path) -> dict[str, int]:
        """Write a copy of one moment, while others work; the rows of each table."""

    def examine(self, path: Path, rows: dict[str, int]) -> None:
        """Raise `BadInput` where a copy is damaged, holds other rows, or is of a newer program."""

    def put_back(self, path: Path, rows: dict[str, int]) -> None:
        """Put a copy in place of what is there, in one transaction that others wait for."""

    def prove(self) -> None:
        """Look through the database after that; `BadInput` where it is not whole."""


def of_this_shop() -> Kept:
    """The database that the settings name."""
    facts = settings.DATABASES["default"]
    if facts["ENGINE"] == "django.db.backends.sqlite3":
        from greyanchor.operations.databases.sqlite import Sqlite

        return Sqlite(Path(facts["NAME"]))
    from greyanchor.operations.databases.postgresql import PostgreSQL

    return PostgreSQL(facts)
