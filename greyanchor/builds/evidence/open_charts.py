"""Prints of builds that still wait for readings."""

from __future__ import annotations

from typing import Any

from django.db.models import Exists, OuterRef, QuerySet

from greyanchor.builds.models import RefineRound, Restore, Stage
from greyanchor.library.models import PrintMode

Prints = QuerySet[Any]


def _open_stages() -> QuerySet[Stage]:
    found = Stage.objects.order_by().filter(state=Stage.State.OPEN, build__finished_at=None)
    return found.exclude(build__mode__state=PrintMode.State.RETIRED)


def of_stages(sender: Any, **_: Any) -> Prints:
    """Charts of open stages."""
    return _open_stages().exclude(sheet_print=None).values("sheet_print")


def of_confirmations(sender: Any, **_: Any) -> Prints:
    """Second prints through what an open stage made."""
    return _open_stages().exclude(confirm_print=None).values("confirm_print")


def of_restores(sender: Any, **_: Any) -> Prints:
    """Short charts of restores, until curves are corrected."""
    waiting = (Restore.State.READING, Restore.State.FOUND)
    return Restore.objects.order_by().filter(state__in=waiting).values("sheet_print")


def of_confirmed_restores(sender: Any, **_: Any) -> Prints:
    """Second prints of restores, through the corrected curves."""
    waiting = (Restore.State.CONFIRMING, Restore.State.CONFIRMED)
    return (
        Restore.objects.order_by()
        .filter(state__in=waiting)
        .exclude(confirm_print=None)
        .values("confirm_print")
    )


def of_rounds(sender: Any, **_: Any) -> Prints:
    """The last round of each refinement that goes on."""
    later = RefineRound.objects.filter(refinement=OuterRef("refinement"), number__gt=OuterRef("number"))
    going_on = RefineRound.objects.order_by().filter(refinement__finished_at=None)
    return going_on.exclude(Exists(later)).values("sheet_print")
