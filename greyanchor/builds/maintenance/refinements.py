"""Refining a mode's profile by prints made through it, round after round, until what is left is noise."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.background import queue
from greyanchor.builds.models import Refinement, RefineRound
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.profiling import refine
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.library.records.editions import keep_edition
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.pipelines import dry_minutes, mode_curves, sent_channels, to_raw
from greyanchor.measuring.printing import ReadingPlan, make_chart, prepare_print
from greyanchor.profiles import queries
from greyanchor.profiles.models import Profile

State = RefineRound.State


@needs(MAKE)
@transaction.atomic
def start(mode: PrintMode, user: User, measuring: dict[str, Any] | None = None) -> Refinement:
    """Begin to refine the profile of a mode and lay out its first chart; `BadInput` when it has no
    profile.
    """
    if mode.profile is None:
        raise BadInput(f"{mode.name} has no profile to refine")
    if mode.refinements.filter(finished_at=None).exists():
        raise BadInput(f"the profile of {mode.name} is being refined already; go on with that, or close it")
    made = Refinement.objects.create(
        mode=mode,
        base=mode.profile,
        started_by=user,
        measuring={"method": (measuring or {}).get("method", "strip")},
    )
    _next_round(made, mode.profile)
    return made


def _next_round(made: Refinement, through: Profile) -> RefineRound:
    """Lay out a chart whose colours `through` spreads evenly, other colours in every round."""
    mode, number = made.mode, made.rounds.count() + 1
    plan = ReadingPlan.of(made.measuring)
    check_travel(plan.method, mode.media.name, mode.media.travels_backwards, not mode.media.unreadable)
    environment = PrintEnvironment(**mode.environment)
    device = refine.chart(queries.parsed(through), seed=number)
    inks = queries.parsed(through).inks
    curves, share = mode_curves(mode), to_raw(mode.splits, inks)
    title = f"{mode.name}: refining, round {number}"
    chart = make_chart("refine", device, title, environment, plan, inks)
    job = prepare_print(
        chart,
        environment,
        lambda values: share(curves.apply(values)),
        f"/refinements/{made.pk}/",
        mode.printer,
        sent_channels(mode.ink_set, mode.splits),
        dry_minutes(mode.ink_set, mode.media),
    )
    return RefineRound.objects.create(
        refinement=made,
        number=number,
        through=through,
        sheet_print=job,
        state=State.WAITING,
        started_by=made.started_by,
    )


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Learn from what was just read."""
    waiting = (State.WAITING, State.DONE, State.FAILED)
    for found in RefineRound.objects.filter(
        sheet_print=reading_pass.sheet_print_id, state__in=waiting, refinement__finished_at=None
    ):
        if not found.refinement.rounds.filter(number__gt=found.number).exists():
            start_round(found)


@needs(MAKE)
def start_round(found: RefineRound) -> None:
    """Let the worker learn from a round's readings."""
    RefineRound.objects.filter(pk=found.pk).update(
        state=State.QUEUED, message="waiting for the worker", progress=0.0, cancel_asked=False
    )

    queue.start(found)


@needs(MAKE)
@transaction.atomic
def another(made: Refinement) -> RefineRound:
    """Lay out the next round's chart, through the profile that the last round made."""
    last = _last(made)
    if last.state != State.DONE or last.after is None:
        raise BadInput("the last round has made no profile to print the next one through")
    return _next_round(made, last.after)


def _last(made: Refinement) -> RefineRound:
    if made.finished_at is not None:
        raise BadInput("this refinement is over")
    return made.rounds.select_related("after", "through").latest("number")


@needs(MAKE)
@transaction.atomic
def use(made: Refinement, reason: str, user: User) -> Refinement:
    """Give the mode the profile that the last round made, or proved."""
    last = _last(made)
    best = last.after or (last.through if last.number > 1 and last.result else None)
    if best is None:
        raise BadInput("no round has made a profile yet")
    mode = PrintMode.objects.select_for_update(of=("self",)).get(pk=made.mode_id)
    if mode.profile_id != made.base_id:
        raise BadInput(f"the profile of {mode.name} was changed by somebody else since; start refining again")
    mode.profile = best
    mode.version += 1
    found = last.result["off"]["mean"] if last.result else 0.0
    words = (
        f"profile refined by {made.rounds.exclude(result=None).count()} prints, the last {found:.2f} dE00 off"
    )
    set_history_author(mode, user, f"{words}. {reason}".strip(". ")).save()
    if mode.state == PrintMode.State.RELEASED:
        keep_edition(mode, [{"rule": "refining", "ok": True, "text": words}], user)
    return _end(made, Refinement.Outcome.USED, reason)


@needs(MAKE)
@transaction.atomic
def close(made: Refinement, note: str) -> Refinement:
    """End a refinement without changing the mode."""
    if made.finished_at is not None:
        raise BadInput("this refinement is over")
    return _end(made, Refinement.Outcome.CLOSED, note)


def _end(made: Refinement, outcome: str, note: str) -> Refinement:
    made.outcome, made.note, made.finished_at = outcome, note[:300], timezone.now()
    made.save()
    return made


def job_of(made: Refinement) -> SheetPrint:
    """The print of the last round."""
    return made.rounds.select_related("sheet_print__chart").latest("number").sheet_print
