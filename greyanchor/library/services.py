"""What changes the library; every change says who and why, and refuses to overwrite a newer version."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.utils import timezone

from greyanchor.core.errors import BadInput
from greyanchor.library.models import ClassFallback, Media, MediaClass, Printer, PrintMode


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


@transaction.atomic
def set_fallback(media_class: MediaClass, printer: Printer, mode: PrintMode | None) -> None:
    """Name the mode that a media class lends on a printer, or none."""
    if mode is None:
        ClassFallback.objects.filter(media_class=media_class, printer=printer).delete()
        return
    if mode.printer_id != printer.pk:
        raise BadInput(f"{mode.name} is a mode of another printer than {printer.name}")
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a released mode is lent")
    ClassFallback.objects.update_or_create(media_class=media_class, printer=printer, defaults={"mode": mode})


def set_standin(printer: Printer, drift: dict[str, float], paper: list[float]) -> None:
    """How the stand-in behind a printer behaves from now on: ink volumes by channel (1.0 for none), and paper."""
    for channel, factor in drift.items():
        if channel not in "CMYK" or not 0.5 <= factor <= 1.5:
            raise BadInput(f"a drift of {channel} to {100 * factor:.0f} % is outside 50..150 %")
    if len(paper) != 3 or any(abs(v) > 10 for v in paper):
        raise BadInput("another paper is three differences of L*, a* and b*, each up to 10")
    printer.standin = {"drift": drift, "paper": paper}
    printer.save(update_fields=["standin"])
