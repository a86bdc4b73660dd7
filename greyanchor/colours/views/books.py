"""Pages of swatch books: the list, one book on its way from the printer to better recipes."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.colours import books, recipes
from greyanchor.colours.forms import BookForm
from greyanchor.colours.models import SwatchBook
from greyanchor.core.charts import sheet_pdf, sheets
from greyanchor.core.charts.swatches import Steps
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.numbers import parse_number
from greyanchor.core.profiling.recipe_learning import expected_reading
from greyanchor.core.profiling.recipes import OUT_OF_REACH
from greyanchor.drawing.colours import hex_colours
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.prints import print_view
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file
from greyanchor.profiles.models import SpotLibrary, SpotRecord

_SHOWN = 100


@require_GET
def book_list(request: HttpRequest) -> HttpResponse:
    """Every book, newest first."""
    found = SwatchBook.objects.select_related("mode", "sheet_print", "made_by")[:_SHOWN]
    rows = [{"book": b, "age": books.age_of(b), **_figures(b)} for b in found]
    return render(request, "colours/book_list.html", {"rows": rows})


def _figures(book: SwatchBook) -> dict[str, Any]:
    misses = book.results.get("misses") or []
    if not misses:
        return {"mean": None}
    values = np.array(misses)
    return {
        "mean": float(values.mean()),
        "p95": float(np.percentile(values, 95)),
        "most": float(values.max()),
    }


@takes(MAKE)
@require_POST
def book_new(request: HttpRequest) -> HttpResponse:
    """Lay out a book for one mode or several; colours are those that were ticked, or a whole library."""
    form = BookForm(request.POST)
    keys = [int(k) for k in request.POST.getlist("colour") if k.isdecimal()]
    try:
        if not form.is_valid():
            raise BadInput(
                "; ".join(f"{form[k].label}: {' '.join(map(str, v))}" for k, v in form.errors.items())
            )
        colours = list(SpotRecord.objects.filter(pk__in=keys).select_related("library"))
        number = request.POST.get("book", "")
        if not colours and number.isdecimal():
            library = get_object_or_404(SpotLibrary, pk=int(number))
            colours = list(library.colours.select_related("library"))
        near = request.POST.get("near")
        steps = _steps(request) if near else Steps()
        layout = form.layout("near" if near else "", steps)
        made = books.make(
            list(form.cleaned_data["modes"]), colours, layout, request.user, form.cleaned_data["title"]
        )
    except BadInput as error:
        messages.error(request, f"{error.sentence} No book was made.")
        return redirect("spots")
    messages.success(request, f"{len(made)} book{'s' if len(made) > 1 else ''} laid out; print and read.")
    return redirect("book", pk=made[0].pk) if len(made) == 1 else redirect("books")


def _steps(request: HttpRequest) -> Steps:
    usual = Steps()
    values = {
        name: parse_number(request.POST[name]) if request.POST.get(name) else getattr(usual, name)
        for name in ("lightness", "chroma", "hue")
    }
    return Steps(**values, count=usual.count)


def _book(pk: int) -> SwatchBook:
    found = SwatchBook.objects.select_related(
        "mode__printer__site",
        "mode__media",
        "mode__ink_set",
        "mode__profile",
        "sheet_print__chart",
        "sheet_print__printer",
        "made_by",
        "centre__library",
    ).defer("mode__profile__data", "mode__profile__fitted")
    return get_object_or_404(found, pk=pk)


@require_GET
def book_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A book: print it, read it, see every difference, learn, and print the next."""
    book = _book(pk)
    newest = {r.colour_id: r for r in books.recipes_in(book)}
    asked = hex_colours(np.array([r["lab"] for r in book.rows]).reshape(-1, 3))
    seen = hex_colours(np.array(book.results["lab"])) if book.results else []
    rows = []
    for i, row in enumerate(book.rows):
        later = newest.get(row.get("colour"))
        rows.append(
            {
                **row,
                "number": i,
                "chip": asked[i],
                "seen": seen[i] if seen else "",
                "read_lab": book.results["lab"][i] if seen else None,
                "miss_read": book.results["misses"][i] if seen else None,
                "next": later if later is not None and later.pk != row.get("recipe") else None,
                "expected": expected_reading(later.miss, recipes.NOISE) if later is not None else None,
                "is_out": later is not None and later.miss > OUT_OF_REACH,
            }
        )
    if book.results:
        rows.sort(key=lambda r: -r["miss_read"])
    waiting = [r["expected"] for r in rows if r["next"] is not None]
    context = {
        "book": book,
        "pv": print_view(book.sheet_print, 1),
        "age": books.age_of(book),
        "rows": rows,
        "noise": recipes.NOISE,
        "waiting": len(waiting),
        "expected": float(np.mean(waiting)) if waiting else None,
        "others": SwatchBook.objects.filter(batch=book.batch).exclude(pk=pk).select_related("mode"),
        "learns": any(r.get("recipe") for r in book.rows),
        **_figures(book),
    }
    return render(request, "colours/book_page.html", context)


@require_POST
def book_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Print the book, read it, or take a file of readings."""
    book = _book(pk)
    job = book.sheet_print
    try:
        if act == "print":
            printed = print_sheet(job.pk, request.user)
            dry = printed.minutes_to_dry
            messages.success(
                request, f"Printed. {f'Dry in {dry:.0f} minutes.' if dry > 0.5 else 'It can be read now.'}"
            )
        elif act == "read":
            return redirect("reading", pk=start_pass(job, request.user, request.POST.get("condition", "")).pk)
        else:
            return redirect("upload", pk=take_file(request, job).pk)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
    return redirect("book", pk=pk)


@require_GET
def book_sheets(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """The sheets of a book, raw, with the names under the colours."""
    chart = _book(pk).sheet_print.raw_chart
    made = {"tif": sheets.tiff, "pdf": sheet_pdf.pdf, "txt": lambda c: cgats.dumps(c).encode()}[ending](chart)
    kind = {"tif": "image/tiff", "pdf": "application/pdf", "txt": "text/plain; charset=utf-8"}[ending]
    headers = {"Content-Disposition": f'attachment; filename="swatch-book-{pk}.{ending}"'}
    return HttpResponse(made, content_type=kind, headers=headers)


@takes(MAKE)
@require_POST
def book_learn(request: HttpRequest, pk: int) -> HttpResponse:
    """The next recipe of every colour of a book that was read."""
    book = _book(pk)
    try:
        found = recipes.learn(book.mode, books.recipes_in(book), request.user)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("book", pk=pk)
    parts = [f"{len(found.made)} better recipes" if found.made else "no recipe can be made better"]
    if found.reached:
        parts.append(f"{found.reached} are within the noise of a reading")
    if found.out_of_reach:
        parts.append(f"{found.out_of_reach} out of reach of these inks")
    messages.success(request, f"{'; '.join(parts)[:1].upper()}{'; '.join(parts)[1:]}.")
    return redirect("book", pk=pk)


@takes(MAKE)
@require_POST
def book_again(request: HttpRequest, pk: int) -> HttpResponse:
    """The same colours with the recipes of now, as the next book."""
    book = _book(pk)
    keys = [r["colour"] for r in book.rows if r.get("colour")]
    colours = list(SpotRecord.objects.filter(pk__in=keys))
    facts = book.sheet_print.chart.patches.meta
    layout = books.BookLayout(
        book.kind,
        facts.get("PAGE", "a4"),
        facts.get("METHOD", "strip"),
        float(facts["PATCH_WIDTH"]) if facts.get("PATCH_WIDTH") else None,
    )
    try:
        made = books.make([book.mode], colours, layout, request.user, book.title)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("book", pk=pk)
    return redirect("book", pk=made[0].pk)


@takes(MAKE)
@require_POST
def book_into_mode(request: HttpRequest, pk: int) -> HttpResponse:
    """Jobs print the newest recipes of a book's colours from now on."""
    book = _book(pk)
    try:
        held = recipes.put_into_mode(book.mode, books.recipes_in(book), request.user)
        messages.success(request, f"Jobs on {held.name} print these recipes.")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("book", pk=pk)


@takes(MAKE)
@require_POST
def book_keep(request: HttpRequest, pk: int) -> HttpResponse:
    """The neighbour that somebody chose, as a colour of its own."""
    book = _book(pk)
    number = request.POST.get("number", "")
    try:
        position = int(number) if number.isdecimal() else -1
        made = books.keep_neighbour(book, position, request.POST.get("name", ""), request.user)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("book", pk=pk)
    messages.success(request, f"{made.name} is kept in {made.library.name}.")
    return redirect("spot", pk=made.pk)
