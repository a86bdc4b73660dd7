"""Readings as evidence: what rests on them, leaving passes out, and withdrawing what was decided upon."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts import audit_log
from greyanchor.accounts.roles import MAKE, RELEASE, USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.measuring.models import (
    ReadingPass,
    SheetPrint,
    evidence_uses,
    evidence_withdrawn,
    readings_suspect,
)
from greyanchor.measuring.suspicions import announce


def uses_of(job: SheetPrint) -> list[str]:
    """Names of what was decided on the readings of a print; while there is any, they cannot be changed."""
    return [name for _, names in evidence_uses.send(SheetPrint, sheet_print=job.pk) for name in names]


def check_open(job: SheetPrint) -> None:
    """Refuse a change to readings that something rests on; the message names it."""
    uses = uses_of(job)
    if uses:
        raise BadInput(
            f"these readings are the evidence of {', '.join(uses[:4])}, so they cannot be changed; a lead "
            "can withdraw a pass with a reason"
        )


@needs(USE)
def reopen_rows(pk: int, rows: list[int], user: User | None = None) -> ReadingPass:
    """Take some rows out of a complete pass so that they are read again; the others stay."""
    with transaction.atomic():
        current = _locked(pk)
        check_open(current.sheet_print)
        present = set(current.rows.values_list("row", flat=True))
        if not present:
            raise BadInput("this pass came as a file; upload it again instead")
        if not rows or not set(rows) <= present:
            raise BadInput(f"rows {', '.join(map(str, rows)) or '(none)'} are not in this pass")
        if current.sheet_print.passes.filter(state=ReadingPass.State.OPEN).exclude(pk=pk).exists():
            raise BadInput("another pass over this sheet is open; finish it first")
        current.rows.filter(row__in=rows).delete()
        named = ", ".join(map(str, rows))
        audit_log.note(
            current.sheet_print, f"pass {current.number}", "complete", f"rows {named} read again", user
        )
        current.state, current.finished_at, current.text = ReadingPass.State.OPEN, None, ""
        current.content_hash = ""
        dropped = {f"refused {row}" for row in rows}
        current.attempts = {k: v for k, v in current.attempts.items() if k not in dropped}
        current.marks = {k: v for k, v in current.marks.items() if int(k) not in rows}
        current.save()
    return current


@needs(MAKE)
def leave_out(pk: int, user: User | None = None) -> SheetPrint:
    """Set a pass aside: it takes no part in averages any more, and stays in the list. The last one stays."""
    with transaction.atomic():
        current = _locked(pk)
        job = current.sheet_print
        check_open(job)
        if job.passes.filter(state=ReadingPass.State.DONE).exclude(pk=pk).count() < 1:
            raise BadInput("this is the only complete pass; read another before you leave it out")
        _put_aside(current, "left out", "", user)
        other = job.passes.filter(state=ReadingPass.State.DONE).first()
        assert other is not None
    announce(other)
    return job


@needs(RELEASE)
def withdraw(pk: int, reason: str, user: User) -> list[str]:
    """Withdraw a pass that something was decided on; gives the names of what that voids.

    What rested on it is void and stays in its history; the pass stays in the list with the reason. Raises
    `BadInput` without a reason.
    """
    if not reason.strip():
        raise BadInput("say why this pass is withdrawn: results computed from it are invalidated")
    with transaction.atomic():
        current = _locked(pk)
        job = current.sheet_print
        uses = uses_of(job)
        _put_aside(current, "withdrawn", reason.strip()[:300], user, uses)
        evidence_withdrawn.send(SheetPrint, sheet_print=job.pk, reason=reason.strip()[:300], user=user)
        other = job.passes.filter(state=ReadingPass.State.DONE).first()
    if other is not None:
        announce(other)
    else:
        readings_suspect.send(ReadingPass, reading_pass=current)
    return uses


def _locked(pk: int) -> ReadingPass:
    found = ReadingPass.objects.select_for_update(of=("self",)).select_related("sheet_print").get(pk=pk)
    if found.state == ReadingPass.State.ASIDE:
        raise BadInput("this pass is left out already")
    return found


def _put_aside(
    current: ReadingPass, how: str, reason: str, user: User | None, uses: list[str] | None = None
) -> None:
    who = (user.get_full_name() or user.get_username()) if user is not None else ""
    at = timezone.now().isoformat(timespec="minutes")
    current.put_aside = {"how": how, "reason": reason, "by": who, "at": at, "voids": uses or []}
    current.state, current.content_hash = ReadingPass.State.ASIDE, ""
    current.save(update_fields=["state", "put_aside", "content_hash"])
    voids = f"; voids {', '.join(uses)}" if uses else ""
    after = f"{how}{': ' + reason if reason else ''}{voids}"
    audit_log.note(current.sheet_print, f"pass {current.number}", "complete", after, user)
