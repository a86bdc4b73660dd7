"""Rows of every table, carried from one database to another as they are, and compared."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import islice
from typing import Any

from django.apps import apps
from django.core.management.color import no_style
from django.db import DataError, connections, transaction
from django.db.models import Model

from greyanchor.core.canonical import canonical
from greyanchor.core.errors import BadInput

_BATCH = 500


@dataclass(frozen=True)
class Moved:
    """A table that was carried over: its rows, and the SHA-256 of all their values on either side."""

    table: str
    rows: int
    sha256: str


def every_model() -> list[type[Model]]:
    """Every model that has a table of its own."""
    found = apps.get_models(include_auto_created=True)
    return [m for m in found if m._meta.managed and not m._meta.proxy]


def empty(models: Sequence[type[Model]], using: str) -> None:
    """Take every row out of tables."""
    other = connections[using]
    names = [m._meta.db_table for m in models]
    with other.cursor() as cursor:
        if other.vendor == "postgresql":
            quoted = ", ".join(other.ops.quote_name(n) for n in names)
            cursor.execute(f"TRUNCATE {quoted}")
        else:
            for name in names:
                cursor.execute(f"DELETE FROM {other.ops.quote_name(name)}")


def _rows(model: type[Model], using: str) -> Iterator[Model]:
    return model._base_manager.using(using).order_by("pk").iterator(chunk_size=_BATCH)


def carry(model: type[Model], source: str, target: str) -> Moved:
    """Copy one table as it is: no default, no date of change is set again."""
    fields, digest, count = model._meta.local_concrete_fields, hashlib.sha256(), 0
    rows = _rows(model, source)
    while batch := list(islice(rows, _BATCH)):
        for row in batch:
            digest.update(_said(row, fields))
        _insert(model, batch, target)
        count += len(batch)
    return Moved(model._meta.db_table, count, digest.hexdigest())


def _insert(model: type[Model], batch: list[Model], target: str) -> None:
    manager: Any = model._base_manager
    fields = model._meta.local_concrete_fields
    try:
        with transaction.atomic(using=target):
            manager._insert(batch, fields=fields, using=target, raw=True)
    except (DataError, ValueError) as error:
        if len(batch) == 1:
            reason = str(error).splitlines()[0]
            raise BadInput(
                f"row {batch[0].pk} of {model._meta.db_table} does not fit the other database ({reason}); "
                "correct it here, then move again. Nothing was kept there"
            ) from None
        for row in batch:
            _insert(model, [row], target)


def digest_of(model: type[Model], using: str) -> tuple[int, str]:
    digest, count = hashlib.sha256(), 0
    for row in _rows(model, using):
        digest.update(_said(row, model._meta.local_concrete_fields))
        count += 1
    return count, digest.hexdigest()


def _said(row: Model, fields: Sequence[Any]) -> bytes:
    """All values of a row in a form that is the same for every kind of database."""
    return json.dumps([_plain(getattr(row, f.attname)) for f in fields], sort_keys=True).encode() + b"\n"


def _plain(value: Any) -> Any:
    if isinstance(value, bytes | memoryview | bytearray):
        return hashlib.sha256(bytes(value)).hexdigest()
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat()
    if isinstance(value, str | int | float | bool | list | dict) or value is None:
        return canonical(value)
    return str(value)


def number_on(models: Sequence[type[Model]], using: str) -> None:
    """Let numbering go on behind the rows that were copied."""
    other = connections[using]
    with other.cursor() as cursor:
        for statement in other.ops.sequence_reset_sql(no_style(), list(models)):
            cursor.execute(statement)
