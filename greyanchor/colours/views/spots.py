"""Pages of spot colours: the books, one colour, colours that are alike."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import urlencode
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.last_used import opens_with
from greyanchor.accounts.roles import MAKE, takes
from greyanchor.background import queue
from greyanchor.checks.forms import checkable_modes
from greyanchor.colours import recipes
from greyanchor.colours.forms import BookForm, SpotForm, faults_of
from greyanchor.colours.models import RecipeWork, SpotRecipe
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.numbers import parse_number
from greyanchor.core.profiling.recipes import OUT_OF_REACH, find_recipes
from greyanchor.core.verification import spot_files
from greyanchor.core.verification.spots import SpotColour
from greyanchor.drawing.colours import hex_colours
from greyanchor.library.models import PrintMode
from greyanchor.profiles import spots
from greyanchor.profiles.models import SpotLibrary, SpotRecord, house_library
from greyanchor.profiles.queries import model_of
from greyanchor.profiles.services import sent_file

_PAGE = 100
#: patches of a file whose nearest colours are looked for
_READ = 100
_LAB = re.compile(r"[-+]?\d+(?:[.,]\d+)?")


def mode_choices() -> Any:
    """Modes that recipes can be found on."""
    return (
        checkable_modes()
        .exclude(profile=None)
        .select_related("profile", "ink_set")
        .defer("profile__data", "profile__fitted")
    )


def _likely_mode() -> dict[str, Any]:
    """The mode that was released last among those that can print a recipe."""
    newest = mode_choices().filter(state="released").order_by("-pk").values_list("pk", flat=True).first()
    return {"mode": newest} if newest else {}


def mode_asked(request: HttpRequest) -> PrintMode | None:
    """The mode that an address or a form names."""
    number = request.GET.get("mode", request.POST.get("mode", ""))
    return mode_choices().filter(pk=int(number)).first() if number.isdecimal() else None


def lab_in(text: str) -> tuple[float, float, float] | None:
    """Lab that somebody typed, ``46 62 38`` or ``L 46, a 62, b 38``; None for words."""
    found = _LAB.findall(text)
    if len(found) != 3 or len(re.sub(r"[-+\d.,;\s*Lab]", "", text)) > 0:
        return None
    values = [parse_number(v) for v in found]
    return (values[0], values[1], values[2]) if 0 <= values[0] <= 110 else None


@require_GET
@opens_with("spot colours", _likely_mode)
def spot_list(request: HttpRequest) -> HttpResponse:
    """The books of spot colours, narrowed by name or by nearness, and what a mode makes of each."""
    mode, asked = mode_asked(request), request.GET.get("q", "").strip()
    books = list(SpotLibrary.objects.all())
    number = request.GET.get("book", "")
    book = next((b for b in books if str(b.pk) == number), None)
    found = SpotRecord.objects.select_related("library")
    if book is not None:
        found = found.filter(library=book)
    near = lab_in(asked)
    away: dict[int, float] = {}
    if near is not None:
        nearest = spots.nearest(near, 30, book.pk if book else None)
        away = {n.pk: n.away for n in nearest}
        records = sorted(found.filter(pk__in=away), key=lambda r: away[r.pk])
        page = Paginator(records, _PAGE).get_page(1)
    else:
        found = found.filter(name__icontains=asked) if asked else found
        page = Paginator(found.order_by("library__place", "name"), _PAGE).get_page(request.GET.get("page"))
    rows = spot_rows(list(page), mode, away)
    misses = [r["miss"] for r in rows if r["miss"] is not None]
    query = {k: str(v) for k, v in request.GET.items() if k != "page"}
    context: dict[str, Any] = {
        "form": SpotForm(initial={"library": book}),
        "book_form": BookForm(initial={"modes": [mode] if mode else []}),
        "modes": mode_choices(),
        "mode": mode,
        "books": books,
        "book": book,
        "asked": asked,
        "near": near,
        "near_colour": hex_colours(np.array([near]))[0] if near else "",
        "page": page,
        "query": urlencode(query),
        "reach": OUT_OF_REACH,
        "rows": rows,
        "endings": spot_files.ENDINGS,
        "works": RecipeWork.objects.filter(mode=mode, state__in=("queued", "running")) if mode else (),
        "summary": {
            "count": len(misses),
            "far": sum(m > OUT_OF_REACH for m in misses),
            "largest": max(misses, default=None),
            "mean": float(np.mean(misses)) if misses else None,
        },
    }
    return render(request, "colours/spot_list.html", context)


def spot_rows(
    records: list[SpotRecord], mode: PrintMode | None, away: dict[int, float] | None = None
) -> list[dict[str, Any]]:
    """Colours with the recipe that a mode prints: the newest that was kept, else what its profile finds."""
    labs = np.array([r.colour.lab for r in records], dtype=float).reshape(-1, 3)
    asked = hex_colours(labs)
    held: dict[int, SpotRecipe] = {}
    found = None
    missing = list(range(len(records)))
    if mode is not None and records:
        profile = recipes.profile_of(mode)
        newest = recipes.newest(mode, records)
        held = {
            r.pk: newest[r.pk] for r in records if r.pk in newest and recipes.holds(newest[r.pk], r, profile)
        }
        missing = [i for i, r in enumerate(records) if r.pk not in held]
        if missing:
            found = find_recipes(model_of(profile), recipes.separation_of(profile), labs[missing])
    rows = []
    for i, record in enumerate(records):
        row: dict[str, Any] = {
            "record": record,
            "colour": asked[i],
            "tints": sorted(float(t) for t in record.tints),
            "away": (away or {}).get(record.pk),
            "miss": None,
        }
        if record.pk in held:
            kept = held[record.pk]
            row |= _facts(kept.inks, kept.predicted, kept.miss) | {"kept": kept}
            row["in_mode"] = bool(mode and mode.recipe_of(record.name, record.colour.lab) == kept.inks)
        elif found is not None:
            at = missing.index(i)
            row |= _facts(found.inks[at], found.lab[at], float(found.misses[at]))
        rows.append(row)
    return rows


def _facts(inks: Any, lab: Any, miss: float) -> dict[str, Any]:
    values = np.array(lab, dtype=float)
    return {
        "inks": [100.0 * float(v) for v in inks],
        "lab": values,
        "nearest": hex_colours(values[None])[0],
        "miss": miss,
    }


# --- books -------------------------------------------------------------------------------------


def _book_of(request: HttpRequest) -> SpotLibrary:
    number = request.POST.get("library", "") or request.POST.get("book", "")
    pk = int(number) if number.isdecimal() else house_library()
    return get_object_or_404(SpotLibrary, pk=pk)


@takes(MAKE)
@require_POST
def spot_import(request: HttpRequest) -> HttpResponse:
    """Colours from CxF/X-4, another CxF3 file, CSV or CGATS text; names that are there are left alone unless
    asked.
    """
    try:
        data, name = sent_file(request)
        colours = spot_files.from_file(data, name)
        title = request.POST.get("new", "").strip()
        book = spots.add_library(title, f"file {name}"[:300], request.user) if title else _book_of(request)
        replace = bool(request.POST.get("replace"))
        found = spots.keep_spots(colours, f"file {name}", request.user, replace, book)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was imported.")
        return redirect("spots")
    words = {
        "added": "added",
        "replaced": "replaced",
        "left": "left as they were, because their names are taken",
        "alike": "were there alike",
    }
    parts = [f"{len(names)} {words[what]}" for what, names in found.items() if names]
    messages.success(request, f"{book.name}: {'; '.join(parts)}.")
    return redirect(f"{reverse('spots')}?book={book.pk}")


@takes(MAKE)
@require_POST
def spot_save(request: HttpRequest) -> HttpResponse:
    """One colour by hand."""
    form = SpotForm(request.POST)
    if not form.is_valid():
        messages.error(request, faults_of(form))
        return redirect("spots")
    d = form.cleaned_data
    book = d["library"] or SpotLibrary.objects.get(pk=house_library())
    if book.colours.filter(name__iexact=d["name"]).exists():
        messages.error(request, f"{book.name} has a colour called {d['name']} already. Nothing was saved.")
        return redirect("spots")
    made = spots.save_spot(
        SpotRecord(name=d["name"], library=book),
        SpotColour(d["name"], (d["lightness"], d["a"], d["b"])),
        request.POST.get("source", "")[:200] or "by hand",
        request.user,
    )
    messages.success(request, f"{made.name} was added to {book.name}.")
    return redirect("spot", pk=made.pk)


@takes(MAKE)
@require_POST
def spot_remove(request: HttpRequest, pk: int) -> HttpResponse:
    name = spots.remove_spot(get_object_or_404(SpotRecord, pk=pk), request.user)
    messages.info(request, f"{name} was removed. Checks keep the colours they were held to.")
    return redirect("spots")


@takes(MAKE)
@require_POST
def spot_library(request: HttpRequest) -> HttpResponse:
    """Another book, or one that is looked in first from now on."""
    try:
        if request.POST.get("first", "").isdecimal():
            book = get_object_or_404(SpotLibrary, pk=int(request.POST["first"]))
            spots.first_of_all(book, request.user)
            messages.success(request, f"Artwork finds its colours in {book.name} first.")
        else:
            book = spots.add_library(request.POST.get("name", ""), "", request.user)
            messages.success(request, f"{book.name} is a book now; import colours into it.")
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("spots")
    return redirect(f"{reverse('spots')}?book={book.pk}")


@require_GET
def spot_export(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """A book as a file."""
    book = get_object_or_404(SpotLibrary, pk=pk)
    try:
        data = spot_files.dumps([r.colour for r in book.colours.order_by("name")], ending, book.name)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect(f"{reverse('spots')}?book={pk}")
    name = "-".join("".join(c if c.isalnum() else " " for c in book.name).split()) or "colours"
    return HttpResponse(
        data,
        content_type="application/octet-stream",
        headers={"Content-Disposition": f'attachment; filename="{name}.{ending}"'},
    )


@require_POST
def spot_nearest(request: HttpRequest) -> HttpResponse:
    """The colours nearest to what an instrument read, patch by patch; nothing is kept."""
    try:
        data, name = sent_file(request)
        readings = readings_file.loads(data, name)
        labs = readings.lab()[:_READ]
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("spots")
    names = readings.names or readings.ids
    chips = hex_colours(labs)
    rows = [
        {
            "name": names[i] or readings.ids[i],
            "lab": labs[i],
            "chip": chips[i],
            "near": [
                {"found": n, "chip": hex_colours(np.array([n.lab]))[0]}
                for n in spots.nearest((float(labs[i, 0]), float(labs[i, 1]), float(labs[i, 2])), 3)
            ],
        }
        for i in range(len(labs))
    ]
    context = {"rows": rows, "file": name, "condition": readings.condition, "of": len(readings)}
    return render(request, "colours/spot_nearest.html", context)


@require_GET
def spot_twins(request: HttpRequest) -> HttpResponse:
    """Colours that are one by name or by sight."""
    pairs = spots.twins()
    books = dict(SpotLibrary.objects.values_list("pk", "name"))
    rows = [
        {
            "a": a,
            "b": b,
            "books": (books[a.library], books[b.library]),
            "colours": hex_colours(np.array([a.lab, b.lab])),
            "same_name": a.name.casefold() == b.name.casefold(),
        }
        for a, b in pairs
    ]
    return render(request, "colours/spot_twins.html", {"rows": rows, "limit": spots.TWINS})


# --- recipes of many -----------------------------------------------------------------------------


@takes(MAKE)
@require_POST
def spot_find_all(request: HttpRequest) -> HttpResponse:
    """Find and keep the recipe of every colour of a book, in the background."""
    mode, book = mode_asked(request), _book_of(request)
    if mode is None:
        messages.error(request, "Choose a print mode first.")
        return redirect("spots")
    active = RecipeWork.objects.filter(library=book, mode=mode, state__in=("queued", "running")).first()
    if active is None or active.looks_dead:
        made = RecipeWork(library=book, mode=mode)
        made.started_by_id = request.user.pk
        made.save()
        queue.start(made)
    messages.success(request, f"Recipes of {book.name} are being found; the list shows those that are there.")
    return redirect(f"{reverse('spots')}?mode={mode.pk}&book={book.pk}")


@takes(MAKE)
@require_POST
def spot_into_mode(request: HttpRequest) -> HttpResponse:
    """Jobs on a mode print the kept recipes of the ticked colours from now on."""
    mode = mode_asked(request)
    keys = [int(k) for k in request.POST.getlist("colour") if k.isdecimal()]
    try:
        if mode is None or not keys:
            raise BadInput("tick colours, and choose a print mode")
        colours = list(SpotRecord.objects.filter(pk__in=keys))
        found = recipes.find(mode, colours, request.user)
        held = recipes.put_into_mode(mode, found.values(), request.user)
        edition = held.editions.order_by("-number").first()
        said = f" in edition {edition.number}" if edition and held.state == "released" else ""
        messages.success(request, f"Jobs on {held.name} print these {len(found)} recipes{said}.")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect(f"{reverse('spots')}?mode={mode.pk if mode else ''}")
