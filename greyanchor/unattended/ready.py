"""Whether a machine stands ready to print with nobody there."""

from __future__ import annotations

from dataclasses import dataclass

import structlog

from greyanchor.library.machines.connections import queue_of
from greyanchor.library.machines.readiness import dues_of
from greyanchor.library.models import Media, Printer

_log = structlog.get_logger(__name__)


@dataclass(frozen=True)
class Standing:
    """One thing that must be as it should before ink goes down: the rule it would stop by, what it is, how it
    stands in words, and whether that will do.
    """

    stop: str
    title: str
    words: str
    will_do: bool


def standings(printer: Printer, media: Media, needed: float | None = None) -> list[Standing]:
    """How a printer stands before it prints on `media`; `needed` metres of it, where that is known."""
    return [_media(printer, media), _readiness(printer), *_machine(printer, needed)]


def _media(printer: Printer, media: Media) -> Standing:
    if printer.loaded_media_id == media.pk:
        return Standing("media", "Media", f"{media.name} is in it", True)
    there = printer.loaded_media.name if printer.loaded_media else "nothing"
    return Standing("media", "Media", f"{printer.name} has {there} in it; {media.name} is called for", False)


def _readiness(printer: Printer) -> Standing:
    due = [d.task.title.lower() for d in dues_of(printer) if printer.abilities and d.due.overdue]
    words = f"{printer.name} is due for {', '.join(due)}" if due else "nothing is due"
    return Standing("readiness", "Readiness", words, not due)


def _machine(printer: Printer, needed: float | None) -> list[Standing]:
    queue = queue_of(printer)
    if queue is None:
        return []
    try:
        state = queue.machine()
    except Exception as error:
        _log.warning("a printer did not say how it stands", printer=printer.pk, error=str(error))
        words = f"the printer does not answer ({type(error).__name__}: {error})"[:300]
        return [Standing("printer", "Machine", words, False)]
    if state.state == "stopped":
        why = ", ".join(state.reasons) or "it does not say why"
        return [Standing("printer", "Machine", f"{printer.name} has stopped: {why}", False)]
    found = [Standing("printer", "Machine", state.state, True)]
    if state.metres is not None:
        left = f"{state.metres:.1f} m are left in {printer.name}"
        enough = needed is None or state.metres >= needed
        words = left if enough else f"{needed:.1f} m of media are needed, {left}"
        found.append(Standing("media-out", "Length", words, enough))
    return found
