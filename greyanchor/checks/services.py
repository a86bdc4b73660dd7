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
from greyanchor.core.verification.tolerances import SHIPPED
from greyanchor.library.models import PrintMode
from greyanchor.library.services import signed
from greyanchor.profiles.models import AimRecord
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
) -> Check:
    """Compute a verdict and keep it; the mode remembers its last one."""
    result = run(readings, aim_of(aim), SHIPPED[tolerances], corrected)
    made = Check.objects.create(
        mode=mode,
        profile=mode.profile,
        aim=aim,
        tolerances=tolerances,
        corrected=corrected,
        verdict=result.verdict,
        summary=summary_of(result),
        criteria=[_criterion(f) for f in result.findings],
        result=_patches(result, readings),
        readings=cgats.dumps(readings),
        readings_hash=readings.content_hash(),
        condition=readings.condition,
        made_by=user,
    )
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


def _criterion(found: Finding) -> dict[str, Any]:
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


def _patches(result: CheckResult, readings: ReadingSet) -> dict[str, Any]:
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
