"""Whether a copy of a database is of a newer program than this one."""

from __future__ import annotations

from collections.abc import Iterable

from django.db.migrations.loader import MigrationLoader

from greyanchor.core.errors import BadInput


def not_newer(applied: Iterable[tuple[str, str]]) -> None:
    """Refuse data that a newer program wrote: its tables are not known here."""
    known = set(MigrationLoader(None).disk_migrations)
    ours = {app for app, _ in known}
    newer = sorted(f"{a} {n}" for a, n in set(applied) - known if a in ours)
    if newer:
        raise BadInput(f"the backup was made by a newer program ({newer[0]}); restore it there")
