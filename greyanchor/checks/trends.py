"""Figures over time, what drifts, and what is due."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max, QuerySet
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.checks.models import Check, CheckFigure, Drift, Schedule
from greyanchor.core.verification.trend import RULES, Trend, control
from greyanchor.library.models import PrintMode

#: days within which a forecast crossing is reported on the start page
SOON = 90
#: days before a check is due that it is reported
DUE_SOON = 2


@dataclass(frozen=True)
class Question:
    """Whose figure is asked for: of a mode, a printer or a site, under one tolerance set."""

    criterion: str
    tolerances: str
    mode: int | None = None
    printer: int | None = None
    site: int | None = None

    def figures(self) -> QuerySet[CheckFigure]:
        """The figures asked for, oldest first."""
        found = CheckFigure.objects.filter(
            criterion=self.criterion, check_made__tolerances=self.tolerances, check_made__withdrawn=""
        ).order_by("check_made__made_at", "check_made_id")
        if self.mode:
            found = found.filter(check_made__mode=self.mode)
        if self.printer:
            found = found.filter(check_made__printer=self.printer)
        if self.site:
            found = found.filter(check_made__printer__site=self.site)
        return found


@dataclass(frozen=True)
class Series:
    """A trend with its points: days from now, values, the checks, and the limit of the last."""

    days: list[float]
    values: list[float]
    checks: list[int]
    dates: list[datetime]
    limit: float | None
    trend: Trend


def ask(question: Question, since: datetime | None = None, reference: int | None = None) -> Series:
    """The series of one figure with its control limits, signals and forecast; the limits come from its first
    `reference` checks.
    """
    found = question.figures()
    if since is not None:
        found = found.filter(check_made__made_at__gte=since)
    rows = list(found.values_list("check_made__made_at", "value", "check_made_id", "limit"))
    now = timezone.now()
    days = [(at - now).total_seconds() / 86400.0 for at, *_ in rows]
    values = [v for _, v, *_ in rows]
    limit = rows[-1][3] if rows else None
    return Series(
        days,
        values,
        [pk for _, _, pk, _ in rows],
        [at for at, *_ in rows],
        limit,
        control(days, values, limit, reference),
    )


def last_restore(mode: PrintMode) -> datetime | None:
    """When the mode was last brought back to its baseline: a trend begins again there."""
    return mode.restores.filter(state="done").aggregate(at=Max("finished_at"))["at"]


def process_began(mode: PrintMode) -> datetime | None:
    """When the process of a mode last began again: its release, or its last restore."""
    began = [at for at in (mode.released_at, last_restore(mode)) if at is not None]
    return max(began, default=None)


@transaction.atomic
def watch(mode: PrintMode, made: Check) -> Drift | None:
    """Look at every figure of a mode's newest check over time, and keep the one that is worst; None when all
    is steady.
    """
    Drift.objects.filter(mode=mode, tolerances=made.tolerances).delete()
    since = process_began(mode)
    worst: tuple[float, str, dict[str, Any], Trend] | None = None
    for c in made.criteria:
        if c["limit"] is None or c["value"] is None:
            continue
        found = ask(Question(c["id"], made.tolerances, mode=mode.pk), since)
        trend = found.trend
        crossing = trend.forecast.day if trend.forecast else None
        heading = crossing is not None and crossing <= SOON and c["value"] <= c["limit"]
        rising = trend.recent and c["value"] > trend.centre
        if not heading and not rising:
            continue
        rank = crossing if heading and crossing is not None else SOON + 1.0
        if worst is None or rank < worst[0]:
            worst = (rank, _sentence(c, trend, heading), c, trend)
    if worst is None:
        return None
    rank, text, c, trend = worst
    crosses = timezone.now() + timedelta(days=rank) if rank <= SOON else None
    return Drift.objects.create(
        mode=mode, tolerances=made.tolerances, criterion=c["id"], text=text[:240], crosses_at=crosses
    )


def _sentence(c: dict[str, Any], trend: Trend, heading: bool) -> str:
    if heading and trend.forecast and trend.forecast.day is not None:
        early = max(trend.forecast.earliest or 0.0, 0.0)
        late = trend.forecast.latest
        span = (
            f"between {early:.0f} and {late:.0f} days"
            if late is not None
            else f"no sooner than {early:.0f} days"
        )
        return (
            f"{c['title']} rises and meets its limit in about {trend.forecast.day:.0f} days ({span}, "
            "nine times of ten)"
        )
    rule = max(s.rule for s in trend.signals if s.at >= trend.count - 2)
    return f"{c['title']} left its usual range: {RULES[rule]}"


# --- what is due -------------------------------------------------------------------------------


@dataclass(frozen=True)
class Due:
    """A scheduled check: when it was last made, and when it is due."""

    schedule: Schedule
    last: datetime | None
    at: datetime

    @property
    def days(self) -> int:
        """Days until it is due; negative when it is overdue."""
        return (timezone.localdate(self.at) - timezone.localdate()).days


def dues(only_soon: bool = True) -> list[Due]:
    """Scheduled checks by the day they are due, first what is overdue."""
    every = Schedule.objects.select_related("mode__printer__site", "aim").defer("aim__data")
    schedules = [
        s for s in every if s.mode.state != PrintMode.State.RETIRED
    ]  # few; a join would read every mode
    made = (
        Check.objects.filter(mode__in=[s.mode_id for s in schedules], withdrawn="")
        .order_by()
        .values_list("mode", "tolerances")
        .annotate(at=Max("made_at"))
    )
    last = {(mode, tolerances): at for mode, tolerances, at in made}
    out = []
    for s in schedules:
        seen = last.get((s.mode_id, s.tolerances))
        at = (
            max(seen, s.begins - timedelta(days=s.every_days))
            if seen
            else s.begins - timedelta(days=s.every_days)
        )
        due = at + timedelta(days=s.every_days)
        if not only_soon or due <= timezone.now() + timedelta(days=DUE_SOON):
            out.append(Due(s, seen, due))
    return sorted(out, key=lambda d: d.at)


@needs(MAKE)
@transaction.atomic
def set_schedule(mode: PrintMode, values: dict[str, Any] | None, user: User) -> None:
    """How often a mode is checked; None for no schedule."""
    if values is None:
        Schedule.objects.filter(mode=mode).delete()
        return
    Schedule.objects.update_or_create(mode=mode, defaults={**values, "changed_by": user})


def attention() -> dict[str, Any]:
    """What the start page lists of checks: due, and drifting."""
    drifting = Drift.objects.exclude(mode__state=PrintMode.State.RETIRED).select_related(
        "mode__printer__site"
    )
    return {"due": dues(), "drifting": drifting.order_by("crosses_at", "mode__name")}
