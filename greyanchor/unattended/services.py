"""Beginning, ending and letting go on what machines do alone; rules that keep modes true."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, USE, acting, needs
from greyanchor.builds.models import Baseline, Build
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import Outdated
from greyanchor.unattended import sheets
from greyanchor.unattended.models import NightRule, Unattended
from greyanchor.unattended.records import note


def _able(mode: PrintMode) -> None:
    """`BadInput` where a mode's machine cannot print and read alone."""
    if not sheets.can_alone(mode.printer):
        raise BadInput(
            f"{mode.printer.name} has no reader inside it, or no driver reaches it: a person prints and reads"
        )
    check_travel(sheets.INLINE, mode.media.name, mode.media.travels_backwards, not mode.media.unreadable)


@needs(MAKE)
@transaction.atomic
def start_build_alone(build: Build, wishes: dict[str, Any], user: User) -> Unattended:
    """Let a machine carry a build on, from where it is to its release, which stays a person's.

    `wishes`: ``patches``, ``aim``, ``tolerances``, ``corrected``, ``eye``, ``keeps``.
    """
    mode = build.mode
    if build.finished_at is not None:
        raise BadInput(f"the build of {mode.name} is at its end")
    if build.unattended.exclude(state__in=Unattended.OVER).exists():
        raise BadInput(f"the build of {mode.name} goes on unattended already")
    if not wishes.get("aim"):
        raise BadInput("say which aim the check is held to: nobody is there to choose one")
    _able(mode)
    Build.objects.filter(pk=build.pk).update(measuring={**build.measuring, "method": sheets.INLINE})
    made = Unattended.objects.create(
        kind=Unattended.Kind.BUILD,
        printer=mode.printer,
        mode=mode,
        build=build,
        wishes=wishes,
        started_by=user,
    )
    note(made, "Handed to the machine", f"{mode.printer.name}, {mode.media.name}")
    return made


@needs(MAKE)
@transaction.atomic
def start_night(mode: PrintMode, user: User) -> Unattended:
    """Let a machine hold a mode to its baseline now."""
    _able(mode)
    if mode.unattended.exclude(state__in=Unattended.OVER).exists():
        raise BadInput(f"{mode.name} is being looked at unattended already")
    if not Baseline.objects.filter(mode=mode, withdrawn="").exists():
        raise BadInput(f"{mode.name} has no baseline to be held to")
    return Unattended.objects.create(
        kind=Unattended.Kind.NIGHT, printer=mode.printer, mode=mode, started_by=user
    )


@needs(USE)
@transaction.atomic
def carry_on(work: Unattended, user: User | None) -> Unattended:
    """A person has done what was asked: the machine goes on from there."""
    work = Unattended.objects.select_for_update(of=("self",)).get(pk=work.pk)
    if work.state != Unattended.State.STOPPED:
        raise BadInput(f"{work} is {work.get_state_display()}; there is nothing to let go on")
    who = (user.get_full_name() or user.get_username()) if user else "by itself"
    work.state, work.stop, work.words, work.todo = Unattended.State.GOING, "", "", ""
    work.tries, work.not_before = {}, None
    work.save()
    note(work, "Goes on", "", who)
    return work


@needs(USE)
@transaction.atomic
def end(work: Unattended, user: User) -> Unattended:
    """Take the work from the machine; what it has done stays, and a person goes on by hand."""
    work = Unattended.objects.select_for_update(of=("self",)).get(pk=work.pk)
    if work.is_over:
        raise BadInput(f"{work} is over")
    work.state, work.finished_at = Unattended.State.ENDED, timezone.now()
    work.save()
    note(work, "Ended", "", user.get_full_name() or user.get_username())
    return work


# --- rules -----------------------------------------------------------------------------------


@needs(MAKE)
@transaction.atomic
def set_rule(mode: PrintMode, values: dict[str, Any], based_on: int, user: User) -> NightRule:
    """How a mode is kept true; refused where somebody changed it since version `based_on`."""
    rule = NightRule.objects.select_for_update(of=("self",)).filter(mode=mode).first()
    if rule is None:
        rule = NightRule(mode=mode, made_by=user, version=0)
    elif rule.version != based_on:
        raise Outdated(f"somebody changed how {mode.name} is kept true since; look at it again, then decide")
    if not Baseline.objects.filter(mode=mode, withdrawn="").exists():
        raise BadInput(f"{mode.name} has no baseline: its curves were not made from readings of its own")
    if values.get("aim") and mode.profile_id is None:
        raise BadInput(f"{mode.name} has no profile, so no check can be made through it")
    if values.get("aim") and not values.get("tolerances"):
        raise BadInput("a check afterwards is held to a tolerance set as well: choose one")
    for name, value in values.items():
        setattr(rule, name, value)
    _ = rule.limits  # says what is out of range
    rule.version, rule.made_by = rule.version + 1, user
    rule.save()
    return rule


def due_rules(now: datetime) -> list[NightRule]:
    """Rules of released modes that are due, the longest overdue first."""
    found = []
    rules = NightRule.objects.filter(is_on=True, mode__state=PrintMode.State.RELEASED)
    rules = rules.annotate(by_hand_at=Max("mode__restores__started_at"))
    for rule in rules.select_related("mode__printer__site", "mode__media", "mode__ink_set", "made_by"):
        if not rule.from_now and rule.by_hand_at and (rule.last_at is None or rule.by_hand_at > rule.last_at):
            rule.last_at = rule.by_hand_at  # a person has looked since
        if timezone.localtime(now).hour < rule.from_hour and not rule.from_now:
            continue
        if rule.last_at is None or now - rule.last_at >= timedelta(days=rule.every_days, hours=-6):
            found.append(rule)
    return sorted(found, key=lambda r: r.last_at or datetime.min.replace(tzinfo=now.tzinfo))


@needs(MAKE)
@transaction.atomic
def begin_now(user: User) -> int:
    """Let every rule's night begin now, whatever the hour; how many machines can."""
    rules = NightRule.objects.filter(is_on=True, mode__state=PrintMode.State.RELEASED)
    found = [r for r in rules.select_related("mode__printer__site", "mode__media") if able(r)]
    NightRule.objects.filter(pk__in=[r.pk for r in found]).update(last_at=None, from_now=True)
    return len(found)


def able(rule: NightRule) -> bool:
    """Whether a rule's machine does it alone."""
    return sheets.can_alone(rule.mode.printer) and rule.mode.media.travels_backwards


def begin_due(now: datetime) -> list[Unattended]:
    """Begin what is due on machines that can do it alone; the others are a list to work through."""
    begun = []
    for rule in due_rules(now):
        mode = rule.mode
        if not able(rule):
            continue
        if mode.unattended.exclude(state__in=Unattended.OVER).exists():
            continue
        NightRule.objects.filter(pk=rule.pk).update(last_at=now, from_now=False)
        with acting(rule.made_by):
            try:
                begun.append(start_night(mode, rule.made_by))
            except BadInput as error:
                failed = Unattended.objects.create(
                    kind=Unattended.Kind.NIGHT, printer=mode.printer, mode=mode, started_by=rule.made_by,
                    state=Unattended.State.STOPPED, stop="person", words=error.sentence[:400],
                    todo="change the rule, or end this",
                )  # fmt: skip
                begun.append(failed)
    return begun
