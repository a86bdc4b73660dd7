"""What pages ask of the library."""

from __future__ import annotations

from typing import Any

import django_filters
from django.db.models import Count, Q, QuerySet
from django.http import QueryDict

from greyanchor.core.calibration.restore import RESTORED
from greyanchor.drawing.calibration import trend_plot
from greyanchor.library.models import ClassFallback, Media, MediaClass, Printer, PrintMode

PAGE = 50


class ModeFilter(django_filters.FilterSet):
    """Narrowing of the mode list by printer, media, state and text."""

    q = django_filters.CharFilter(method="by_text", label="Text")
    printer = django_filters.ModelChoiceFilter(queryset=Printer.objects.all(), empty_label="any printer")
    media = django_filters.ModelChoiceFilter(queryset=Media.objects.all(), empty_label="any media")
    state = django_filters.ChoiceFilter(choices=PrintMode.State.choices, empty_label="any state")

    class Meta:
        model = PrintMode
        fields = ["q", "printer", "media", "state"]

    def by_text(self, found: QuerySet[PrintMode], _name: str, text: str) -> QuerySet[PrintMode]:
        for word in text.split():
            found = found.filter(
                Q(name__icontains=word)
                | Q(media__name__icontains=word)
                | Q(media__maker__icontains=word)
                | Q(media__media_class__name__icontains=word)
                | Q(printer__name__icontains=word)
                | Q(printer__site__name__icontains=word)
            )
        return found


def modes(query: QueryDict) -> ModeFilter:
    """The narrowed list, ready for a page."""
    everything = PrintMode.objects.select_related("printer__site", "media__media_class").defer(
        "curves", "limits", "environment", "note"
    )
    return ModeFilter(query, queryset=everything)


def facet_counts(narrowed: ModeFilter) -> dict[str, list[tuple[str, int, int]]]:
    """How many modes each printer and media has among those found: (name, id, count), most first."""
    found = narrowed.qs.order_by()
    return {
        "printers": [
            (r["printer__name"], r["printer"], r["n"])
            for r in found.values("printer", "printer__name")
            .annotate(n=Count("pk"))
            .order_by("-n", "printer__name")
        ],
        "media": [
            (r["media__name"], r["media"], r["n"])
            for r in found.values("media", "media__name")
            .annotate(n=Count("pk"))
            .order_by("-n", "media__name")[:12]
        ],
    }


def class_fallbacks() -> dict[str, Any]:
    """Media classes by printers, with the modes that can be lent and the one that is."""
    printers = [
        p
        for p in Printer.objects.prefetch_related("ink_sets")
        if any(i.can_be_built for i in p.ink_sets.all())
    ]
    chosen = {(f.media_class_id, f.printer_id): f.mode_id for f in ClassFallback.objects.all()}
    modes = list(PrintMode.objects.filter(state=PrintMode.State.RELEASED).only("pk", "name", "printer"))
    rows = [
        {
            "pk": group.pk,
            "name": group.name,
            "cells": [
                {
                    "printer": p,
                    "choices": [m for m in modes if m.printer_id == p.pk],
                    "chosen": chosen.get((group.pk, p.pk)),
                }
                for p in printers
            ],
        }
        for group in MediaClass.objects.all()
    ]
    return {"printers": printers, "rows": rows}


def restore_trend(mode: PrintMode) -> str:
    """Mean dE00 to the baseline over all restores of a mode, as a plot; empty before the first."""
    told = [r for r in mode.restores.select_related("baseline").order_by("started_at") if r.drift]
    if not told:
        return ""
    first = told[0].baseline.taken_at
    days = [max(0.0, (r.started_at - first).total_seconds() / 86400.0) for r in told]
    after = [r.after["mean"] if r.after else None for r in told]
    return trend_plot(days, [r.drift["mean"] for r in told], after, RESTORED)
