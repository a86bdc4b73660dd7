"""Making checks."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction

from greyanchor.checks.models import Check
from greyanchor.core.formats import cgats
from greyanchor.core.readings import ReadingSet
from greyanchor.core.verification.check import CheckResult, Finding
from greyanchor.core.verification.check import check as run
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.library.models import PrintMode
from greyanchor.library.services import signed
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import aim_of

_UNITS = {"de00": "dE00", "de76": "dE*ab", "dh": "dH", "dch": "dCh", "dl": "dL*", "dc": "dC*"}


@transaction.atomic
def make_check(
    mode: PrintMode,
    readings: ReadingSet,
    aim: AimRecord,
    tolerances: str,
    corrected: bool,
    user: AbstractBaseUser | None,
    profile: Profile | None = None,
) -> Check:
    """Compute a verdict and keep it; the mode remembers its last one.

    `profile` is the one the print went through; for one that is not the mode's yet, the mode in
    production keeps the verdict of its own.
    """
    profile = profile or mode.profile
    result = run(readings, aim_of(aim), SHIPPED[tolerances], corrected)
    made = Check.objects.create(
        mode=mode,
        profile=profile,
        aim=aim,
        tolerances=tolerances,
        corrected=corrected,
        verdict=result.verdict,
        summary=summary_of(result),
        criteria=[criterion_facts(f) for f in result.findings],
        result=patch_facts(result, readings),
        readings=cgats.dumps(readings),
        readings_hash=readings.content_hash(),
        condition=readings.condition,
        made_by=user,
    )
    if profile != mode.profile:
        return made
    mode.last_verdict, mode.last_check_summary = made.verdict, made.summary
    signed(mode, user, f"checked: {made.verdict}").save(
        update_fields=["last_verdict", "last_check_summary", "changed_at"]
    )
    return made


def summary_of(result: CheckResult) -> str:
    """One line: what failed and by how much, or the figure nearest its limit."""
    limited = [f for f in result.findings if f.criterion.limit is not None and f.value is not None]
    failed = [f for f in limited if f.verdict == "fail"]
    if failed:
        return "; ".join(f"{f.criterion.title} {f.value:.2f} over {f.criterion.limit:.1f}" for f in failed)[
            :200
        ]
    nearest = max(limited, key=lambda f: (f.value or 0.0) / (f.criterion.limit or 1.0))
    return (
        f"nearest its limit: {nearest.criterion.title} {nearest.value:.2f} of {nearest.criterion.limit:.1f}"
    )


def criterion_facts(found: Finding) -> dict[str, Any]:
    """A finding as plain values: value, limit, what is left and what is used of it."""
    limit, value = found.criterion.limit, found.value
    return {
        "id": found.criterion.id,
        "title": found.criterion.title,
        "unit": _UNITS[found.criterion.measure],
        "value": value,
        "limit": limit,
        "left": found.left,
        "used": None if value is None or limit is None else min(100.0 * value / limit, 100.0),
        "patches": found.count,
        "verdict": found.verdict,
    }


def patch_facts(result: CheckResult, readings: ReadingSet) -> dict[str, Any]:
    """Patches of a check as plain values, in the places they have on the strip."""

    def rounded(values: np.ndarray, digits: int) -> Any:
        return np.round(values, digits).tolist()

    return {
        "ids": list(result.ids),
        "rows": None if readings.rows is None else readings.rows.tolist(),
        "columns": None if readings.columns is None else readings.columns.tolist(),
        "device": rounded(100.0 * result.device, 2),
        "aim": rounded(result.aim, 3),
        "measured": rounded(result.measured, 3),
        "differences": rounded(result.differences, 4),
        "measure": result.measure,
    }
