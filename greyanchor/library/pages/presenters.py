"""What uses what: lists of records, and what each page of one shows beside its facts."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from django.db.models import Count, Q, QuerySet
from django.urls import reverse

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.ink_use import ink_use
from greyanchor.drawing.calibration import shape_plot
from greyanchor.drawing.colours import ink_colour
from greyanchor.library.machines.controls import controls_of
from greyanchor.library.machines.readiness import dues_of
from greyanchor.library.models import (
    Edition,
    InkSet,
    KeptText,
    LimitSet,
    Media,
    MediaClass,
    MediaPreset,
    Printer,
    PrintMode,
)
from greyanchor.library.records.record_types import Kind

#: most rows of a list on a page
MOST = 60


@dataclass(frozen=True)
class Row:
    """A line that leads to a record: the cells of a list, with the address of the first."""

    address: str
    cells: list[Any]


@dataclass(frozen=True)
class UsedBy:
    """Records that use this one; `more` are those beyond the list."""

    title: str
    rows: list[Row]
    more: int = 0
    empty: str = ""
    all_address: str = ""


HEADS: dict[str, list[tuple[str, str]]] = {
    "media": [
        ("Media", "text"),
        ("Class", "text"),
        ("Maker", "text"),
        ("g/m²", "number"),
        ("Width, mm", "number"),
        ("Brightener", "text"),
        ("Backwards", "text"),
        ("Dry-down, min", "number"),
        ("Presets", "number"),
        ("Print modes", "number"),
    ],
    "media-classes": [("Class", "text"), ("Family", "text"), ("Holds", "number"), ("Media", "number")],
    "presets": [
        ("Preset", "text"),
        ("Media", "text"),
        ("Class", "text"),
        ("Printer", "text"),
        ("Holds", "number"),
        ("Print modes", "number"),
    ],
    "printers": [
        ("Printer", "text"),
        ("Site", "text"),
        ("Ink sets", "text"),
        ("Driver mode", "text"),
        ("Width, mm", "number"),
        ("Loaded", "text"),
        ("Print modes", "number"),
    ],
    "ink-sets": [
        ("Ink set", "text"),
        ("Channels", "text"),
        ("Kind", "text"),
        ("Printers", "number"),
        ("Print modes", "number"),
    ],
}


def list_of(kind: Kind) -> list[Row]:
    """All records of a kind as rows."""
    make = {
        "media": _media,
        "media-classes": _classes,
        "presets": _presets,
        "printers": _printers,
        "ink-sets": _inks,
    }[kind.key]
    return [Row(reverse(kind.address, args=[r.pk]), cells) for r, cells in make()]


def _media() -> Iterable[tuple[Any, list[Any]]]:
    for m in Media.objects.select_related("media_class").annotate(
        n=Count("modes", distinct=True), p=Count("presets", distinct=True)
    ):
        ways = "may travel" if m.travels_backwards else "cannot"
        yield (
            m,
            [
                m.name,
                m.media_class.name,
                m.maker,
                m.weight,
                m.width_mm,
                m.get_brightener_display(),
                ways + (", by eye only" if m.unreadable else ""),
                m.dry_minutes,
                m.p,
                m.n,
            ],
        )


def _classes() -> Iterable[tuple[Any, list[Any]]]:
    for c in MediaClass.objects.annotate(n=Count("media")):
        yield c, [c.name, c.get_family_display() if c.family else "–", len(c.handling), c.n]


def _presets() -> Iterable[tuple[Any, list[Any]]]:
    for p in MediaPreset.objects.select_related("media__media_class").annotate(n=Count("modes")):
        yield p, [p.name, p.media.name, p.media.media_class.name, p.printer_model, len(p.handling), p.n]


def _printers() -> Iterable[tuple[Any, list[Any]]]:
    for p in (
        Printer.objects.select_related("site", "loaded_media")
        .prefetch_related("ink_sets")
        .annotate(n=Count("modes"))
    ):
        inks = "; ".join(f"{i.name} ({i.channel_text})" for i in p.ink_sets.all())
        yield (
            p,
            [
                p.name,
                p.site.name,
                inks,
                p.driven_as,
                p.width_mm,
                p.loaded_media.name if p.loaded_media else "–",
                p.n,
            ],
        )


def _inks() -> Iterable[tuple[Any, list[Any]]]:
    for i in InkSet.objects.annotate(n=Count("modes", distinct=True), p=Count("printers", distinct=True)):
        yield i, [i.name, i.channel_text, i.kind, i.p, i.n]


def _links(
    title: str, found: QuerySet[Any], address: str, note: Any, empty: str, all_address: str = ""
) -> UsedBy:
    total = found.count()
    rows = [Row(reverse(address, args=[r.pk]), [str(r), note(r)]) for r in found[:MOST]]
    return UsedBy(title, rows, max(0, total - MOST), empty, all_address)


def _modes(found: QuerySet[PrintMode], query: str) -> UsedBy:
    ready = found.select_related("printer", "media").defer("limits", "environment", "note", "readings")
    return _links(
        "Print modes",
        ready,
        "mode",
        lambda m: f"{m.printer.name}, {m.media.name}, {m.get_state_display()}",
        "Not yet used by a print mode.",
        f"{reverse('modes')}?{query}" if query else "",
    )


Page = dict[str, Any]


def page_of(record: Any) -> Page:
    """What the page of a record shows beside its facts: a line under its name, and lists of what uses it."""
    page = next((make for model, make in _PAGES.items() if isinstance(record, model)), None)
    return page(record) if page else {"lists": []}


def _media_page(media: Media) -> Page:
    presets = _links(
        "Presets", media.presets.all(), "preset", lambda p: p.printer_model, "No preset was made for it yet."
    )
    return {
        "lists": [_modes(media.modes.all(), f"media={media.pk}"), presets],
        "subtitle": f"{media.media_class.name}, {media.weight} g/m², {media.maker}",
    }


def _class_page(group: MediaClass) -> Page:
    lent = [
        Row(reverse("mode", args=[f.mode_id]), [f.mode.name, f"on {f.printer.name}"])
        for f in group.fallbacks.select_related("printer", "mode")
    ]
    lends = UsedBy(
        "Lends", lent, 0, "It lends no limits, curves or profile yet.", reverse("media-classes-lend")
    )
    media = _links("Media", group.media.all(), "media", lambda m: m.maker, "No media belongs to it.")
    family = f"for the family {group.get_family_display()}"
    return {
        "lists": [media, lends],
        "subtitle": f"{len(group.handling)} settings held, {family}"
        if group.family
        else "no family chosen it belongs to",
    }


def _preset_page(preset: MediaPreset) -> Page:
    sent = [
        Row(
            reverse("slots", args=[s.printer_id]), [s.printer.name, f"slot {s.number}, {s.sent_at:%-d %b %Y}"]
        )
        for s in preset.slots_sent.select_related("printer")
    ]
    return {
        "lists": [
            _modes(preset.modes.all(), ""),
            UsedBy("Sent to", sent, 0, "Not yet sent to a printer."),
        ],
        "subtitle": f"{preset.media.media_class.name}; it holds {len(preset.handling)} settings itself",
        "printers": Printer.objects.filter(model=preset.printer_model),
    }


def _printer_page(printer: Printer) -> Page:
    made = MediaPreset.objects.filter(printer_model=printer.model).select_related("media")
    presets = _links("Presets", made, "preset", lambda p: p.media.name, "No preset was made for it yet.")
    loaded = f"{printer.loaded_media} loaded" if printer.loaded_media else "no media loaded"
    return {
        "lists": [_modes(printer.modes.all(), f"printer={printer.pk}"), presets],
        "subtitle": f"{printer.site.name}, serial {printer.serial}, {loaded}",
        "dues": dues_of(printer),
        "controls": controls_of(printer),
    }


def _ink_page(inks: InkSet) -> Page:
    printers = _links(
        "Printers",
        inks.printers.select_related("site"),
        "printer",
        lambda p: p.site.name,
        "No printer runs it.",
    )
    return {
        "lists": [printers, _modes(inks.modes.all(), f"ink_set={inks.pk}")],
        "subtitle": f"{inks.channel_text}, {inks.kind}",
        "inks": [(ink, ink_colour(ink)) for ink in inks.inks],
        "not_built": inks.not_built,
    }


def _mode_page(mode: PrintMode) -> Page:
    return {"lists": [], "subtitle": f"{mode.printer.name}, {mode.media.name}"}


_PAGES: dict[type, Callable[[Any], Page]] = {
    Media: _media_page,
    MediaClass: _class_page,
    MediaPreset: _preset_page,
    Printer: _printer_page,
    InkSet: _ink_page,
    PrintMode: _mode_page,
}


@dataclass(frozen=True)
class Content:
    """Curves or limits in a list, with how many modes and editions hold to them."""

    record: KeptText | LimitSet
    text: str
    modes: list[str] = field(default_factory=list)
    count: int = 0


def contents(kind_key: str) -> list[Content]:
    """Curves, or limits, that a mode or an edition holds to, or that somebody wrote notes on, the newest
    first.
    """
    in_use = PrintMode.objects.order_by()
    if kind_key == "limits":
        wanted = Q(pk__in=in_use.values("limit_set"))
        found: Any = LimitSet.objects.all()
    else:
        wanted = Q(pk__in=in_use.values("curve_set")) | Q(
            pk__in=Edition.objects.order_by().values("curve_set")
        )
        found = KeptText.objects.filter(kind=KeptText.Kind.CURVES).defer("text")
    out = []
    for record in found.filter(wanted | ~Q(notes="")).annotate(n=Count("modes"))[:300]:
        names = list(record.modes.order_by("name").values_list("name", flat=True)[:3])
        out.append(Content(record, str(record), names, record.n))
    return out


def content_page(record: KeptText | LimitSet) -> dict[str, Any]:
    """What the page of curves or of limits shows."""
    lists = [_modes(record.modes.all(), "")]
    if isinstance(record, LimitSet):
        return {"lists": lists, "ink": ink_use(record.limits, record.total_ink)}
    lists.append(
        UsedBy(
            "Editions",
            [
                Row(
                    reverse("mode", args=[e.mode_id]),
                    [f"{e.mode.name}, edition {e.number}", f"{e.released_at:%-d %b %Y}"],
                )
                for e in record.editions.select_related("mode")[:MOST]
            ],
            0,
            "No edition holds to them.",
        )
    )
    curves = CurveSet.from_csv(record.text)
    return {
        "lists": lists,
        "plot": shape_plot({"": curves}),
        "limits": {c: 100 * v for c, v in curves.limits.items()},
    }
