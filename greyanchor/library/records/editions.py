"""Editions: print modes as they were released, kept for good."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.library.models import Edition, PrintMode
from greyanchor.library.records.effective_settings import in_force, in_force_facts


def keep_edition(
    mode: PrintMode, evidence: list[dict[str, Any]], user: User | None, exception: str = ""
) -> Edition:
    """Keep a mode as it is now, for good, in the name of whoever released or changed it."""
    content = {
        "name": mode.name,
        "environment": mode.environment,
        "limits": mode.limits,
        "total_ink": mode.total_ink,
        "splits": mode.splits,
        "planes": mode.planes,
        "film": mode.film,
        "inherited": mode.inherited,
        "handling": mode.handling,
        "preset": mode.preset.name if mode.preset else None,
        "preset_handling": mode.preset.handling if mode.preset else {},
        "class_handling": mode.media.media_class.handling,
        "in_force": in_force_facts(in_force(mode)),
        "verdict": mode.last_verdict,
        "check_summary": mode.last_check_summary,
        "calibrated_at": mode.calibrated_at.isoformat() if mode.calibrated_at else None,
    }
    if mode.recipes:
        content["recipes"] = mode.recipes
    last = mode.editions.order_by("-number").values_list("number", flat=True).first() or 0
    found = json.dumps(
        [
            content,
            mode.profile.sha256 if mode.profile else "",
            mode.curve_set.sha256 if mode.curve_set else "",
        ],
        sort_keys=True,
    )
    return Edition.objects.create(
        mode=mode,
        number=last + 1,
        mode_version=mode.version,
        content=content,
        content_hash=hashlib.sha256(found.encode()).hexdigest(),
        curve_set=mode.curve_set,
        profile=mode.profile,
        readings=mode.readings,
        evidence=evidence,
        exception=exception,
        note=mode.note,
        released_at=timezone.now(),
        released_by=user,
    )
