"""Who did what: changes of every kind, and who signed in, in one list, the newest first."""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from itertools import islice
from typing import Any

from axes.models import AccessAttempt, AccessLog
from django.contrib.auth.models import User
from django.db.models import Q, QuerySet
from simple_history.models import registered_models

from greyanchor.accounts.models import AuditEntry
from greyanchor.accounts.people import named

KINDS = {"changes": "changes", "records": "versions of records", "sign-ins": "sign-ins"}
_DID = {"+": "made", "~": "changed", "-": "removed"}
#: rows that are fetched at once
_PIECE = 200


@dataclass(frozen=True)
class Asked:
    """What is looked for: each empty one asks for everything; `until` is not included."""

    who: int | None = None
    kind: str = ""
    words: str = ""
    since: datetime | None = None
    until: datetime | None = None


@dataclass(frozen=True)
class Entry:
    """One thing that was done."""

    at: datetime
    who: str
    kind: str
    what: str
    before: str = ""
    after: str = ""


def entries(asked: Asked, skip: int = 0, most: int | None = None) -> list[Entry]:
    """What was done, the newest first."""
    found = heapq.merge(*_sources(asked), key=lambda e: e.at, reverse=True)
    stop = None if most is None else skip + most
    return list(islice(found, skip, stop))


def _sources(asked: Asked) -> Iterator[Iterator[Entry]]:
    if asked.kind in ("", "changes"):
        yield _changes(asked)
    if asked.kind in ("", "records"):
        for model in registered_models.values():
            if hasattr(model, "history"):
                yield _versions(model, asked)
    if asked.kind in ("", "sign-ins"):
        yield _signed_in(asked)
        yield _refused(asked)


def _within(rows: QuerySet[Any], asked: Asked, at: str) -> QuerySet[Any]:
    if asked.since:
        rows = rows.filter(**{f"{at}__gte": asked.since})
    if asked.until:
        rows = rows.filter(**{f"{at}__lt": asked.until})
    return rows.order_by(f"-{at}", "-pk")


def _changes(asked: Asked) -> Iterator[Entry]:
    rows = _within(AuditEntry.objects.select_related("who"), asked, "at")
    if asked.who:
        rows = rows.filter(who=asked.who)
    for word in asked.words.split():
        rows = rows.filter(Q(what__icontains=word) | Q(before__icontains=word) | Q(after__icontains=word))
    for e in rows.iterator(_PIECE):
        yield Entry(e.at, named(e.who), "change", e.what, e.before, e.after)


def _versions(model: Any, asked: Asked) -> Iterator[Entry]:
    """Versions of a kind of record; only what says which record it was is read."""
    names = {f.name for f in model._meta.concrete_fields}
    title = next((n for n in ("name", "title") if n in names), "")
    rows = _within(model.history.select_related("history_user"), asked, "history_date")
    if asked.who:
        rows = rows.filter(history_user=asked.who)
    for word in asked.words.split():
        fits = Q(history_change_reason__icontains=word)
        rows = rows.filter(fits | Q(**{f"{title}__icontains": word}) if title else fits)
    shown = ["history_date", "history_type", "history_change_reason", "history_user", "id"]
    rows = rows.only(*shown, *([title] if title else []), "history_user__username",
                     "history_user__first_name", "history_user__last_name")  # fmt: skip
    kind = str(model._meta.verbose_name)
    for r in rows.iterator(_PIECE):
        record = getattr(r, title) if title else f"number {r.id}"
        did = _DID.get(r.history_type, "changed")
        yield Entry(
            r.history_date, named(r.history_user), "record", f"{kind} {record}: {did}", "",
            r.history_change_reason or "",
        )  # fmt: skip


def _people() -> dict[str, str]:
    """Names of people by what they sign in with."""
    return {u.username: named(u) for u in User.objects.only("username", "first_name", "last_name")}


def _name_of(asked: Asked) -> str:
    found = User.objects.filter(pk=asked.who).values_list("username", flat=True).first()
    return found or ""


def _signed_in(asked: Asked) -> Iterator[Entry]:
    rows, people = _within(AccessLog.objects.all(), asked, "attempt_time"), _people()
    if asked.who:
        rows = rows.filter(username=_name_of(asked))
    for word in asked.words.split():
        rows = rows.filter(Q(username__icontains=word) | Q(ip_address__icontains=word))
    for r in rows.iterator(_PIECE):
        who = people.get(r.username or "", r.username or "")
        yield Entry(r.attempt_time, who, "sign-in", "signed in", "", r.ip_address or "")


def _refused(asked: Asked) -> Iterator[Entry]:
    rows = _within(AccessAttempt.objects.all(), asked, "attempt_time")
    if asked.who:
        rows = rows.filter(username=_name_of(asked))
    for word in asked.words.split():
        rows = rows.filter(Q(username__icontains=word) | Q(ip_address__icontains=word))
    for r in rows.iterator(_PIECE):
        times = r.failures_since_start
        what = f"refused {times} time{'s' if times != 1 else ''}: wrong password"
        yield Entry(r.attempt_time, r.username or "", "sign-in", what, "", r.ip_address or "")
