"""What changes the state of print modes, pins, rules and people; every change says who and why."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.people import named, site_of
from greyanchor.accounts.roles import MAKE, RELEASE, USE, may, needs
from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    Edition,
    Pin,
    PrintMode,
)
from greyanchor.library.records.editing import Outdated, set_history_author
from greyanchor.library.records.editions import keep_edition

State = PrintMode.State


def locked_mode(pk: int, based_on: int) -> PrintMode:
    """A mode that nobody changed since `based_on`; raises `Outdated` naming who did."""
    mode = (
        PrintMode.objects.select_for_update(of=("self",))
        .select_related("printer", "media__media_class", "preset")
        .get(pk=pk)
    )
    if mode.version != based_on:
        last = mode.history.select_related("history_user").first()
        raise Outdated(
            f"{mode.name} was changed by {named(last.history_user if last else None)}; look at it again"
        )
    return mode


def _move(mode: PrintMode, state: str, user: User, why: str) -> PrintMode:
    mode.state = state
    mode.version += 1
    set_history_author(mode, user, why).save()
    return mode


@needs(MAKE)
@transaction.atomic
def hand_in(pk: int, based_on: int, user: User, why: str) -> PrintMode:
    """Ask a lead to release a draft."""
    mode = locked_mode(pk, based_on)
    if mode.state != State.BUILDING:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a draft is handed in")
    if not mode.is_whole:
        raise BadInput(f"{mode.name} has {mode.lacks} yet, so there is nothing to review")
    return _move(mode, State.READY, user, f"handed in: {why}")


@needs(RELEASE)
@transaction.atomic
def send_back(pk: int, based_on: int, user: User, why: str) -> PrintMode:
    """Send a mode in review back to its maker; the reason is what they read."""
    mode = locked_mode(pk, based_on)
    if mode.state != State.READY:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a mode in review is sent back")
    if not why:
        raise BadInput("say what is to be done before it can be released")
    return _move(mode, State.BUILDING, user, f"sent back: {why}")


@needs(RELEASE)
@transaction.atomic
def release_mode(
    pk: int,
    user: User,
    note: str,
    evidence: list[dict[str, Any]] | None = None,
    exception: str = "",
    readings: list[dict[str, str]] | None = None,
) -> PrintMode:
    """Put a mode into the library for every operator, and keep it as an edition.

    `evidence` are the rules it was held to, each with "ok"; where one is not, `exception` says why it is
    released anyway, or `BadInput` names what is missing.
    """
    mode = (
        PrintMode.objects.select_for_update(of=("self",))
        .select_related("printer", "media__media_class", "preset")
        .get(pk=pk)
    )
    if not mode.is_whole:
        raise BadInput(f"{mode.name} has {mode.lacks} yet, so it cannot be released")
    if mode.state == State.RETIRED:
        raise BadInput(f"{mode.name} is retired; bring it back first")
    most = Edition._meta.get_field("exception").max_length or 0
    if len(exception) > most:
        raise BadInput(
            f"the reason for an exception has at most {most} letters, this one has {len(exception)}"
        )
    missing = [e["text"] for e in evidence or [] if not e["ok"]]
    if missing and not exception:
        raise BadInput(
            "missing for a release: "
            + "; ".join(missing)
            + ". Correct it, or say why it is released with an exception"
        )
    mode.state = State.RELEASED
    mode.released_at, mode.released_by, mode.note = timezone.now(), user, note
    if readings is not None:
        mode.readings = readings
    mode.version += 1
    set_history_author(
        mode, user, f"released: {note}" + (f" (exception: {exception})" if missing else "")
    ).save()
    keep_edition(mode, evidence or [], user, exception if missing else "")
    return mode


@needs(RELEASE)
@transaction.atomic
def retire_mode(pk: int, based_on: int, user: User, why: str) -> PrintMode:
    """Take a released mode out of use, or put a draft away that nobody wants; it stays readable."""
    mode = locked_mode(pk, based_on)
    if mode.state == State.RETIRED:
        raise BadInput(f"{mode.name} is retired already")
    return _move(mode, State.RETIRED, user, f"retired: {why}")


@needs(RELEASE)
@transaction.atomic
def bring_back(pk: int, based_on: int, user: User, why: str) -> PrintMode:
    """Put a retired mode in review again, or among the drafts where it was never finished; a release asks for
    its evidence again.
    """
    mode = locked_mode(pk, based_on)
    if mode.state != State.RETIRED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a retired mode is brought back")
    return _move(mode, State.READY if mode.is_whole else State.BUILDING, user, f"brought back: {why}")


@needs(USE)
@transaction.atomic
def set_pin(mode: PrintMode, user: User, for_site: bool, pinned: bool) -> None:
    """Keep a mode within a person's reach, or within that of the person's whole site; or no longer."""
    if for_site:
        site = site_of(user)
        if site is None:
            raise BadInput("you have no site yet; a lead sets it under People")
        if not may(user, MAKE):
            raise BadInput("pins of a whole site are set by technicians and leads")
        found = Pin.objects.filter(mode=mode, site=site)
        made = Pin(mode=mode, site=site)
    else:
        found, made = Pin.objects.filter(mode=mode, user=user), Pin(mode=mode, user=user)
    if pinned and not found.exists():
        made.save()
    if not pinned:
        found.delete()
