"""Two people changed one record: what can be put together, field by field, and what a person must decide."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Clash:
    """A field that both changed, to different values."""

    field: str
    base: Any
    theirs: Any
    mine: Any


@dataclass(frozen=True)
class Merge:
    """`values` holds every field without a clash; `theirs` and `mine` name what each alone changed."""

    values: dict[str, Any]
    theirs: tuple[str, ...]
    mine: tuple[str, ...]
    clashes: tuple[Clash, ...]


def merge(base: Mapping[str, Any], theirs: Mapping[str, Any], mine: Mapping[str, Any]) -> Merge:
    """Three-way merge of flat records; a field missing on one side was taken away there (it counts as None).

    A change of one side alone stands; the same change of both stands; different changes clash.
    """
    values: dict[str, Any] = {}
    by_them, by_me, clashes = [], [], []
    for field in dict.fromkeys([*base, *theirs, *mine]):
        was, they, me = base.get(field), theirs.get(field), mine.get(field)
        if they != was and me != was and they != me:
            clashes.append(Clash(field, was, they, me))
            continue
        if they != was:
            by_them.append(field)
        if me != was:
            by_me.append(field)
        value = me if they == was else they
        if value is not None:
            values[field] = value
    return Merge(values, tuple(by_them), tuple(by_me), tuple(clashes))


def changes(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[tuple[str, Any, Any]]:
    """Fields that differ between two records: (field, before, after), in the order of `after`."""
    return [
        (f, before.get(f), after.get(f))
        for f in dict.fromkeys([*after, *before])
        if before.get(f) != after.get(f)
    ]
