"""What programs ask for, and what they deliver."""

from __future__ import annotations

import io
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Status

from greyanchor.api import schemas
from greyanchor.api.answers import check_facts, file_answer, import_facts, mode_facts, whole_mode_facts
from greyanchor.api.interface import api
from greyanchor.checks.models import Check
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Edition, PackImport, PrintMode
from greyanchor.library.modes import search
from greyanchor.library.packs import builder, importing
from greyanchor.measuring import inbox, waiting
from greyanchor.measuring.models import SheetPrint

#: most records of one answer
MOST = 200
#: largest body of readings, bytes
MOST_READINGS = 16 * 2**20

REFUSED = dict.fromkeys((401, 403, 404, 422), schemas.Refusal)
SENT = REFUSED | dict.fromkeys((400, 413), schemas.Refusal)


def binary(kind: str) -> dict[str, Any]:
    """How the description names an answer that is a file."""
    content = {kind: {"schema": {"type": "string", "format": "binary"}}}
    return {"responses": {200: {"description": "the file", "content": content}}}


def body(kind: str) -> dict[str, Any]:
    """How the description names a request whose body is a file."""
    content = {kind: {"schema": {"type": "string", "format": "binary"}}}
    return {"requestBody": {"required": True, "content": content}}


# --- print modes -----------------------------------------------------------------------------


@api.get("/modes", response={200: schemas.Modes, **REFUSED}, url_name="modes")
def mode_list(request: HttpRequest, asked: Query[schemas.ModeQuery]) -> Any:
    """Print modes, narrowed and searched."""
    found = search.find(request.GET, request.user)
    modes = [mode_facts(m) for m in found.modes]
    return {"total": found.total, "page": found.number, "pages": found.pages, "modes": modes}


def _mode(pk: int) -> PrintMode:
    ready = PrintMode.objects.select_related(
        "printer__site", "ink_set", "media__media_class", "preset", "profile"
    )
    return get_object_or_404(ready.defer("profile__fitted", "profile__boundary"), pk=pk)


@api.get("/modes/{int:pk}", response={200: schemas.WholeMode, **REFUSED}, url_name="mode")
def mode(request: HttpRequest, pk: int) -> Any:
    """One print mode with limits and handling settings."""
    return whole_mode_facts(_mode(pk))


@api.get(
    "/modes/{int:pk}/profile.icc",
    response=REFUSED,
    url_name="mode-profile",
    openapi_extra=binary("application/vnd.iccprofile"),
)
def mode_profile(request: HttpRequest, pk: int) -> HttpResponse:
    """Its ICC profile."""
    found = _mode(pk)
    if found.profile is None:
        raise BadInput(f"{found.name} has no profile yet")
    return file_answer(bytes(found.profile.data), found.profile.file_name, "application/vnd.iccprofile")


@api.get(
    "/modes/{int:pk}/pack.zip",
    response=REFUSED,
    url_name="mode-pack",
    openapi_extra=binary("application/zip"),
)
def mode_pack(request: HttpRequest, pk: int, edition: str = "") -> HttpResponse:
    """The mode as a pack, or as it was released in an edition."""
    found, out = _mode(pk), io.BytesIO()
    if edition:
        number = edition if edition.isdecimal() else 0
        kept = Edition.objects.select_related("released_by", "curve_set")
        builder.pack_edition(get_object_or_404(kept, mode=pk, number=number), out)
    else:
        builder.pack_modes([pk], builder.Label(found.name), out)
    return file_answer(out.getvalue(), f"mode-{pk}.zip", "application/zip")


# --- packs -----------------------------------------------------------------------------------


@api.post(
    "/packs",
    response={202: schemas.Import, **SENT},
    url_name="packs",
    openapi_extra=body("application/zip"),
)
def pack_receive(request: HttpRequest, name: str = "pack.zip") -> Any:
    """Deliver a pack, as the body or as the file ``pack`` of a form; a person decides what becomes of it."""
    sent = request.FILES.get("pack")
    chunks = sent.chunks() if sent else [request.body]
    if not sent and not request.body:
        raise BadInput("send the pack as the body, or as the file pack")
    user: Any = request.user
    job = importing.receive(str(sent.name) if sent else name, chunks, user)
    return Status(202, import_facts(job))


@api.get("/packs/{int:pk}", response={200: schemas.Import, **REFUSED}, url_name="import")
def pack_import(request: HttpRequest, pk: int) -> Any:
    """How an import goes."""
    return import_facts(get_object_or_404(PackImport, pk=pk))


# --- checks ----------------------------------------------------------------------------------


@api.get("/checks", response={200: schemas.Checks, **REFUSED}, url_name="checks")
def check_list(request: HttpRequest, mode: str = "", verdict: str = "") -> Any:
    """Checks, the newest first, of a mode (primary key) or with a verdict (pass or fail)."""
    found = Check.objects.defer("readings", "result", "diagnosis")
    if mode:
        found = found.filter(mode__in=PrintMode.objects.filter(pk=mode if mode.isdecimal() else 0))
    if verdict:
        found = found.filter(verdict=verdict)
    return {"total": found.count(), "checks": [check_facts(c) for c in found[:MOST]]}


@api.get("/checks/{int:pk}", response={200: schemas.WholeCheck, **REFUSED}, url_name="check")
def check(request: HttpRequest, pk: int) -> Any:
    """One check with its criteria."""
    found = get_object_or_404(Check, pk=pk)
    return check_facts(found) | {"criteria": found.criteria}


# --- charts and readings ---------------------------------------------------------------------


@api.get("/charts", response={200: schemas.Charts, **REFUSED}, url_name="charts")
def open_charts(request: HttpRequest) -> Any:
    """Prints that wait for readings; at most 200."""
    return {"charts": [_open_chart(p) for p in waiting.open_prints()[:MOST]]}


def _open_chart(job: SheetPrint) -> dict[str, Any]:
    return {
        "print": job.pk,
        "title": job.chart.title,
        "purpose": job.chart.purpose,
        "patches": len(job.chart.patches),
        "printer": job.printer.name if job.printer else None,
    }


@api.get("/charts/{int:pk}/chart.txt", response=REFUSED, url_name="chart", openapi_extra=binary("text/plain"))
def chart_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The chart of a print that waits: device values and places on its sheets, CGATS."""
    job = get_object_or_404(waiting.open_prints(), pk=pk)
    return file_answer(job.chart.text.encode(), f"print-{pk}.txt", "text/plain")


@api.post(
    "/readings",
    response={201: schemas.Delivery, **SENT, 422: schemas.Delivery | schemas.Refusal},
    url_name="readings",
    openapi_extra=body("text/plain"),
)
def readings(request: HttpRequest, name: str = "readings.txt", print: str = "") -> Any:
    """Deliver readings of a print (CGATS, CxF or CSV), as the body or as the file ``readings`` of a form.

    `print` is the print they are of; without it, it is found.
    """
    sent = request.FILES.get("readings")
    data = sent.read(MOST_READINGS + 1) if sent else request.body
    name = str(sent.name) if sent else name
    if not data:
        raise BadInput("send the readings as the body, or as the file readings")
    if len(data) > MOST_READINGS:
        raise BadInput(f"readings of at most {MOST_READINGS // 2**20} MB are taken", name)
    job = None
    if print:
        prints = SheetPrint.objects.select_related("chart")
        job = get_object_or_404(prints, pk=print if print.isdecimal() else 0)
    user: Any = request.user
    made = inbox.deliver(name, bytes(data), "program", user, job)
    facts = {"outcome": made.outcome, "reason": made.reason, "print": made.sheet_print_id}
    return (201 if made.outcome == made.Outcome.TAKEN else 422), facts
