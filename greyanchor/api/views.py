"""What programs ask for, and what they deliver."""

from __future__ import annotations

import io
from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404
from django.urls import reverse

from greyanchor.checks.models import Check
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Edition, PackImport, PrintMode
from greyanchor.library.modes import search
from greyanchor.library.packs import builder, importing
from greyanchor.library.records.effective_settings import in_force, in_force_facts
from greyanchor.measuring import inbox
from greyanchor.measuring.models import SheetPrint

#: most records of one answer
MOST = 200
#: largest body of readings, bytes
MOST_READINGS = 16 * 2**20


def _file(data: bytes, name: str, kind: str) -> HttpResponse:
    return HttpResponse(
        data, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


def mode_facts(mode: PrintMode, whole: bool = False) -> dict[str, Any]:
    """A print mode as programs see it; `whole` adds limits, environment and handling settings."""
    facts: dict[str, Any] = {
        "id": mode.pk,
        "name": mode.name,
        "state": mode.state,
        "version": mode.version,
        "printer": mode.printer.name,
        "site": mode.printer.site.name,
        "ink_set": mode.ink_set.name,
        "media": mode.media.name,
        "media_class": mode.media.media_class.name,
        "maker": mode.media.maker,
        "resolution": mode.environment.get("resolution"),
        "passes": mode.environment.get("passes"),
        "speed_m2h": mode.speed and round(mode.speed, 2),
        "verdict": mode.last_verdict or "none",
        "calibrated_at": mode.calibrated_at.isoformat() if mode.calibrated_at else None,
        "changed_at": mode.changed_at.isoformat(),
        "url": reverse("api-mode", args=[mode.pk]),
    }
    if whole:
        facts |= {
            "environment": mode.environment,
            "limits": mode.limits,
            "total_ink": mode.total_ink,
            "note": mode.note,
            "handling": in_force_facts(in_force(mode)),
            "editions": list(mode.editions.values_list("number", flat=True)),
            "profile_url": reverse("api-mode-profile", args=[mode.pk]) if mode.profile_id else None,
            "pack_url": reverse("api-mode-pack", args=[mode.pk]),
        }
    return facts


def mode_list(request: HttpRequest) -> HttpResponse:
    """Modes, narrowed and searched by the same words as the finding page."""
    found = search.find(request.GET, request.user)
    return JsonResponse(
        {
            "total": found.total,
            "page": found.number,
            "pages": found.pages,
            "modes": [mode_facts(m) for m in found.modes],
        }
    )


def _mode(pk: int) -> PrintMode:
    ready = PrintMode.objects.select_related(
        "printer__site", "ink_set", "media__media_class", "preset", "profile"
    )
    return get_object_or_404(ready.defer("profile__fitted", "profile__boundary"), pk=pk)


def mode(request: HttpRequest, pk: int) -> HttpResponse:
    return JsonResponse(mode_facts(_mode(pk), whole=True))


def mode_profile(request: HttpRequest, pk: int) -> HttpResponse:
    found = _mode(pk)
    if found.profile is None:
        raise BadInput(f"{found.name} has no profile yet")
    return _file(bytes(found.profile.data), found.profile.file_name, "application/vnd.iccprofile")


def mode_pack(request: HttpRequest, pk: int) -> HttpResponse:
    """A mode as a pack; ``?edition=N`` as it was released."""
    found, out, number = _mode(pk), io.BytesIO(), request.GET.get("edition", "")
    if number:
        edition = get_object_or_404(
            Edition.objects.select_related("released_by", "curve_set"),
            mode=pk,
            number=number if number.isdecimal() else 0,
        )
        builder.pack_edition(edition, out)
    else:
        builder.pack_modes([pk], builder.Label(found.name), out)
    return _file(out.getvalue(), f"mode-{pk}.zip", "application/zip")


def import_facts(job: PackImport) -> dict[str, Any]:
    """An import as programs see it."""
    plan = job.plan or {}
    return {
        "id": job.pk,
        "name": job.name,
        "step": job.step,
        "state": job.state,
        "message": job.message,
        "progress": job.progress,
        "modes": [{"name": m["name"], "action": m["action"]} for m in plan.get("modes", [])],
        "result": job.result,
        "url": reverse("api-import", args=[job.pk]),
    }


def pack_receive(request: HttpRequest) -> HttpResponse:
    """A pack as the body, or as the file ``pack`` of a form; it is tested in the background and decided by a
    person.
    """
    sent = request.FILES.get("pack")
    chunks = sent.chunks() if sent else [request.body]
    if not sent and not request.body:
        raise BadInput("send the pack as the body, or as the file pack")
    job = importing.receive(
        str(sent.name) if sent else request.GET.get("name", "pack.zip"), chunks, request.user
    )  # type: ignore[arg-type]
    return JsonResponse(import_facts(job), status=202)


def pack_import(request: HttpRequest, pk: int) -> HttpResponse:
    return JsonResponse(import_facts(get_object_or_404(PackImport, pk=pk)))


def check_facts(check: Check, whole: bool = False) -> dict[str, Any]:
    """A check as programs see it."""
    facts: dict[str, Any] = {
        "id": check.pk,
        "mode": check.mode_id,
        "aim": check.aim_name,
        "tolerances": check.tolerances,
        "verdict": check.verdict,
        "summary": check.summary,
        "made_at": check.made_at.isoformat(),
        "signed": check.signed_at is not None,
        "url": reverse("api-check", args=[check.pk]),
    }
    if whole:
        facts["criteria"] = check.criteria
    return facts


def check_list(request: HttpRequest) -> HttpResponse:
    """Checks, the newest first; ``?mode=`` and ``?verdict=`` narrow them."""
    found = Check.objects.defer("readings", "result", "diagnosis")
    if mode_pk := request.GET.get("mode", ""):
        found = found.filter(mode__in=PrintMode.objects.filter(pk=mode_pk if mode_pk.isdecimal() else 0))
    if verdict := request.GET.get("verdict", ""):
        found = found.filter(verdict=verdict)
    return JsonResponse({"total": found.count(), "checks": [check_facts(c) for c in found[:MOST]]})


def check(request: HttpRequest, pk: int) -> HttpResponse:
    return JsonResponse(check_facts(get_object_or_404(Check, pk=pk), whole=True))


def open_charts(request: HttpRequest) -> HttpResponse:
    """Prints that wait for readings."""
    return JsonResponse(
        {
            "charts": [
                {
                    "print": p.pk,
                    "title": p.chart.title,
                    "purpose": p.chart.purpose,
                    "patches": len(p.chart.patches),
                    "printer": p.printer.name if p.printer else None,
                }
                for p in inbox.open_prints()[:MOST]
            ]
        }
    )


def chart_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The chart of a print that waits: device values and places on its sheets, for whoever reads it
    elsewhere.
    """
    job = get_object_or_404(inbox.open_prints(), pk=pk)
    return _file(job.chart.text.encode(), f"print-{pk}.txt", "text/plain")


def readings(request: HttpRequest) -> HttpResponse:
    """Readings as the body, or as the file ``readings`` of a form; ``?print=`` names the print, else it is
    found.
    """
    sent = request.FILES.get("readings")
    data = sent.read(MOST_READINGS + 1) if sent else request.body
    name = str(sent.name) if sent else request.GET.get("name", "readings.txt")
    if not data:
        raise BadInput("send the readings as the body, or as the file readings")
    if len(data) > MOST_READINGS:
        raise BadInput(f"readings of at most {MOST_READINGS // 2**20} MB are taken", name)
    number = request.GET.get("print", "")
    job = (
        get_object_or_404(SheetPrint.objects.select_related("chart"), pk=number if number.isdecimal() else 0)
        if number
        else None
    )
    made = inbox.deliver(name, bytes(data), "program", request.user, job)
    facts = {"outcome": made.outcome, "reason": made.reason, "print": made.sheet_print_id}
    return JsonResponse(facts, status=201 if made.outcome == made.Outcome.TAKEN else 422)
