"""States of a mode, and what changed between two of them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from greyanchor.builds.models import Baseline, Restore
from greyanchor.changes.models import Swap
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.attribution import NOTHING, Change, what_changed
from greyanchor.library.models import Printer, PrintMode
from greyanchor.measuring.models import ReadingPass, SheetPrint, parsed
from greyanchor.measuring.services import averaged

#: what a cause is called
CAUSES = {
    "paper": "another batch of media",
    "ink": "another lot of {}",
    "head": "the head of {}",
    "instrument": "another instrument, or its white",
    "heat": "another heat",
    "nothing": "nothing: within the noise of a reading",
}


@dataclass(frozen=True)
class State:
    """A moment when a mode's short chart was read: a key, when, what it was, and its readings."""

    key: str
    at: datetime
    title: str
    readings: ReadingSet
    instrument: str = ""


def states(mode: PrintMode) -> list[State]:
    """All moments when a mode's short chart was read through the curves of its baseline, the newest first."""
    baseline = Baseline.objects.filter(mode=mode, withdrawn="").first()
    if baseline is None:
        return []
    first = parsed(baseline.text, f"baseline of {mode}")
    found = [State("baseline", baseline.taken_at, "baseline", first, first.meta.get("INSTRUMENTATION", ""))]
    for restore in Restore.objects.filter(mode=mode, baseline=baseline).select_related(
        "sheet_print__chart", "confirm_print__chart"
    ):
        for job, what in ((restore.sheet_print, "read"), (restore.confirm_print, "restored")):
            state = _state(job, f"{what}-{restore.pk}", what)
            if state is not None:
                found.append(state)
    return sorted(found, key=lambda s: s.at, reverse=True)


def _state(job: SheetPrint | None, key: str, what: str) -> State | None:
    if job is None or job.printed_at is None:
        return None
    last = job.passes.filter(state=ReadingPass.State.DONE).order_by("-number").first()
    if last is None:
        return None
    title = f"{what} {job.printed_at:%-d %B %Y}"
    return State(key, last.finished_at or job.printed_at, title, averaged(job), last.source)


@dataclass(frozen=True)
class Comparison:
    """Two states of a mode with what changed, and what is on record between them."""

    mode: PrintMode
    before: State
    now: State
    change: Change
    swaps: list[Swap]

    @property
    def causes(self) -> list[dict[str, Any]]:
        """The likely causes in words, the likeliest first."""
        out = []
        for c in self.change.causes[:3]:
            if c.chance >= 0.03:
                words = (
                    CAUSES[c.kind].format(c.ink)
                    if c.ink or c.kind != "head"
                    else "several heads, or their age"
                )
                out.append({"words": words, "percent": round(100.0 * c.chance), "recorded": c.recorded})
        return out

    @property
    def is_any(self) -> bool:
        """Whether anything changed at all."""
        return self.change.causes[0].kind != NOTHING


def compare(mode: PrintMode, before_key: str, now_key: str) -> Comparison:
    """What changed between two states. Raises `BadInput` for keys that name none."""
    found = {s.key: s for s in states(mode)}
    if before_key not in found or now_key not in found:
        raise BadInput("that state of the mode is not there; choose two of the list")
    one, other = sorted((found[before_key], found[now_key]), key=lambda s: s.at)
    between = list(Swap.objects.filter(printer=mode.printer_id, at__gt=one.at, at__lte=other.at))
    swapped = [(s.kind, s.ink) for s in between]
    if one.instrument and other.instrument and one.instrument != other.instrument:
        swapped.append(("instrument", ""))
    change = what_changed(one.readings, other.readings, swapped)
    return Comparison(mode, one, other, change, between)


def since_last(mode: PrintMode) -> Comparison | None:
    """The newest state against the one before; None where there are not two, or they cannot be compared."""
    found = states(mode)
    if len(found) < 2:
        return None
    try:
        return compare(mode, found[1].key, found[0].key)
    except BadInput:
        return None


def of_machine(printer: Printer) -> list[Comparison]:
    """What changed last on every mode of a machine."""
    modes = PrintMode.objects.filter(printer=printer, state=PrintMode.State.RELEASED).select_related(
        "printer"
    )
    return [c for m in modes if (c := since_last(m)) is not None]
