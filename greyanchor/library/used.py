"""What uses what: lists of records, and what each page of one shows beside its facts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from django.db.models import Count, QuerySet
from django.urls import reverse

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.throughput import ink_use
from greyanchor.drawing.calibration import shape_plot
from greyanchor.library.kinds import Kind
from greyanchor.library.models import (
    InkSet,
    KeptText,
    LimitSet,
    Media,
    MediaClass,
    MediaPreset,
    Printer,
    PrintMode,
)
from greyanchor.library.readying import dues_of

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
    "media": [("Media", "text"), ("Class", "text"), ("Maker", "text"), ("g/m²", "number"), ("Width, mm", "number"), ("Brightener", "text"), ("Backwards", "text"), ("Dry-down, min", "number"), ("Presets", "number"), ("Print modes", "number")],
    "media-classes": [("Class", "text"), ("Family", "text"), ("Holds", "number"), ("Media", "number")],
    "presets": [("Preset", "text"), ("Media", "text"), ("Class", "text"), ("Printer", "text"), ("Holds", "number"), ("Print modes", "number")],
    "printers": [("Printer", "text"), ("Site", "text"), ("Ink sets", "text"), ("Driven as", "text"), ("Width, mm", "number"), ("Loaded", "text"), ("Print modes", "number")],
    "ink-sets": [("Ink set", "text"), ("Channels", "text"), ("Kind", "text"), ("Printers", "number"), ("Print modes", "number")],
}  # fmt: skip


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
        yield m, [m.name, m.media_class.name, m.maker, m.weight, m.width_mm, m.get_brightener_display(), ways + (", by eye only" if m.unreadable else ""), m.dry_minutes, m.p, m.n]  # fmt: skip


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
        "Print modes", ready, "mode", lambda m: f"{m.printer.name}, {m.media.name}, {m.get_state_display()}", "No print mode uses it yet.",
        f"{reverse('modes')}?{query}" if query else "",
    )  # fmt: skip


def page_of(kind: Kind, record: Any, user: Any) -> dict[str, Any]:
    """What the page of a record shows beside its facts."""
    lists: list[UsedBy] = []
    more: dict[str, Any] = {}
    if isinstance(record, Media):
        lists = [
            _modes(record.modes.all(), f"media={record.pk}"),
            _links(
                "Presets",
                record.presets.all(),
                "preset",
                lambda p: p.printer_model,
                "No preset was made for it yet.",
            ),
        ]
        more["subtitle"] = f"{record.media_class.name}, {record.weight} g/m², {record.maker}"
    elif isinstance(record, MediaClass):
        lists = [
            _links("Media", record.media.all(), "media", lambda m: m.maker, "No media belongs to it."),
            UsedBy("Lends", [Row(reverse("mode", args=[f.mode_id]), [f.mode.name, f"on {f.printer.name}"]) for f in record.fallbacks.select_related("printer", "mode")], 0, "It lends no limits, curves or profile yet.", reverse("media-classes-lend")),
        ]  # fmt: skip
        more["subtitle"] = (
            f"{len(record.handling)} settings held, for the family {record.get_family_display()}"
            if record.family
            else "nobody said which family it belongs to"
        )
    elif isinstance(record, MediaPreset):
        lists = [
            _modes(record.modes.all(), ""),
            UsedBy("Sent to", [Row(reverse("slots", args=[s.printer_id]), [s.printer.name, f"slot {s.number}, {s.sent_at:%-d %b %Y}"]) for s in record.slots_sent.select_related("printer")], 0, "It was not sent to a printer yet."),
        ]  # fmt: skip
        more |= {
            "subtitle": f"{record.media.media_class.name}; it holds {len(record.handling)} settings itself",
            "printers": Printer.objects.filter(model=record.printer_model),
        }
    elif isinstance(record, Printer):
        lists = [
            _modes(record.modes.all(), f"printer={record.pk}"),
            _links(
                "Presets",
                MediaPreset.objects.filter(printer_model=record.model),
                "preset",
                lambda p: p.media.name,
                "No preset was made for it yet.",
            ),
        ]
        loaded = (
            f"{record.loaded_media.name} is in it"
            if record.loaded_media
            else "nobody said which media is in it"
        )
        more |= {
            "subtitle": f"{record.site.name}, serial {record.serial}, {loaded}",
            "dues": dues_of(record),
            "standin": _standin(record),
        }
    elif isinstance(record, InkSet):
        lists = [
            _links(
                "Printers",
                record.printers.select_related("site"),
                "printer",
                lambda p: p.site.name,
                "No printer runs it.",
            ),
            _modes(record.modes.all(), f"ink_set={record.pk}"),
        ]
        more["subtitle"] = f"{record.channel_text}, {record.kind}"
    elif isinstance(record, PrintMode):
        more["subtitle"] = f"{record.printer.name}, {record.media.name}"
    return {"lists": lists, **more}


def _standin(printer: Printer) -> dict[str, Any]:
    """How the stand-in behind a printer drifts, in percent; empty for one the bench cannot build on."""
    if not any(i.can_be_built for i in printer.ink_sets.all()):
        return {}
    drift, paper = printer.standin.get("drift", {}), printer.standin.get("paper") or [0, 0, 0]
    return {c: round(100 * drift.get(c, 1.0)) for c in "CMYK"} | {"paper_b": paper[2]}


@dataclass(frozen=True)
class Content:
    """Curves or limits in a list, with how many modes and editions hold to them."""

    record: KeptText | LimitSet
    text: str
    modes: list[str] = field(default_factory=list)
    count: int = 0


def contents(kind_key: str) -> list[Content]:
    """All curves, or all limits, the newest first."""
    if kind_key == "limits":
        found: Any = LimitSet.objects.all()
    else:
        found = KeptText.objects.filter(kind=KeptText.Kind.CURVES).defer("text")
    out = []
    for record in found.annotate(n=Count("modes"))[:300]:
        names = list(record.modes.order_by("name").values_list("name", flat=True)[:3])
        out.append(Content(record, str(record), names, record.n))
    return out


def content_page(record: KeptText | LimitSet) -> dict[str, Any]:
    """What the page of curves or of limits shows."""
    lists = [_modes(record.modes.all(), "")]
    if isinstance(record, LimitSet):
        return {"lists": lists, "ink": ink_use(record.limits, record.total_ink)}
    lists.append(UsedBy("Editions", [Row(reverse("mode", args=[e.mode_id]), [f"{e.mode.name}, edition {e.number}", f"{e.released_at:%-d %b %Y}"]) for e in record.editions.select_related("mode")[:MOST]], 0, "No edition holds to them."))  # fmt: skip
    curves = CurveSet.from_csv(record.text)
    return {
        "lists": lists,
        "plot": shape_plot({"": curves}),
        "limits": {c: 100 * v for c, v in curves.limits.items()},
    }
