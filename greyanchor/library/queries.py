"""What pages ask of the library."""

from __future__ import annotations

import django_filters
from django.db.models import Count, Q, QuerySet
from django.http import QueryDict

from greyanchor.library.models import Media, Printer, PrintMode

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
