"""Holding one handling setting in a record, handing it back, and the starting values of a class."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.families import starting_values
from greyanchor.core.printing.handling import setting_named
from greyanchor.library.models import MediaClass, MediaPreset, PrintMode
from greyanchor.library.records.editing import edit
from greyanchor.library.records.record_types import record_type_of


@needs(MAKE)
@transaction.atomic
def set_value(
    record: MediaPreset | PrintMode | MediaClass,
    key: str,
    value: float | None,
    user: User,
    why: str,
) -> Any:
    """Hold one value in a record, or hand it back to its source with None."""
    setting = setting_named(key)
    if value is None and key not in record.handling:
        raise BadInput(f"{setting.title} is not held by {record}, so there is nothing to hand back")
    return edit(record_type_of(record), record.pk, record.version, {f"handling.{key}": value}, user, why)


@needs(MAKE)
def start_class(group: MediaClass, user: User) -> MediaClass:
    """Give a class the starting values of its family, with their reasons, where it holds none yet."""
    if not group.family:
        raise BadInput(f"say first which family {group.name} belongs to")
    starts = {k: s for k, s in starting_values(group.family).items() if k not in group.handling}
    if not starts:
        raise BadInput(f"{group.name} holds a value for each of them already")
    values = {f"handling.{k}": s.value for k, s in starts.items()}
    values |= {f"reasons.{k}": s.reason for k, s in starts.items()}  # type: ignore[misc]
    return edit(
        record_type_of(group),
        group.pk,
        group.version,
        values,
        user,
        f"starting values of {group.get_family_display()}",
    )  # type: ignore[no-any-return]
