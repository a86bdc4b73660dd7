"""Trial before release: our form at full width through a mode, its faults marked on the picture of it."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.artwork.trial_form import LONGEST, NARROWEST, SHORTEST, WIDEST, trial_form
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.printroom import intake, jobs, run_preparing, runs
from greyanchor.printroom.models import Artwork, Print, PrintFile, Run

USUAL_LENGTH = 1500.0
#: what is looked for: words by key
FAULTS = {
    "banding": "Lines between passes",
    "registration": "Both directions part",
    "scuffing": "Scuffed by the head",
    "bleed": "Inks run into one another",
    "drying": "Still wet, set off",
    "cockling": "Media cockles or is deformed",
    "mottle": "Mottle",
    "colour": "Colour is off",
    "text": "Text or lines are broken",
    "other": "Something else",
}
MOST_FAULTS = 100


@needs(USE)
@transaction.atomic
def order_trial(mode: PrintMode, length_mm: float, user: User | None) -> PrintFile:
    """Make the form as wide as the media, lay it on a run of its own and queue its preparing.

    Raises `BadInput` for a mode without a profile, and for a length that the form cannot have.
    """
    if mode.profile_id is None:
        raise BadInput(f"{mode.name} has no profile yet, so nothing can be printed through it")
    if mode.state == PrintMode.State.RETIRED:
        raise BadInput(f"{mode.name} is retired")
    if not SHORTEST <= length_mm <= LONGEST:
        raise BadInput(f"a trial form is {SHORTEST:g} to {LONGEST:g} mm long, not {length_mm:g}")
    width = float(int(min(max(runs.width_of(mode), NARROWEST), WIDEST)))
    title = f"Trial form · {mode.name} · {mode.printer.name}, serial {mode.printer.serial}"
    data = trial_form(width, length_mm, title)
    art, _ = intake.add(ContentFile(data), f"trial form {width:.0f} x {length_mm:.0f} mm.pdf", user)
    if not art.pages:
        # its examination will say more; what a run needs to know is known already
        page = {"width_mm": width, "height_mm": length_mm}
        Artwork.objects.filter(pk=art.pk).update(facts={"kind": "PDF", "pages": [page], "findings": []})
        art.refresh_from_db()
    job = jobs.make_job(art, user, mode, choices={"width_mm": width})
    run = runs.make([job], user, f"Trial form, {mode.name}")
    Run.objects.filter(pk=run.pk).update(is_trial=True)
    return run_preparing.order_run(Run.objects.get(pk=run.pk), user)


@needs(USE)
@transaction.atomic
def mark_fault(record: Print, kind: str, x: float, y: float, user: User | None, note: str = "") -> Print:
    """Mark a fault on the picture of a print, at shares of it. Raises `BadInput` for one off the picture."""
    if kind not in FAULTS:
        raise BadInput(f"no fault {kind!r}; there are {', '.join(FAULTS.values())}")
    if not (0.0 <= x <= 1.0 and 0.0 <= y <= 1.0):
        raise BadInput("a fault lies on the print: 0 to 100 % across and along")
    held = Print.objects.select_for_update(of=("self",)).get(pk=record.pk)
    if not held.is_over:
        raise BadInput(f"{held} is {held.get_state_display()}: look at it when it is done")
    if len(held.faults) >= MOST_FAULTS:
        raise BadInput(f"{MOST_FAULTS} faults are marked already")
    mark = {
        "kind": kind,
        "x": round(x, 4),
        "y": round(y, 4),
        "note": note.strip()[:200],
        "by": _name(user),
        "at": timezone.now().isoformat(timespec="seconds"),
    }
    held.faults = [*held.faults, mark]
    held.save(update_fields=["faults"])
    return held


@needs(USE)
@transaction.atomic
def unmark_fault(record: Print, number: int) -> Print:
    """Take a mark off again, by its number from 1."""
    held = Print.objects.select_for_update(of=("self",)).get(pk=record.pk)
    if not 1 <= number <= len(held.faults):
        raise BadInput(f"there is no mark {number}")
    held.faults = [f for i, f in enumerate(held.faults, 1) if i != number]
    held.save(update_fields=["faults"])
    return held


@needs(USE)
@transaction.atomic
def judge(record: Print, is_fit: bool, user: User | None, note: str = "") -> Print:
    """Say whether what a print shows is fit. Raises `BadInput` for one that is not done."""
    held = Print.objects.select_for_update(of=("self",)).get(pk=record.pk)
    if held.state != Print.State.DONE:
        raise BadInput(f"{held} is {held.get_state_display()}: it can be judged when it is done")
    held.judged = {
        "fit": is_fit,
        "note": note.strip()[:300],
        "by": _name(user),
        "at": timezone.now().isoformat(timespec="seconds"),
    }
    held.save(update_fields=["judged"])
    return held


def _name(user: User | None) -> str:
    return user.get_full_name() or user.get_username() if user else ""


def newest_trial(mode: PrintMode) -> Print | None:
    """The newest trial print of a mode that is done and was printed through it as it is now."""
    done = Print.objects.filter(print_file__run__is_trial=True, mode=mode, state=Print.State.DONE)
    record = done.select_related("print_file").order_by("-ended_at").first()
    if record is None or record.print_file.ticket.get("environment") != mode.environment_hash:
        return None
    made = max((t for t in (mode.calibrated_at, mode.profile and mode.profile.created_at) if t), default=None)
    if made is not None and record.print_file.created_at < made:
        return None
    return record


def on_trial_asked(sender: Any, mode: PrintMode, **_: Any) -> tuple[bool, str] | None:
    """Whether a trial print found a mode fit, for its release."""
    record = newest_trial(mode)
    if record is None:
        return None
    when = f"{timezone.localtime(record.ended_at):%-d %B %Y}" if record.ended_at else ""
    if not record.judged:
        return False, f"the trial print of {when} was not judged yet"
    found = f"{len(record.faults)} fault{'s' if len(record.faults) != 1 else ''} marked"
    by = record.judged.get("by", "")
    if not record.judged.get("fit"):
        return False, f"the trial print of {when} was found unfit by {by}, {found}"
    return True, f"the trial print of {when} was found fit by {by}, {found}"
