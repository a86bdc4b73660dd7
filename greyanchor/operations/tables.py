"""The database's tables: made where there are none, brought up to date where there are."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.apps import apps
from django.conf import settings
from django.core.management import call_command
from django.db import connection, transaction
from django.db.migrations.executor import MigrationExecutor

#: number of the lock that PostgreSQL keeps while tables change; any number that nothing else uses
_LOCK = 0x6772_6579


def bring_up_to_date() -> None:
    """Make the tables of an empty database, or those changes that it does not have yet.

    An empty one gets its tables as the models are and every migration marked as made, which takes a tenth of
    the time of all of them in turn; all or nothing. Of several processes that start together, one does it.
    """
    with _alone():
        if not connection.introspection.table_names():
            _make()
        elif _waiting():
            call_command("migrate", interactive=False, verbosity=0)


def _waiting() -> bool:
    executor = MigrationExecutor(connection)
    return bool(executor.migration_plan(executor.loader.graph.leaf_nodes()))


def _make() -> None:
    before = settings.MIGRATION_MODULES
    with connection.constraint_checks_disabled(), transaction.atomic():
        if connection.introspection.table_names():
            return  # another process was quicker
        settings.MIGRATION_MODULES = {app.label: None for app in apps.get_app_configs()}
        try:
            call_command("migrate", run_syncdb=True, interactive=False, verbosity=0)
        finally:
            settings.MIGRATION_MODULES = before
        call_command("migrate", fake=True, interactive=False, verbosity=0)


@contextmanager
def _alone() -> Iterator[None]:
    """One process at a time, on PostgreSQL; SQLite has one writer anyway, and its transaction is enough."""
    if connection.vendor != "postgresql":
        yield
        return
    with connection.cursor() as cursor:
        _ask(cursor, "SELECT pg_advisory_lock(%s)")
    try:
        yield
    finally:
        with connection.cursor() as cursor:
            _ask(cursor, "SELECT pg_advisory_unlock(%s)")


def _ask(cursor: Any, question: str) -> None:
    cursor.execute(question, [_LOCK])
