"""The ledger: what was printed, from what, with what, and what it took."""

from __future__ import annotations

from itertools import chain
from typing import Any
from urllib.parse import urlencode

from django.core.paginator import Paginator
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET
from PIL import Image

from greyanchor.core import cells
from greyanchor.library.models import Printer, PrintMode
from greyanchor.printroom import files, prints
from greyanchor.printroom.ledger import BY, COLUMNS, asked_of, before_and_after, lines_of, narrowed, used
from greyanchor.printroom.models import MediaRoll, Print
from greyanchor.printroom.trials import FAULTS

_PAGE = 24
#: what the form keeps of an address without showing it
_HIDDEN = ("edition", "artwork", "job", "run", "roll", "profile", "curves", "reading")


@require_GET
def ledger(request: HttpRequest) -> HttpResponse:
    """Prints, newest first."""
    asked = asked_of(request.GET)
    listed = (
        narrowed(asked)
        .select_related(
            "print_file__job",
            "print_file__run",
            "print_file__mode",
            "printer",
            "asked_by",
            "check_print__made_check",
        )
        .defer(
            "print_file__facts",
            "print_file__choices",
            "print_file__job__outcomes",
            "print_file__mode__environment",
            "print_file__run__places",
            "print_file__run__undo",
            "print_file__run__redo",
            "check_print__made_check__result",
            "check_print__made_check__readings",
            "check_print__made_check__criteria",
        )
    )
    pages = Paginator(listed, _PAGE)
    pages.__dict__["count"] = narrowed(asked, in_order=False).count()  # where it is kept once it is counted
    page = pages.get_page(request.GET.get("page", "1"))
    context: dict[str, Any] = {
        "page": page,
        "asked": asked,
        "address": urlencode({k: v for k, v in asked.items() if v}),
        "printers": Printer.objects.only("name"),
        "modes": PrintMode.objects.filter(print_files__isnull=False).distinct().only("name"),
        "states": Print.State.choices,
        "hidden": [(k, asked[k]) for k in _HIDDEN if asked[k]],
        "narrowed_by": _narrowed_by(asked),
        "by": BY.items(),
    }
    name = (
        "printroom/_ledger.html" if request.headers.get("HX-Target") == "ledger" else "printroom/ledger.html"
    )
    return render(request, name, context)


def _narrowed_by(asked: dict[str, str]) -> list[str]:
    """What the address narrows by that no field of the form says."""
    said = {
        "edition": "edition {}",
        "artwork": "one artwork",
        "job": "one job",
        "run": "one run",
        "profile": "one profile",
        "curves": "one set of curves",
        "reading": "readings {}",
    }
    found = [words.format(asked[key][:12]) for key, words in said.items() if asked[key]]
    if asked["roll"].isdecimal():
        roll = MediaRoll.objects.filter(pk=int(asked["roll"])).first()
        found.append(str(roll) if roll else f"roll {asked['roll']}")
    return found


@require_GET
def usage(request: HttpRequest) -> HttpResponse:
    """Ink and media of the prints that a query asks for, by week, mode, machine, job, media or person."""
    asked, by = asked_of(request.GET), request.GET.get("by", "week")
    by = by if by in BY else "week"
    rows = used(narrowed(asked, in_order=False), by)
    if request.GET.get("as") == "csv":
        lines = [(r.name, r.prints, f"{r.ink_ml:.3f}", f"{r.media_m:.3f}") for r in rows]
        return _csv((BY[by][0].lower(), "prints", "ink ml", "media m"), lines, f"used-by-{by}")
    most = max((r.ink_ml for r in rows), default=0.0)
    context = {
        "rows": [(r, r.share_of(most)) for r in rows],
        "by": by,
        "choices": BY.items(),
        "title": BY[by][0],
        "address": urlencode({k: v for k, v in asked.items() if v}),
        "totals": (sum(r.prints for r in rows), sum(r.ink_ml for r in rows), sum(r.media_m for r in rows)),
    }
    return render(request, "printroom/_usage.html", context)


@require_GET
def prints_csv(request: HttpRequest) -> StreamingHttpResponse:
    """The prints that a query asks for, as a table for other programs."""
    return _csv(COLUMNS, lines_of(narrowed(asked_of(request.GET))), "prints")


def _csv(columns: Any, lines: Any, name: str) -> StreamingHttpResponse:
    return StreamingHttpResponse(
        cells.lines(chain([columns], lines)),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )


@require_GET
def print_page(request: HttpRequest, pk: int) -> HttpResponse:
    """One print: from artwork to what lay on the table."""
    record = get_object_or_404(
        Print.objects.select_related(
            "print_file__job__artwork",
            "print_file__run",
            "print_file__mode__profile",
            "print_file__edition__curve_set",
            "print_file__edition__profile",
            "print_file__edition",
            "printer__site",
            "asked_by",
            "again_of",
            "roll",
            "check_print__made_check",
            "check_print__sheet_print",
        ),
        pk=pk,
    )
    jobs = record.print_file.jobs
    run = record.print_file.run
    panels = []
    if run is not None:
        panels = [(j["job"], j["panel"]) for j in record.print_file.ticket.get("jobs", []) if j["panel"]]
    seen = _seen_size(record)
    context = {
        "print": record,
        "seen": seen,
        "marks": _marks(record, seen),
        "kinds": FAULTS.items(),
        "size": prints.size_mm(record),
        "ticket": record.print_file.ticket,
        "mode": record.print_file.mode,
        "jobs": jobs,
        "panels": panels,
        "is_trial": run is not None and run.is_trial,
        "has_rest": run is not None and record.state in (Print.State.FAILED, Print.State.CANCELLED),
    }
    return render(request, "printroom/print.html", context)


def _seen_size(record: Print) -> tuple[int, int] | None:
    """Pixels of the picture of a print."""
    if not record.picture:
        return None
    try:
        with Image.open(files.local(record.picture)) as picture:
            return picture.size
    except OSError:
        return None


def _marks(record: Print, seen: tuple[int, int] | None) -> list[dict[str, Any]]:
    """Faults that are marked, in pixels of the picture and in words."""
    wide, tall = seen or (1, 1)
    radius = 0.022 * max(wide, tall)
    return [
        {
            **f,
            "px": f["x"] * wide,
            "py": f["y"] * tall,
            "pr": radius,
            "text_y": radius * 0.4,
            "words": FAULTS.get(f["kind"], f["kind"]),
            "across": 100.0 * f["x"],
            "along": 100.0 * f["y"],
        }
        for f in record.faults
    ]


@require_GET
def print_seen(request: HttpRequest, pk: int) -> HttpResponse:
    """The picture of a print."""
    record = get_object_or_404(Print.objects.only("picture"), pk=pk)
    if not record.picture:
        raise Http404("no picture")
    return FileResponse(files.opened(record.picture), content_type="image/png")


@require_GET
def mode_before_after(request: HttpRequest, pk: int) -> HttpResponse:
    """Prints of the same artwork made before and after a mode was restored or released, side by side."""
    mode = get_object_or_404(PrintMode, pk=pk)
    return render(request, "printroom/before_after.html", {"mode": mode, "pairs": before_and_after(pk)})
