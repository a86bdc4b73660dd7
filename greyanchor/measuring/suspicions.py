"""What is suspect of the passes over a print: as long as anything is, nothing is computed from them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts import audit_log
from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background.cache import kept
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.misread_sheets import suspect_rows
from greyanchor.core.measurement.repeatability import LARGEST_LIMIT, MOVED_LIMIT, Comparison, compare_passes
from greyanchor.core.measurement.whole_pass import GAIN, pass_shift
from greyanchor.measuring.cache import remembered
from greyanchor.measuring.expectations import FOR_DRIFT, expectation_of
from greyanchor.measuring.models import ReadingPass, SheetPrint, pass_finished, readings_suspect

#: a row differs by more than what moved all patches when it does so by this many times as much
_BEYOND_MOVED = 3.0


@dataclass(frozen=True)
class Suspicion:
    """Why nothing may be computed from a print's readings yet, and what to do.

    Attributes
    ----------
    key
        Names it among those of the print, for a person's decision to use the readings all the same.
    text
        What is suspect and what to do.
    number
        The pass that is wrong, counted from 1; 0 where that is not known.
    rows
        Rows to read again; empty where the whole pass is.
    """

    key: str
    text: str
    number: int = 0
    rows: tuple[int, ...] = ()


def compared(job: SheetPrint, done: list[ReadingPass]) -> Comparison | None:
    """Complete passes held against one another and against what was expected; None for fewer than two."""
    if len(done) < 2:
        return None
    key = ("compared", *((p.pk, p.finished_at) for p in done))
    return remembered(key, lambda: kept(key, lambda: _compared(job, done)))  # type: ignore[no-any-return]


def _compared(job: SheetPrint, done: list[ReadingPass]) -> Comparison:
    """The comparison, naming passes by their own numbers: some may have been left out."""
    found = compare_passes([p.readings for p in done], expectation_of(job))
    return replace(found, worst_pass={k: done[v - 1].number for k, v in found.worst_pass.items()})


def suspicions(job: SheetPrint) -> list[Suspicion]:
    """What is suspect of the complete passes over a print, as long as nobody has decided to use them."""
    return [s for s in all_suspicions(job) if s.key not in job.confirmed]


def all_suspicions(job: SheetPrint) -> list[Suspicion]:
    """The same with those that somebody decided on."""
    done = list(job.passes.filter(state=ReadingPass.State.DONE).defer("text"))
    if not done:
        return []
    key = ("suspicions", *((p.pk, p.finished_at) for p in done))
    return remembered(key, lambda: kept(key, lambda: _suspicions(job, done)))  # type: ignore[no-any-return]


def _suspicions(job: SheetPrint, done: list[ReadingPass]) -> list[Suspicion]:
    found = _of_whole_passes(job, done)
    if len(done) == 1:
        return [*found, *_of_rows(job, done[0])]
    comparison = compared(job, done)
    assert comparison is not None
    return [*found, *_of_comparison(comparison, done)]


def _of_whole_passes(job: SheetPrint, done: list[ReadingPass]) -> list[Suspicion]:
    """Passes that are off as wholes; where all of several are off alike in lightness, it is no slip of one
    calibration.
    """
    if job.chart.purpose in FOR_DRIFT:
        return []  # that paper or machine changed is the result then, and no suspicion
    expected = expectation_of(job)
    shifts = [(p.number, shift) for p in done if (shift := pass_shift(expected, p.lab())) is not None]
    gains = [shift.gain for _, shift in shifts]
    alike = len(gains) > 1 and max(gains) - min(gains) < GAIN
    return [
        Suspicion(f"pass {number}: {kind}", f"Pass {number}: {text}.", number)
        for number, shift in shifts
        for kind, text in shift.reasons().items()
        if not (alike and kind == "white")
    ]


def _of_rows(job: SheetPrint, found: ReadingPass) -> list[Suspicion]:
    """Rows of a single pass that are not what they should be; those that were marked are known."""
    chart = job.chart.patches
    wrong = suspect_rows(chart, expectation_of(job), found.lab())
    return [
        Suspicion(
            f"pass {found.number}, row {w.row}",
            f"Row {w.row} of pass {found.number}: {w.verdict.reason}. Read it again.",
            found.number,
            (w.row,),
        )
        for w in wrong
        if str(w.row) not in found.marks
    ]


def _of_comparison(comparison: Comparison, done: list[ReadingPass]) -> list[Suspicion]:
    """Rows and patches on which two passes differ, with the pass that is wrong where that is clear."""
    if comparison.unlike:
        return [Suspicion("unlike", comparison.advice()[0])]
    moved = comparison.moved > MOVED_LIMIT
    found = [_of_moved(comparison, done)] if moved else []
    for row in comparison.suspect_rows:
        if moved and _median_of(comparison, row) < _BEYOND_MOVED * comparison.shift + LARGEST_LIMIT:
            continue
        number = comparison.worst_pass.get(f"row {row}", 0)
        which = f"pass {number} misread it: read it again there" if number else "one of them misread it"
        text = f"Row {row} differs between the passes; {which}."
        found.append(Suspicion(f"row {row}", text, number, (row,)))
    if moved:
        return found
    place = {name: i for i, name in enumerate(comparison.ids)}
    for name in comparison.stray_patches:
        difference = float(comparison.differences[place[name]])
        if difference <= LARGEST_LIMIT or comparison.rows is None:
            continue
        row = int(comparison.rows[place[name]])
        number = comparison.worst_pass.get(name, 0)
        where = f"in pass {number}" if number else "in one of the passes"
        text = (
            f"Patch {name} differs by {difference:.1f} dE00 between the passes: a speck, a scratch or a slip "
            f"{where}. Read row {row} again."
        )
        found.append(Suspicion(f"patch {name}", text, number, (row,)))
    return found


def _of_moved(comparison: Comparison, done: list[ReadingPass]) -> Suspicion:
    """Passes that lie apart as wholes: a sheet that was still drying, or a white calibration that slipped."""
    early = [p.number for p in done if p.early_minutes > 0.5]
    number = early[0] if len(early) == 1 else 0
    which = f" Pass {number} was read before the sheet was dry." if number else ""
    text = (
        f"All inked patches moved alike between the passes (by {comparison.moved:.1f} in Lab): the sheet was "
        f"still drying, or the white calibration slipped.{which} Read another pass, and leave the wrong one "
        "out."
    )
    return Suspicion("moved", text, number)


def _median_of(comparison: Comparison, row: int) -> float:
    assert comparison.rows is not None
    return float(np.median(comparison.differences[comparison.rows == row]))


def announce(current: ReadingPass) -> None:
    """Let whatever depends on the readings of a print be computed again, or know that they are suspect."""
    job = SheetPrint.objects.select_related("chart").get(pk=current.sheet_print_id)
    signal = readings_suspect if suspicions(job) else pass_finished
    signal.send(ReadingPass, reading_pass=current)


@needs(MAKE)
@transaction.atomic
def use_suspect_readings(pk: int, reason: str, user: User) -> SheetPrint:
    """Use the readings of a print although something about them is suspect; it is kept who said so and why.

    Raises `BadInput` without a reason, or where nothing is suspect.
    """
    job = SheetPrint.objects.select_for_update(of=("self",)).get(pk=pk)
    if not reason.strip():
        raise BadInput("say why these readings can be used although they are suspect")
    found = suspicions(job)
    if not found:
        raise BadInput("nothing about these readings is suspect any more")
    who, at = user.get_full_name() or user.get_username(), timezone.now().isoformat(timespec="minutes")
    for suspicion in found:
        entry = {"text": suspicion.text, "reason": reason.strip()[:300], "by": who, "at": at}
        job.confirmed[suspicion.key] = entry
        audit_log.note(job, "suspect readings used", suspicion.text, reason.strip()[:300], user)
    job.save(update_fields=["confirmed"])
    announce(job.passes.filter(state=ReadingPass.State.DONE).latest("number"))
    return job
