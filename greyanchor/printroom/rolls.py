"""Rolls of media: which is in a machine, and what is left of each."""

from __future__ import annotations

from django.db import transaction
from django.utils import timezone

from greyanchor.devices.ports import MachineState
from greyanchor.library.models import Printer
from greyanchor.printroom.models import MediaRoll

#: mm by which what a machine says may rise before it is another roll, or a roll that was in it earlier
_SLACK = 60.0


@transaction.atomic
def roll_in(printer: Printer, machine: MachineState) -> MediaRoll | None:
    """The roll that is in a machine by what it says; None where it does not say what is left.

    Media of another name or width, or more of it than was left, is another roll: one that was in it earlier
    where it is as long as that was, else a new one.
    """
    left = machine.length_mm
    if not machine.media or left is None:
        return None
    here = MediaRoll.objects.select_for_update().filter(printer=printer)
    now = timezone.now()
    wide = machine.width_mm or 0.0
    current = here.filter(is_in=True).first()
    alike = here.filter(media=machine.media, width_mm=wide)
    same = current is not None and (current.media, current.width_mm) == (machine.media, wide)
    if current is not None and same and left <= current.left_mm + _SLACK:
        MediaRoll.objects.filter(pk=current.pk).update(left_mm=left, seen_at=now)
        return current
    here.filter(is_in=True).update(is_in=False)
    earlier = alike.filter(left_mm__range=(left - _SLACK, left + _SLACK), left_mm__gt=0.0).first()
    if earlier is not None:
        MediaRoll.objects.filter(pk=earlier.pk).update(is_in=True, left_mm=left, seen_at=now)
        earlier.is_in = True
        return earlier
    return MediaRoll.objects.create(
        printer=printer, media=machine.media, width_mm=wide, first_mm=left, left_mm=left, seen_at=now
    )
