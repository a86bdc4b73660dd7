"""Changing what several people keep: nothing is lost silently, and every version can be had again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import User
from django.contrib.contenttypes.models import ContentType
from django.core.exceptions import ValidationError
from django.db import IntegrityError, models, transaction

from greyanchor.accounts.audit_log import note as note_change
from greyanchor.accounts.audit_log import noted
from greyanchor.accounts.people import named
from greyanchor.accounts.roles import MAKE, RELEASE, NotAllowed, may, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.packs.archive import sha256_of
from greyanchor.core.printing.handling import abilities_of, checked
from greyanchor.core.printing.throughput import Carriage
from greyanchor.core.search.merging import Merge, changes, merge
from greyanchor.library.models import Attachment, MediaClass, MediaPreset, Printer, PrintMode
from greyanchor.library.records.editions import keep_edition
from greyanchor.library.records.record_types import Kind, record_type_of

#: most bytes of a file beside a record, and most of them
MOST_BYTES, MOST_FILES = 12 * 2**20, 40
#: most letters of a reason, with the few words the program puts before it
MOST_REASON = 1000
#: how a file of each kind begins; what is not here is kept as plain data and never shown in a page
_IN_USE = (PrintMode.State.RELEASED, PrintMode.State.RETIRED)
_SIGNS = ((b"%PDF-", "application/pdf"), (b"\x89PNG\r\n", "image/png"), (b"\xff\xd8\xff", "image/jpeg"))


class Outdated(BadInput):
    """Somebody else changed the record since the page was opened."""


class EditConflict(Outdated):
    """The same, with what can be put together field by field."""

    def __init__(self, record: Any, found: Merge, who: str) -> None:
        self.record, self.merge, self.who = record, found, who
        super().__init__(
            f"{who} changed {record} while you were editing. Nothing of yours was saved yet, and nothing "
            "is lost: "
            "both versions stand below"
        )


def set_history_author(record: Any, user: User | None, why: str) -> Any:
    """`record` with the name and the reason that its history will carry, whole; `BadInput` for one that is a
    book.
    """
    if len(why) > MOST_REASON:
        raise BadInput(
            f"a reason has at most {MOST_REASON} letters, this one has {len(why)}; put the rest into "
            "the notes"
        )
    record._history_user, record._change_reason = user, why
    return record


@needs(MAKE)
@transaction.atomic
def edit(kind: Kind, pk: int, based_on: int, values: Mapping[str, Any], user: User, why: str) -> Any:
    """Set flat `values` (all of those a form shows) on a record that was at version `based_on`.

    Fields that `values` does not name stay. Raises `EditConflict` with a merge where somebody else saved in
    between, and `BadInput` for values that make no sense. Nothing to change is no new version.
    """
    record: Any = kind.model._default_manager.select_for_update(of=("self",)).get(pk=pk)
    _may_touch(record, user)
    now = kind.flat(record)
    shown = {f: v for f, v in values.items() if v not in (None, "")}
    hidden = {f: v for f, v in now.items() if f not in values}
    wanted = {**hidden, **shown}
    if record.version != based_on:
        base = _version(record, based_on)
        mine = {**{f: v for f, v in base.items() if f not in values}, **shown}
        who = record.history.select_related("history_user").first()
        raise EditConflict(record, merge(base, now, mine), named(who.history_user if who else None))
    if wanted == now:
        return record
    kind.put(record, wanted)
    _save(record, user, why)
    return record


def _may_touch(record: Any, user: User | None) -> None:
    """What operators print with is changed by leads alone."""
    if isinstance(record, PrintMode) and record.state in _IN_USE and not may(user, RELEASE):
        raise NotAllowed(user, RELEASE)


def _version(record: Any, version: int) -> dict[str, Any]:
    past = record.history.filter(version=version).first()
    if past is None:
        raise Outdated(
            f"version {version} of {record} is not in its history; load the page again, then change it"
        )
    return record_type_of(record).flat(past)


def write(record: Any, user: User | None, why: str) -> Any:
    """Test a record and save it with its links as one entry of its history; whoever calls has counted its
    version.
    """
    test(record)
    set_history_author(record, user, why)
    links = record.__dict__.pop("wanted_links", {})
    try:
        with transaction.atomic():
            if links:
                record.save_without_historical_record()
                record.skip_history_when_saving = True
                for name, pks in links.items():
                    getattr(record, name).set(pks)
                del record.skip_history_when_saving
            record.save()
    except IntegrityError:
        raise BadInput(f"there is already one called {record}; choose another name") from None
    return record


def _save(record: Any, user: User | None, why: str) -> None:
    record.version += 1
    write(record, user, why)
    if isinstance(record, PrintMode) and record.state == PrintMode.State.RELEASED:
        keep_edition(record, [{"rule": "change", "ok": True, "text": why}], user)


def test(record: Any) -> None:
    """Raise `BadInput` when a record holds what makes no sense."""
    try:
        record.clean_fields(exclude=_not_checked(record))
        record.validate_unique()
    except ValidationError as error:
        items = [f"{f.replace('_', ' ')}: {' '.join(m)}".rstrip(".") for f, m in error.message_dict.items()]
        raise BadInput("; ".join(items)) from None
    if isinstance(record, Printer):
        abilities_of(record.abilities)
        if record.carriage:
            try:
                Carriage(width=float(record.width_mm), **{k: float(v) for k, v in record.carriage.items()})
            except TypeError:
                raise BadInput("a carriage has a swath, a fastest speed and a firing rate") from None
        if not record.resolutions or not record.passes:
            raise BadInput("a printer has at least one resolution and one number of passes")
        _inks_stay(record)
    if isinstance(record, MediaClass):
        checked(record.handling)
    if isinstance(record, MediaPreset):
        machines = list(Printer.objects.filter(model=record.printer_model))
        if not machines:
            raise BadInput(f"there is no printer of the model {record.printer_model}")
        for machine in machines:
            checked(record.handling, machine.ability_map)
    if isinstance(record, PrintMode):
        checked(record.handling, record.printer.ability_map)


def _inks_stay(printer: Printer) -> None:
    """Refuse to take inks from a printer whose modes print with them."""
    wanted = getattr(printer, "wanted_links", {}).get("ink_sets")
    if wanted is None or printer.pk is None:
        return
    for gone in printer.ink_sets.exclude(pk__in=wanted):
        if printer.modes.filter(ink_set=gone).exclude(state=PrintMode.State.RETIRED).exists():
            raise BadInput(
                f"{printer.name} has print modes with {gone.name}; retire them before it runs other inks"
            )


def _not_checked(record: Any) -> set[str]:
    """JSON fields of modes are made by builds, and empty ones are right."""
    if not isinstance(record, PrintMode):
        return {"light", "facts", "driver"}
    return {f.name for f in record._meta.fields if f.name not in ("name", "note")}


@needs(MAKE)
@transaction.atomic
def create(record: Any, user: User, why: str) -> Any:
    """Keep a new record."""
    return write(record, user, why)


def blocking_references(record: models.Model) -> list[str]:
    """What is based on a record, in words: "2 print modes", "1 file"; nothing where it can go."""
    found = []
    for relation in record._meta.related_objects:
        count = relation.related_model._base_manager.filter(**{relation.field.name: record}).count()
        if count:
            names = relation.related_model._meta
            found.append(f"{count} {names.verbose_name if count == 1 else names.verbose_name_plural}")
    files = files_of(record).count()
    return [*found, *([f"{files} file{'s' if files > 1 else ''}"] if files else [])]


@needs(MAKE)
@transaction.atomic
def remove(kind: Kind, pk: int, based_on: int, user: User, why: str) -> str:
    """Take a record out of the library that nothing is based on, and say its name; its history stays in the
    database.

    Print modes are retired instead, so that what was printed with them can be reported.
    """
    if kind.model is PrintMode:
        raise BadInput("a print mode is retired, not removed")
    record: Any = kind.model._default_manager.select_for_update(of=("self",)).get(pk=pk)
    if record.version != based_on:
        raise Outdated(f"{record} was changed by somebody else; look at it again")
    if holding := blocking_references(record):
        raise BadInput(f"{record} is used by {', '.join(holding)}, so it stays")
    if not why:
        raise BadInput(f"say why {record} is removed")
    set_history_author(record, user, f"removed: {why}").delete()
    return str(record)


@dataclass(frozen=True)
class Entry:
    """One version in a history: who, when, why, and what it changed: (label, before, after)."""

    pk: int
    version: int
    at: Any
    who: str
    why: str
    what: list[tuple[str, str, str]]


def history(record: Any, most: int = 50) -> list[Entry]:
    """Versions of a record, the newest first, each with what it changed."""
    kind = record_type_of(record)
    rows = list(record.history.select_related("history_user")[: most + 1])
    flats = [kind.flat(r) for r in rows]
    out = []
    for i, row in enumerate(rows[:most]):
        before = flats[i + 1] if i + 1 < len(rows) else {}
        what = [
            (kind.label(f), kind.format_value(f, a), kind.format_value(f, b))
            for f, a, b in changes(before, flats[i])
        ]
        first = i + 1 == len(rows)
        out.append(
            Entry(
                row.history_id,
                row.version,
                row.history_date,
                named(row.history_user) if row.history_user else "",
                row.history_change_reason or ("made" if first else "changed"),
                [] if first else what,
            )
        )
    return out


def side_by_side(record: Any, first: int, second: int) -> list[tuple[str, str, str, bool]]:
    """Two entries of a history field by field: (label, one, other, whether they differ)."""
    kind = record_type_of(record)
    flats = []
    for pk in (first, second):
        found = record.history.filter(history_id=pk).first()
        if found is None:
            raise BadInput("that version is not in the history of this record")
        flats.append(kind.flat(found))
    one, other = flats
    return [
        (
            kind.label(f),
            kind.format_value(f, one.get(f)),
            kind.format_value(f, other.get(f)),
            one.get(f) != other.get(f),
        )
        for f in dict.fromkeys([*one, *other])
        if f not in ("environment_hash",)
    ]


@needs(MAKE)
@transaction.atomic
def go_back(kind: Kind, pk: int, entry: int, based_on: int, user: User, why: str) -> Any:
    """Give a record the values of an older entry of its history, as a new version; a mode in use takes a
    lead.
    """
    record: Any = kind.model._default_manager.select_for_update(of=("self",)).get(pk=pk)
    _may_touch(record, user)
    if record.version != based_on:
        raise Outdated(f"{record} was changed by somebody else; look at its history again")
    past = record.history.filter(history_id=entry).first()
    if past is None:
        raise BadInput("that version is not in the history of this record")
    values = kind.flat(past)
    for field, value in list(values.items()):
        if "." in field:
            continue
        found = kind.model._meta.get_field(field)
        if field in kind.links:
            there: Any = found.related_model
            if there._default_manager.filter(pk__in=value).count() < len(value):
                raise BadInput(
                    f"that version has {kind.label(field).lower()} that are gone; it cannot be restored"
                )
        if (
            isinstance(found, models.ForeignKey)
            and not found.related_model._default_manager.filter(pk=value).exists()
        ):  # type: ignore[union-attr]
            raise BadInput(
                f"that version is based on a {found.verbose_name} that is gone; it cannot be restored"
            )
    kind.put(record, values)
    _save(record, user, f"back to version {past.version}: {why}")
    return record


# --- files beside records --------------------------------------------------------------------


def files_of(record: models.Model) -> Any:
    """Files beside a record, without their bytes."""
    owner = ContentType.objects.get_for_model(type(record))
    return (
        Attachment.objects.filter(content_type=owner, object_id=record.pk)
        .select_related("added_by")
        .defer("data")
    )


@needs(MAKE)
@transaction.atomic
def attach(record: models.Model, name: str, data: bytes, note: str, user: User | None) -> Attachment:
    """Keep a file beside a record; `BadInput` for empty ones, large ones, and too many."""
    if not data:
        raise BadInput("the file is empty", name)
    if len(data) > MOST_BYTES:
        raise BadInput(f"the file has {len(data) / 2**20:.1f} MB; {MOST_BYTES // 2**20} MB are taken", name)
    if files_of(record).count() >= MOST_FILES:
        raise BadInput(f"{record} has {MOST_FILES} files already; take one away first")
    plain = name.replace("\\", "/").rpartition("/")[2].strip() or "file"
    kind = next((k for sign, k in _SIGNS if data.startswith(sign)), "application/octet-stream")
    note_change(record, "File", "", plain[:160], user)
    return Attachment.objects.create(
        owner=record,
        name=plain[:160],
        kind=kind,
        note=note[:200],
        sha256=sha256_of(data),
        size=len(data),
        data=data,
        added_by=user,
    )


@needs(MAKE)
@transaction.atomic
def detach(pk: int, user: User) -> Attachment:
    """Take a file away from its record."""
    found = Attachment.objects.get(pk=pk)
    note_change(found.owner, "File", found.name, "", user)
    Attachment.objects.filter(pk=pk).delete()
    return found


@needs(MAKE)
@transaction.atomic
def set_notes(record: Any, notes: str, based_on: str, user: User) -> None:
    """Notes on what is kept by its content: curves and limits, whose own values never change.

    `based_on` are the notes (`digest_of` them) that were read before; raises `Outdated` when they are others
    now.
    """
    if len(notes) > 10000:
        raise BadInput(f"notes have {len(notes)} letters; 10000 are kept")
    found = type(record)._default_manager.select_for_update().get(pk=record.pk)
    if digest_of(found.notes) != based_on and found.notes != notes:
        last = noted(found).filter(what="Notes").first()
        raise Outdated(f"{named(last.who if last else None)} saved other notes on {found} meanwhile")
    note_change(found, "Notes", found.notes, notes, user)
    found.notes = notes
    found.save(update_fields=["notes"])


def digest_of(notes: str) -> str:
    """What says notes from other notes."""
    return sha256_of(notes.encode())[:16]
