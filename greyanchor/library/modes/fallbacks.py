"""The modes that a media class lends to media that have none of their own."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.core.errors import BadInput
from greyanchor.library.models import ClassFallback, MediaClass, Printer, PrintMode


@needs(RELEASE)
@transaction.atomic
def set_fallback(
    media_class: MediaClass, printer: Printer, mode: PrintMode | None, user: User | None = None
) -> None:
    """Name the mode that a media class lends on a printer, or none."""
    lent = (
        ClassFallback.objects.filter(media_class=media_class, printer=printer).select_related("mode").first()
    )
    before = lent.mode.name if lent else ""
    if mode is None:
        ClassFallback.objects.filter(media_class=media_class, printer=printer).delete()
        note(media_class, f"Lent on {printer.name}", before, "", user)
        return
    if mode.printer_id != printer.pk:
        raise BadInput(f"{mode.name} is a mode of another printer than {printer.name}")
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a released mode is lent")
    ClassFallback.objects.update_or_create(media_class=media_class, printer=printer, defaults={"mode": mode})
    note(media_class, f"Lent on {printer.name}", before, mode.name, user)


def class_fallbacks() -> dict[str, Any]:
    """Media classes by printers, with the modes that can be lent and the one that is."""
    printers = [
        p
        for p in Printer.objects.prefetch_related("ink_sets")
        if any(i.can_be_built for i in p.ink_sets.all())
    ]
    chosen = {(f.media_class_id, f.printer_id): f.mode_id for f in ClassFallback.objects.all()}
    modes = list(PrintMode.objects.filter(state=PrintMode.State.RELEASED).only("pk", "name", "printer"))
    rows = [
        {
            "pk": group.pk,
            "name": group.name,
            "cells": [
                {
                    "printer": p,
                    "choices": [m for m in modes if m.printer_id == p.pk],
                    "chosen": chosen.get((group.pk, p.pk)),
                }
                for p in printers
            ],
        }
        for group in MediaClass.objects.all()
    ]
    return {"printers": printers, "rows": rows}
