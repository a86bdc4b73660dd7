"""A machine's media unrolled: what was printed, what prints, what comes, each where it lies."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from django.urls import reverse
from django.utils import timezone

from greyanchor.core.errors import BadInput
from greyanchor.devices.ports import MachineState
from greyanchor.library.models import Printer
from greyanchor.printroom import prints
from greyanchor.printroom.models import Print, PrintFile
from greyanchor.printroom.outcomes import minutes_of

#: mm of bare media between two prints
GAP = 10.0
#: what is shown: so many times the width of the media, this share of it behind the heads
_SHOWN, _BEHIND = 6.2, 0.3
_MOST_BEHIND, _MOST_AHEAD, _MOST_HELD = 24, 40, 24


@dataclass(frozen=True)
class Piece:
    """A print on the roll.

    Attributes
    ----------
    print
        Which.
    x, width, height
        mm along the media from the heads (left of them below 0), along it, across it.
    done_at
        When it will be printed; None where that is not known.
    y
        mm from the right edge of the media, which is drawn above: prints begin at its left edge.
    """

    print: Print
    x: float
    width: float
    height: float
    done_at: datetime | None = None
    y: float = 0.0

    @property
    def address(self) -> str:
        """Of its picture: as it lies on the table, or as its artwork asks for it."""
        if self.print.picture:
            return reverse("print-seen", args=[self.print.pk])
        return reverse("print-file-picture", args=[self.print.print_file_id, "art"])

    @property
    def metres(self) -> float:
        """Along the media."""
        return self.width / 1000.0


@dataclass(frozen=True)
class InTheMaking:
    """A print file for this machine that is being prepared, and the seconds that are left of it."""

    file: PrintFile
    seconds_left: float | None


@dataclass(frozen=True)
class Roll:
    """A machine, and what lies on its media.

    Attributes
    ----------
    machine
        What it says of itself; None where it is not reached, and `trouble` says why.
    pieces
        Those on the media.
    shelf
        Those that are held, with what is wrong with each on what is in the machine now.
    width_mm
        Of the media.
    preparing
        What is being prepared for it.
    waiting
        How many wait in all; more than are drawn.
    """

    machine: MachineState | None
    trouble: str
    pieces: list[Piece] = field(default_factory=list)
    shelf: list[tuple[Print, list[str]]] = field(default_factory=list)
    width_mm: float = 1000.0
    preparing: list[InTheMaking] = field(default_factory=list)
    waiting: int = 0

    @property
    def start(self) -> float:
        """mm at which the drawing begins, behind the heads."""
        return -_BEHIND * _SHOWN * self.width_mm

    @property
    def end(self) -> float:
        """mm at which it ends."""
        return (1.0 - _BEHIND) * _SHOWN * self.width_mm

    @property
    def coming(self) -> list[Piece]:
        """Those that are not over."""
        return [p for p in self.pieces if not p.print.is_over]

    @property
    def media_ends(self) -> float | None:
        """mm from the heads at which the media ends; None where that is out of sight or not known."""
        left = self.machine.length_mm if self.machine else None
        return left if left is not None and left <= self.end else None


def roll_of(printer: Printer) -> Roll:
    """What lies on the media of a printer now."""
    try:
        machine: MachineState | None = prints.machine_seen(printer)
        trouble = ""
    except BadInput as error:
        machine, trouble = None, error.reason
    known = Print.objects.filter(printer=printer).select_related(
        "print_file__job", "print_file__run", "print_file__mode__printer"
    )
    ready = known.filter(state=Print.State.READY).order_by("place")[:_MOST_AHEAD]
    coming = [*known.filter(state__in=Print.AT_PRINTER).order_by("place"), *ready]
    coming.sort(key=lambda p: (p.state == Print.State.READY, p.number or 0, p.place))
    pieces, now = [], timezone.now()
    at, when = 0.0, now
    for record in coming:
        wide, long = prints.size_mm(record)
        share = record.share if record.state in (Print.State.PRINTING, Print.State.STOPPED) else 0.0
        if share:
            at = -share * long
        seconds = _seconds(record, wide, long)
        if seconds is not None:
            when += timedelta(seconds=seconds)
        pieces.append(Piece(record, at, long, wide, when if seconds is not None else None))
        at += long + GAP
    width = machine.width_mm if machine and machine.width_mm else float(printer.width_mm)
    start = min([p.x for p in pieces] or [0.0]) - GAP
    behind = known.filter(ended_at__isnull=False, media_mm__gt=0.0)
    for record in behind.order_by("-ended_at")[:_MOST_BEHIND]:
        wide, _ = prints.size_mm(record)
        start -= record.media_mm
        pieces.insert(0, Piece(record, start, record.media_mm, wide, record.ended_at))
        start -= GAP
        if start < -_BEHIND * _SHOWN * width:
            break
    held = known.filter(state=Print.State.HELD).order_by("place")[:_MOST_HELD]
    shelf = [(h, prints.what_is_wrong(h, machine) if machine else []) for h in held]
    laid = [replace(p, y=max(width - p.height, 0.0)) for p in pieces]
    waiting = known.filter(state__in=[Print.State.READY, Print.State.HELD]).count()
    return Roll(machine, trouble, laid, shelf, width, _in_the_making(printer, now), waiting)


def _in_the_making(printer: Printer, now: datetime) -> list[InTheMaking]:
    active = PrintFile.objects.filter(
        mode__printer=printer, state__in=[PrintFile.State.QUEUED, PrintFile.State.RUNNING]
    )
    found = []
    for record in active.select_related("job", "run").defer("facts", "choices", "ticket")[:_MOST_AHEAD]:
        left = None
        if record.state == PrintFile.State.RUNNING and record.progress > 0.02:
            gone = (now - record.created_at).total_seconds()
            left = gone * (1.0 - record.progress) / record.progress
        found.append(InTheMaking(record, left))
    return found


def _seconds(record: Print, wide: float, long: float) -> float | None:
    """Until a print is printed: as its machine says, else as its mode prints."""
    if record.seconds_left is not None and record.state in (Print.State.PRINTING, Print.State.STOPPED):
        return record.seconds_left
    mode = record.print_file.mode
    minutes = minutes_of(mode, wide, long) if mode is not None else None
    return None if minutes is None else 60.0 * minutes
