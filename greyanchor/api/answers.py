"""Records as programs see them."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.urls import reverse

from greyanchor.checks.models import Check
from greyanchor.library.models import PackImport, PrintMode
from greyanchor.library.records.effective_settings import in_force, in_force_facts


def file_answer(data: bytes, name: str, kind: str) -> HttpResponse:
    """A file to be saved."""
    disposition = f'attachment; filename="{name}"'
    return HttpResponse(data, content_type=kind, headers={"Content-Disposition": disposition})


def mode_facts(mode: PrintMode) -> dict[str, Any]:
    """A print mode in a list."""
    return {
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
        "url": reverse("api:mode", args=[mode.pk]),
    }


def whole_mode_facts(mode: PrintMode) -> dict[str, Any]:
    """The same with limits, environment and handling settings."""
    return mode_facts(mode) | {
        "environment": mode.environment,
        "limits": mode.limits,
        "total_ink": mode.total_ink,
        "note": mode.note,
        "handling": in_force_facts(in_force(mode)),
        "editions": list(mode.editions.values_list("number", flat=True)),
        "profile_url": reverse("api:mode-profile", args=[mode.pk]) if mode.profile_id else None,
        "pack_url": reverse("api:mode-pack", args=[mode.pk]),
    }


def import_facts(job: PackImport) -> dict[str, Any]:
    """An import."""
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
        "url": reverse("api:import", args=[job.pk]),
    }


def check_facts(check: Check) -> dict[str, Any]:
    """A check in a list."""
    return {
        "id": check.pk,
        "mode": check.mode_id,
        "aim": check.aim_name,
        "tolerances": check.tolerances,
        "verdict": check.verdict,
        "summary": check.summary,
        "made_at": check.made_at.isoformat(),
        "signed": check.signed_at is not None,
        "url": reverse("api:check", args=[check.pk]),
    }
