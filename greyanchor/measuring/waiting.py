"""Prints that wait for readings."""

from __future__ import annotations

from django.db.models import Count, Q, QuerySet

from greyanchor.measuring.models import ReadingPass, SheetPrint, readings_wanted

#: passes after which a print waits for no more readings
ENOUGH = 3


def open_prints() -> QuerySet[SheetPrint]:
    """Prints whose owner still waits for readings, the newest first: with no pass, or one or two, and none
    being read.
    """
    done = ReadingPass.objects.filter(state=ReadingPass.State.DONE).order_by().values("sheet_print")
    full = done.annotate(passes=Count("pk")).filter(passes__gte=ENOUGH).values("sheet_print")
    busy = ReadingPass.objects.filter(state=ReadingPass.State.OPEN).values("sheet_print")
    wanted = Q(pk__in=[])
    for _, prints in readings_wanted.send(SheetPrint):
        wanted |= Q(pk__in=prints)
    found = SheetPrint.objects.filter(wanted).exclude(pk__in=full).exclude(pk__in=busy)
    return found.select_related("chart", "printer").defer("sent", "chart__text").order_by("-pk")
