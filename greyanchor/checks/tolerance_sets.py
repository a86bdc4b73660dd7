"""Tolerance sets by key: those that ship with the application, and the shop's own."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils.text import slugify

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.checks.models import Schedule, ToleranceRecord
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.shipped import AGAINST_ITSELF, SHIPPED
from greyanchor.core.verification.tolerances import ToleranceSet, from_dict, from_json
from greyanchor.library.records.editing import Outdated, set_history_author


def tolerance_set(key: str) -> ToleranceSet:
    """The set called `key`; `BadInput` when there is none."""
    if key in SHIPPED:
        return SHIPPED[key]
    record = ToleranceRecord.objects.filter(key=key).first()
    if record is None:
        raise BadInput(f"there is no tolerance set {key!r}")
    return record.tolerances


def tolerance_choices() -> list[tuple[str, str]]:
    """Sets that hold a print to an aim, for forms: shipped ones, then the shop's own."""
    shipped = [(t.id, t.title) for t in SHIPPED.values() if t.id not in AGAINST_ITSELF]
    return [*shipped, *ToleranceRecord.objects.values_list("key", "title")]


def free_key(title: str) -> str:
    """A key for a new set that no other has."""
    base = slugify(title)[:50] or "set"
    key, number = base, 2
    while key in SHIPPED or ToleranceRecord.objects.filter(key=key).exists():
        key, number = f"{base}-{number}", number + 1
    return key


@needs(MAKE)
@transaction.atomic
def add_set(made: ToleranceSet, based_on: str, user: User | None) -> ToleranceRecord:
    """Keep a set of the shop's own under a free key."""
    key = free_key(made.title)
    record = ToleranceRecord(
        key=key,
        title=made.title[:120],
        data={**made.as_dict(), "id": key},
        based_on=based_on[:120],
        created_by=user,
    )
    set_history_author(record, user, "made").save()
    return record


@needs(MAKE)
def copy_set(key: str, user: User | None) -> ToleranceRecord:
    """A copy of any set, to be changed."""
    original = tolerance_set(key)
    facts = {**original.as_dict(), "title": f"{original.title}, own copy", "edition": "1"}
    return add_set(from_dict(facts), f"{original.title} ({original.source})", user)


@needs(MAKE)
def import_set(text: str, file_name: str, user: User | None) -> ToleranceRecord:
    """A set from JSON; `BadInput` names what is wrong in it."""
    return add_set(from_json(text, file_name), f"file {file_name}", user)


@needs(MAKE)
@transaction.atomic
def change_set(pk: int, based_on: int, data: dict[str, Any], user: User, why: str) -> ToleranceRecord:
    """Write a changed set; refused when somebody else changed it since version `based_on`."""
    record = ToleranceRecord.objects.select_for_update().get(pk=pk)
    if record.version != based_on:
        raise Outdated(f"{record.title} was changed by somebody else; look at it again, then change it")
    made = from_dict({**data, "id": record.key})
    record.title, record.data = made.title[:120], made.as_dict()
    record.version += 1
    set_history_author(record, user, why).save()
    return record


@needs(MAKE)
@transaction.atomic
def remove_set(pk: int) -> str:
    """Remove a set that no schedule needs; checks made under it keep their copy."""
    record = ToleranceRecord.objects.get(pk=pk)
    used = Schedule.objects.filter(tolerances=record.key).select_related("mode").first()
    if used is not None:
        raise BadInput(f"{record.title} is scheduled for {used.mode.name}; change the schedule first")
    record.delete()
    return record.title


def all_keys() -> list[tuple[str, str]]:
    """Every set by key, shipped ones first."""
    own = ToleranceRecord.objects.values_list("key", "title")
    return [*((t.id, t.title) for t in SHIPPED.values()), *own]
