"""Swatch books: laid out, printed raw from recipes, and read back."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import QuerySet
from django.urls import reverse
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.checks.strip_prints import sent_of
from greyanchor.colours import recipes
from greyanchor.colours.models import SpotRecipe, SwatchBook
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.charts.swatches import CUTS, WIDTHS, Steps, book_chart, neighbours
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.inks import WHITE
from greyanchor.core.profiling.recipes import find_recipes
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import Chart, ReadingPass, SheetPrint, written
from greyanchor.measuring.pipelines import dry_minutes, mode_pipeline
from greyanchor.measuring.printing import prepare_print
from greyanchor.measuring.services import averaged
from greyanchor.profiles.models import SpotRecord
from greyanchor.profiles.queries import model_of

MOST = 2000


@dataclass(frozen=True)
class BookLayout:
    """How a book lies: kind, page (a4 or WxH in mm), measuring method, width of a patch in mm (None for what
    is usual), whether white lies under everything, and the steps of neighbours.
    """

    kind: str = SwatchBook.Kind.TABLE
    page: str = "a4"
    method: str = "strip"
    patch: float | None = None
    with_white: bool = False
    steps: Steps = Steps()


@needs(MAKE)
@transaction.atomic
def make(
    modes: Sequence[PrintMode],
    colours: Sequence[SpotRecord],
    layout: BookLayout,
    user: User | None,
    title: str = "",
) -> list[SwatchBook]:
    """A book of colours for each mode, in one go; nothing is on paper yet. Neighbours are those of the first
    colour.

    Raises `BadInput` for no colour, too many, and for what a mode lacks; then no book is made.
    """
    if not modes or not colours:
        raise BadInput("choose colours and a print mode for a book")
    if len(colours) > MOST:
        raise BadInput(f"a book holds up to {MOST} colours; these are {len(colours)}: choose fewer")
    if layout.kind not in SwatchBook.Kind.values:
        raise BadInput(f"there is no book of the kind {layout.kind!r}")
    batch = secrets.token_hex(8)
    return [_make(mode, colours, layout, user, title, batch) for mode in modes]


def _make(
    mode: PrintMode,
    colours: Sequence[SpotRecord],
    layout: BookLayout,
    user: User | None,
    title: str,
    batch: str,
) -> SwatchBook:
    profile = recipes.profile_of(mode)
    check_travel(layout.method, mode.media.name, mode.media.travels_backwards, not mode.media.unreadable)
    near = layout.kind == SwatchBook.Kind.NEIGHBOURS
    rows, device = _neighbours(mode, colours[0], layout.steps) if near else _rows(mode, colours, user)
    name = title or (f"Neighbours of {colours[0].name}" if near else "Swatch book")
    edition = mode.editions.order_by("-number").values_list("number", flat=True).first() or 0
    environment = PrintEnvironment(**mode.environment)
    channels = tuple(profile.channels or "CMYK")
    facts = {
        "DESCRIPTOR": f"{mode.name}: {name}",
        "PRINT_CONDITIONS": environment.label(),
        "ORIGIN": _origin(mode, edition),
    }
    if layout.kind == SwatchBook.Kind.CHIPS:
        facts[CUTS] = "yes"
    chart = book_chart(
        device,
        channels,
        [r["name"] for r in rows],
        layout.page,
        layout.method,
        layout.patch or WIDTHS[layout.kind],
        facts,
    )
    raw = np.asarray(mode_pipeline(mode)(chart.values()))
    if layout.with_white:
        raw = _over_white(mode, raw)
    record = Chart.objects.create(
        purpose="swatch-book",
        title=f"{mode.name}: {name}"[:200],
        text=written(replace(chart)),
        content_hash=chart.content_hash(),
    )
    job = prepare_print(
        record,
        environment,
        lambda _device: raw,
        "",
        mode.printer,
        sent_of(mode, raw),
        dry_minutes(mode.ink_set, mode.media),
    )
    made = SwatchBook.objects.create(
        title=name[:160],
        kind=layout.kind,
        mode=mode,
        sheet_print=job,
        centre=colours[0] if near else None,
        rows=rows,
        edition=edition,
        batch=batch,
        made_by=user,
    )
    SheetPrint.objects.filter(pk=job.pk).update(origin=reverse("book", args=[made.pk]))
    return made


def _origin(mode: PrintMode, edition: int) -> str:
    """Where every sheet comes from, in one line."""
    parts = [
        f"{mode.printer.name} ({mode.printer.serial})",
        mode.ink_set.name,
        mode.media.name,
        f"{mode.name}{f', edition {edition}' if edition else ', not released'}",
        f"{timezone.localdate():%d %b %Y}",
    ]
    return " · ".join(parts)


def _rows(
    mode: PrintMode, colours: Sequence[SpotRecord], user: User | None
) -> tuple[list[dict[str, Any]], Array]:
    found = recipes.find(mode, colours, user)
    rows = [
        {"name": c.name, "lab": list(c.colour.lab), "recipe": found[c.pk].pk, "colour": c.pk} for c in colours
    ]
    return rows, np.array([found[c.pk].inks for c in colours], dtype=float)


def _neighbours(mode: PrintMode, colour: SpotRecord, steps: Steps) -> tuple[list[dict[str, Any]], Array]:
    """Only those within reach, and the colour itself whatever it is."""
    profile = recipes.profile_of(mode)
    names, labs = neighbours(np.array(colour.colour.lab), steps)
    found = find_recipes(model_of(profile), recipes.separation_of(profile), labs)
    middle = len(names) // 2
    kept = [i for i in range(len(names)) if i == middle or not found.out_of_reach[i]]
    rows = [
        {
            "name": colour.name if i == middle else names[i],
            "lab": [round(float(v), 3) for v in labs[i]],
            "miss": round(float(found.misses[i]), 3),
        }
        for i in kept
    ]
    return rows, found.inks[kept]


def _over_white(mode: PrintMode, raw: Array) -> Array:
    """Raw values with white at its limit under every patch."""
    white = next((c for c, p in mode.planes.items() if p.get("kind") == WHITE), None)
    if white is None:
        raise BadInput(f"{mode.name} has no white; leave it out, or build white first")
    most = float(np.array(mode.planes[white]["curve"])[-1]) / 100.0
    return np.column_stack([raw, np.full(len(raw), most)])


# --- reading -----------------------------------------------------------------------------------


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Keep what a book measures when a reading of it is complete."""
    book = SwatchBook.objects.filter(sheet_print=reading_pass.sheet_print_id).select_related("mode").first()
    if book is not None:
        take_reading(book)


def on_readings_suspect(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """A book whose readings are suspect says so and shows no result; its recipes learn nothing from them."""
    book = SwatchBook.objects.filter(sheet_print=reading_pass.sheet_print_id).first()
    if book is None:
        return
    book.results, book.read_at = {}, None
    book.error = "These readings are suspect; see what to do beside them. They count when that is settled."
    book.save(update_fields=["results", "read_at", "error"])
    printed = [r["recipe"] for r in book.rows if r.get("recipe")]
    SpotRecipe.objects.filter(pk__in=printed).update(read=None, read_miss=None)


@needs(USE)
@transaction.atomic
def take_reading(book: SwatchBook) -> None:
    """The difference of every colour, kept with the book and with the recipe that was printed."""
    job = SheetPrint.objects.select_related("chart").get(pk=book.sheet_print_id)
    lab = averaged(job).lab()
    asked = np.array([r["lab"] for r in book.rows], dtype=float)
    misses = delta_e_2000(asked, lab)
    book.results = {"lab": np.round(lab, 3).tolist(), "misses": np.round(misses, 4).tolist()}
    book.read_at, book.error = timezone.now(), ""
    book.save(update_fields=["results", "read_at", "error"])
    for i, row in enumerate(book.rows):
        if row.get("recipe"):
            SpotRecipe.objects.filter(pk=row["recipe"]).update(
                read=[round(float(v), 3) for v in lab[i]], read_miss=round(float(misses[i]), 4)
            )


def waiting_prints(sender: Any, **_: Any) -> QuerySet[Any]:
    """Books without a reading."""
    return SwatchBook.objects.order_by().filter(read_at=None).values("sheet_print")


@dataclass(frozen=True)
class Age:
    """How old a book is: days since it was printed, and editions of its mode since then."""

    days: int | None
    editions: int

    @property
    def is_old(self) -> bool:
        return self.editions > 0


def age_of(book: SwatchBook) -> Age:
    """A book's age."""
    printed = book.sheet_print.printed_at
    days = (timezone.now() - printed).days if printed else None
    later = book.mode.editions.filter(number__gt=book.edition).values_list("evidence", flat=True)
    # an edition that only put recipes into the mode prints as the one before
    changed = [e for e in later if not e or e[0].get("rule") != recipes.RULE]
    return Age(days, len(changed))


def recipes_in(book: SwatchBook) -> list[SpotRecipe]:
    """The newest recipe of every colour of a book."""
    keys = [r["colour"] for r in book.rows if r.get("colour")]
    colours = SpotRecord.objects.filter(pk__in=keys)
    return list(recipes.newest(book.mode, colours).values())


@needs(MAKE)
@transaction.atomic
def keep_neighbour(book: SwatchBook, position: int, name: str, user: User | None) -> SpotRecord:
    """A neighbour that a customer chose becomes a colour of the centre's book, as it was read where it was.

    `BadInput` for a name that is taken, or a position that is none.
    """
    from greyanchor.core.verification.spots import SpotColour
    from greyanchor.profiles.spots import save_spot

    if not 0 <= position < len(book.rows):
        raise BadInput("choose one of the neighbours")
    library = book.centre.library if book.centre else None
    record = SpotRecord(name=name.strip(), **({"library": library} if library else {}))
    if SpotRecord.objects.filter(library=record.library, name__iexact=record.name).exists():
        raise BadInput(f"there is a colour called {record.name} already; choose another name")
    lab = book.results["lab"][position] if book.results else book.rows[position]["lab"]
    spectrum: tuple[float, ...] = ()
    if book.results:
        seen = averaged(SheetPrint.objects.select_related("chart").get(pk=book.sheet_print_id))
        spectrum = () if seen.spectra is None else tuple(float(v) for v in seen.spectra[position])
    colour = SpotColour(record.name, (float(lab[0]), float(lab[1]), float(lab[2])), spectrum=spectrum)
    source = f"{book.rows[position]['name']} of {book.title}, {book.mode.name}"
    return save_spot(record, colour, source, user)
