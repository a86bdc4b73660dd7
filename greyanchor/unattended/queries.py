"""What pages ask of unattended work."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from django.db.models import Q, QuerySet
from django.utils import timezone

from greyanchor.builds.models import Build
from greyanchor.checks.models import Check
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.unattended import services
from greyanchor.unattended.models import NightRule, Unattended
from greyanchor.unattended.sheets import can_alone

#: how long the start page shows what is over
_LATELY = timedelta(hours=20)
_MOST = 12


@dataclass
class Nights:
    """What machines did alone since yesterday, what they wait for, and what is due by hand."""

    lines: list[Unattended] = field(default_factory=list)
    by_hand: list[NightRule] = field(default_factory=list)

    @property
    def stopped(self) -> int:
        """What needs a person."""
        return sum(w.is_stopped for w in self.lines) + len(self.by_hand)


def works() -> QuerySet[Unattended]:
    """All of it, the newest first, with what lists show."""
    return Unattended.objects.select_related("printer__site", "mode__media", "started_by")


def nights() -> Nights:
    """For the start page: what needs a person first, then what goes on, then what is done."""
    since = timezone.now() - _LATELY
    shown = works().filter(
        ~Q(state__in=Unattended.OVER) | Q(finished_at__gt=since, state=Unattended.State.DONE)
    )
    order = {Unattended.State.STOPPED: 0, Unattended.State.GOING: 1}
    lines = sorted(shown[: 4 * _MOST], key=lambda w: order.get(Unattended.State(w.state), 2))
    return Nights(lines[:_MOST], by_hand())


def by_hand() -> list[NightRule]:
    """Rules that are due on machines which a person must read."""
    due = services.due_rules(timezone.now())
    return [r for r in due if not services.able(r)]


@dataclass(frozen=True)
class Roll:
    """Media that a machine's line calls for, in the order of its work; `is_in` where it is loaded."""

    printer: Printer
    media: Media
    works: int
    is_in: bool


def rolls() -> list[Roll]:
    """Which rolls come next, machine by machine."""
    line = works().exclude(state__in=Unattended.OVER).order_by("printer__name", "pk")
    counts: dict[tuple[int, int], list[Unattended]] = {}
    for work in line:
        counts.setdefault((work.printer_id, work.mode.media_id), []).append(work)
    return [
        Roll(w[0].printer, w[0].mode.media, len(w), w[0].printer.loaded_media_id == w[0].mode.media_id)
        for w in counts.values()
    ]


def machines() -> list[Printer]:
    """Machines that print and read with nobody there."""
    return [p for p in Printer.objects.select_related("site").order_by("name") if can_alone(p)]


def to_hand_over() -> list[Build]:
    """Open builds that such a machine could carry on, the newest first."""
    builds = Build.objects.filter(
        finished_at=None, mode__printer__in=machines(), mode__media__travels_backwards=True,
        mode__media__unreadable=False,
    )  # fmt: skip
    going = Unattended.objects.exclude(state__in=Unattended.OVER).exclude(build=None).values("build")
    return list(builds.exclude(pk__in=going).select_related("mode").order_by("-pk")[:_MOST])


def rules() -> QuerySet[NightRule]:
    """How modes are kept true."""
    return NightRule.objects.select_related("mode__printer", "mode__media", "aim").order_by("mode__name")


def without_rule() -> QuerySet[PrintMode]:
    """Released modes with a baseline that nothing keeps true yet."""
    released = PrintMode.objects.filter(
        state=PrintMode.State.RELEASED, night_rule=None, baseline__withdrawn=""
    )
    return released.select_related("printer").order_by("name")


def usual_check(mode: PrintMode) -> dict[str, Any]:
    """Aim, tolerances and correction that a mode's media, its class, or else any was last checked against."""
    checks = Check.objects.exclude(aim=None).filter(aim__families=None, mode__isnull=False).order_by("-pk")
    of_class = checks.filter(mode__media__media_class=mode.media.media_class_id)
    last = checks.filter(mode__media=mode.media_id).first() or of_class.first() or checks.first()
    if last is None:
        return {}
    return {"aim": last.aim_id, "tolerances": last.tolerances, "corrected": last.corrected}
