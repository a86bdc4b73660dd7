"""The database's tables: made where there are none, brought up to date where there are."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.apps import apps
from django.conf import settings
from django.core.management import call_command
from django.db import DEFAULT_DB_ALIAS, connections, transaction
from django.db.migrations.executor import MigrationExecutor

#: number of the lock that PostgreSQL keeps while tables change; any number that nothing else uses
_LOCK = 0x6772_6579


def bring_up_to_date(using: str = DEFAULT_DB_ALIAS) -> None:
    """Make the tables of an empty database, or those changes that it does not have yet.

    An empty one gets its tables as the models are and every migration marked as made, which takes a tenth of
    the time of all of them in turn; all or nothing. Of several processes that start together, one does it.
    """
    connection = connections[using]
    with _alone(connection):
        if not connection.introspection.table_names():
            _make(connection)
        elif _waiting(connection):
            _migrate(connection)


def _migrate(connection: Any, **options: Any) -> None:
    call_command("migrate", database=connection.alias, interactive=False, verbosity=0, **options)


def _waiting(connection: Any) -> bool:
    executor = MigrationExecutor(connection)
    return bool(executor.migration_plan(executor.loader.graph.leaf_nodes()))


def _make(connection: Any) -> None:
    before = settings.MIGRATION_MODULES
    with connection.constraint_checks_disabled(), transaction.atomic(using=connection.alias):
        if connection.introspection.table_names():
            return  # another process was quicker
        settings.MIGRATION_MODULES = {app.label: None for app in apps.get_app_configs()}
        try:
            _migrate(connection, run_syncdb=True)
        finally:
            settings.MIGRATION_MODULES = before
        _migrate(connection, fake=True)


@contextmanager
def _alone(connection: Any) -> Iterator[None]:
    """One process at a time, on PostgreSQL; SQLite has one writer anyway, and its transaction is enough."""
    if connection.vendor != "postgresql":
        yield
        return
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_lock(%s)", [_LOCK])
    try:
        yield
    finally:
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [_LOCK])
