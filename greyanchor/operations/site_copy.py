"""A site's own copy of the shop's database, renewed while the line holds."""

from __future__ import annotations

import json
import os
import shutil
from typing import Any

from django.conf import settings
from django.db import DEFAULT_DB_ALIAS, connections, transaction

from greyanchor.background import line
from greyanchor.operations import rows, tables

_NEW = "copy-new"


def renew() -> int:
    """Bring the copy up to date, table by table, and put it in place whole; how many tables had changed.

    Read in one transaction, so that the copy is of one moment. A table whose counters of changes stand as
    they stood is taken from the copy before.
    """
    new = line.copy_path().with_name("copy.part")
    marks = line.copy_path().with_name("copy.json")
    for left in new.parent.glob("copy.part*"):
        left.unlink()
    before: dict[str, Any] = {}
    if line.copy_path().exists() and marks.exists():
        shutil.copyfile(line.copy_path(), new)
        before = json.loads(marks.read_text())
    connections.databases[_NEW] = {
        **connections.databases[line.COPY],
        "NAME": str(new),
        "OPTIONS": {"timeout": 20},
    }
    try:
        tables.bring_up_to_date(_NEW)
        found = _changed_tables()
        models = [
            m for m in rows.every_model() if found.get(m._meta.db_table) != before.get(m._meta.db_table)
        ]
        with (
            transaction.atomic(),
            connections[_NEW].constraint_checks_disabled(),
            transaction.atomic(using=_NEW),
        ):
            _of_one_moment()
            rows.empty(models, _NEW)
            for model in models:
                rows.carry(model, DEFAULT_DB_ALIAS, _NEW)
    finally:
        connections[_NEW].close()
        del connections[_NEW]
        del connections.databases[_NEW]
    if models or not line.copy_path().exists():
        new.chmod(0o600)
        marks.unlink(missing_ok=True)
        os.replace(new, line.copy_path())
        marks.write_text(json.dumps(found))
    else:
        new.unlink()
        os.utime(line.copy_path())
    return len(models)


def _of_one_moment() -> None:
    if connections[DEFAULT_DB_ALIAS].vendor == "postgresql":
        with connections[DEFAULT_DB_ALIAS].cursor() as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")


def _changed_tables() -> dict[str, list[int]]:
    """How often rows of each table were written, by PostgreSQL's own counters, and how many there are."""
    if connections[DEFAULT_DB_ALIAS].vendor != "postgresql":
        return {}
    with connections[DEFAULT_DB_ALIAS].cursor() as cursor:
        cursor.execute(
            "SELECT relname, n_tup_ins, n_tup_upd, n_tup_del, n_live_tup, "
            "extract(epoch FROM pg_postmaster_start_time())::bigint FROM pg_stat_user_tables"
        )
        return {row[0]: [int(v) for v in row[1:]] for row in cursor.fetchall()}


def minutes() -> float:
    """How often the copy is renewed."""
    return float(settings.COPY_MINUTES)
