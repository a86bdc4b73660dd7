"""What unattended work writes down of itself."""

from __future__ import annotations

from django.utils import timezone

from greyanchor.accounts import mail
from greyanchor.unattended.models import Unattended, UnattendedStep
from greyanchor.unattended.stops import Stop, Wait


def note(work: Unattended, what: str, figure: str = "", why: str = "", is_decision: bool = False) -> None:
    """Write a step down."""
    UnattendedStep.objects.create(
        work=work, what=what[:120], figure=figure[:300], why=why[:400], is_decision=is_decision
    )
    work.save(update_fields=["heard_at"])


def stopped(work: Unattended, stop: Stop) -> None:
    """The work waits for a person."""
    work.state, work.stop, work.words, work.todo = work.State.STOPPED, stop.rule, stop.words[:400], stop.todo
    work.not_before = None
    work.save()
    note(work, "Stopped", "", f"{stop.words}; {stop.todo}", is_decision=True)
    mail.send_message(
        work.started_by,
        f"{work.printer.name} waits for a person",
        f"{work}: {stop.words}.\n\nDo this: {stop.todo}.\n",
    )


def waits(work: Unattended, wait: Wait) -> None:
    """The work goes on later."""
    work.not_before, work.words = wait.until, wait.words
    work.save(update_fields=["not_before", "words", "heard_at"])


def done(work: Unattended, words: str) -> None:
    """The work is over."""
    work.state, work.stop, work.words, work.todo = work.State.DONE, "", words[:400], ""
    work.not_before, work.finished_at = None, timezone.now()
    work.save()
    note(work, "Done", "", words, is_decision=True)
