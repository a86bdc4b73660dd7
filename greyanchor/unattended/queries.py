"""What pages ask of unattended work."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import timedelta

from django.db.models import Q, QuerySet
from django.utils import timezone

from greyanchor.library.models import PrintMode
from greyanchor.unattended import services
from greyanchor.unattended.models import NightRule, Unattended

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


def rules() -> QuerySet[NightRule]:
    """How modes are kept true."""
    return NightRule.objects.select_related("mode__printer", "mode__media", "aim").order_by("mode__name")


def without_rule() -> QuerySet[PrintMode]:
    """Released modes with a baseline that nothing keeps true yet."""
    released = PrintMode.objects.filter(
        state=PrintMode.State.RELEASED, night_rule=None, baseline__withdrawn=""
    )
    return released.select_related("printer").order_by("name")
