"""What changes the library; every change says who and why, and refuses to overwrite a newer version."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.utils import timezone

from greyanchor.core.errors import BadInput
from greyanchor.library.models import Media, PrintMode


class Outdated(BadInput):
    """Somebody else changed the record since the page was opened."""


def signed(record: Any, user: AbstractBaseUser | None, why: str) -> Any:
    """`record` with the name and the reason that its history will carry."""
    record._history_user, record._change_reason = user, why[:100]
    return record


@transaction.atomic
def edit_media(pk: int, based_on: int, changes: dict[str, Any], user: AbstractBaseUser, why: str) -> Media:
    """Change a media; raises `Outdated` naming who changed it in between."""
    media = Media.objects.select_for_update().get(pk=pk)
    if media.version != based_on:
        last = media.history.first()
        by = last.history_user if last else None
        who = (by.get_full_name() or by.get_username()) if by else "somebody"
        raise Outdated(
            f"{who} changed {media.name} while you were editing. Nothing of yours was saved yet: "
            "compare with the newest entry of the history on this page, then save again"
        )
    for name, value in changes.items():
        setattr(media, name, value)
    media.version += 1
    signed(media, user, why).save()
    return media


@transaction.atomic
def release_mode(pk: int, user: AbstractBaseUser, note: str) -> PrintMode:
    """Put a mode into the library for every operator."""
    mode = PrintMode.objects.select_for_update().get(pk=pk)
    if mode.profile_id is None or not mode.curves:
        raise BadInput(f"{mode.name} has no profile or no curves yet, so it cannot be released")
    mode.state = PrintMode.State.RELEASED
    mode.released_at, mode.released_by, mode.note = timezone.now(), user, note
    mode.version += 1
    signed(mode, user, f"released: {note}").save()
    return mode


@transaction.atomic
def retire_mode(pk: int, based_on: int, user: AbstractBaseUser, why: str) -> PrintMode:
    """Take a released mode out of use; it stays readable."""
    mode = PrintMode.objects.select_for_update().get(pk=pk)
    if mode.version != based_on:
        raise Outdated(f"{mode.name} was changed by somebody else; look at it again before retiring it")
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}, so it cannot be retired")
    mode.state = PrintMode.State.RETIRED
    mode.version += 1
    signed(mode, user, f"retired: {why}").save()
    return mode
