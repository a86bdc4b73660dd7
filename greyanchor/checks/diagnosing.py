"""Diagnosis of a check, with the next step as a link."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from django.urls import reverse

from greyanchor.checks.models import Check
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.verification import own_inks
from greyanchor.core.verification.diagnosis import diagnose
from greyanchor.core.verification.explanations import Cause, Strip
from greyanchor.measuring.models import SheetPrint
from greyanchor.profiles.queries import aim_of

MOST = 3


def diagnosis_of(check: Check) -> list[dict[str, Any]]:
    """Ranked causes of a check's differences with evidence and next steps; worked out once, then kept."""
    if check.diagnosis is None:
        found = [*_of_single_inks(check), *(_text(check, cause) for cause in _causes(check))][:MOST]
        Check.objects.filter(pk=check.pk).update(diagnosis=found)
        check.diagnosis = found
    return list(check.diagnosis)


def _of_single_inks(check: Check) -> list[dict[str, Any]]:
    """Further inks and white that do not hold on their own patches: nothing else can be their cause."""
    out = []
    white = [check.own["white"] | {"channel": "White"}] if check.own.get("white") else []
    for ink in (*check.own.get("inks", ()), *white):
        if ink["holds"]:
            continue
        tones = ink.get("tones") or {}
        worst = max(tones.values(), key=abs, default=0.0)
        way = "heavier" if worst > 0 else "lighter"
        cause = Cause("channel", f"{ink['channel']} prints {way}", f"{ink['words']}.", 1.0, 0.0)
        if not tones:
            cause = replace(cause, title="White hides less, or is another white")
        out.append(_text(check, cause))
    return out


def _causes(check: Check) -> list[Cause]:
    r = check.result
    if r.get("device") is None or check.tolerances == "uniformity":
        return []
    expected = _good_day(check) or r["aim"]
    aim_condition = aim_of(check.aim).condition if check.aim else ""
    strip = Strip(
        _inks(check),
        np.array(expected),
        np.array(r["measured"]),
        None if r["rows"] is None else np.array(r["rows"]),
        None if r.get("sheets") is None else np.array(r["sheets"]),
        (aim_condition, check.condition),
    )
    try:
        return diagnose(strip)
    except BadInput:
        return []


def _inks(check: Check) -> Array:
    """Ink fractions (n, 4) that the strip was printed with, of each ink's limit, or its own device values."""
    device = np.array(check.result["device"]) / 100.0
    job = check.sheet_print
    if job is None or len(_of_strip(job)) != len(device) or len(job.sent[0]) < 4:
        return device
    sent = np.array(job.sent)[_of_strip(job), :4]
    limits = np.array([(check.mode.limits if check.mode else {}).get(c, 100.0) / 100.0 for c in "CMYK"])
    return np.asarray(np.clip(sent / np.maximum(limits, 0.05), 0.0, 1.0))


def _of_strip(job: SheetPrint) -> list[int]:
    """Which patches of a print are a strip's own, and not single inks."""
    names = job.chart.patches.names or ("",) * len(job.sent)
    return [i for i, name in enumerate(names) if not own_inks.is_own(name)]


def _good_day(check: Check) -> list[list[float]] | None:
    """What the same strip measured in the last passing check before, held to the same aim on the same
    mode.
    """
    if check.mode_id is None:
        return None
    earlier = Check.objects.filter(
        mode=check.mode_id,
        aim=check.aim_id,
        verdict="pass",
        withdrawn="",
        made_at__lt=check.made_at,
        corrected=check.corrected,
        profile=check.profile_id,
        condition=check.condition,
    ).defer("readings")
    for other in earlier[:5]:
        if (
            other.result.get("ids") == check.result["ids"]
            and other.result.get("device") == check.result["device"]
        ):
            return list(other.result["measured"])
    return None


def _text(check: Check, cause: Cause) -> dict[str, Any]:
    return {
        "key": cause.key,
        "title": cause.title,
        "evidence": cause.evidence,
        "explains": round(100.0 * cause.explains),
        "step": next_step(check, cause),
    }


def next_step(check: Check, cause: Cause) -> dict[str, str]:
    """The next step as words and an address, by cause."""
    mode, job = check.mode, check.sheet_print
    read = job.passes.order_by("-number").first() if job else None
    again = f"{reverse('check-new')}?mode={mode.pk}" if mode else reverse("check-new")
    if cause.key in ("rows", "patches", "sheets", "white", "condition"):
        words = {
            "rows": (
                f"Read row{'s' if len(cause.rows) > 1 else ''} {' and '.join(map(str, cause.rows))} again"
            ),
            "patches": "Read these patches again",
            "sheets": "Read the sheets again, in order",
            "white": "Calibrate on the white tile, then read again",
            "condition": "Read again as the aim was read",
        }[cause.key]
        if job is None or read is None or not read.rows.exists():
            return {"words": words, "address": again}
        rows = f"?rows={','.join(map(str, cause.rows))}" if cause.rows and "/prints/" in job.origin else ""
        return {"words": words, "address": f"{job.origin}{rows}"}
    if mode is None:
        return {"words": "Print the strip again and check it", "address": again}
    if cause.key == "paper":
        return {
            "words": "Look at the media, and check with a substrate-corrected aim",
            "address": f"{again}&corrected=on",
        }
    if cause.key == "profile":
        return {"words": "Look at what this mode prints through", "address": reverse("mode", args=[mode.pk])}
    return {
        "words": "Restore the mode to its baseline",
        "address": reverse("mode", args=[mode.pk]) + "#restore",
    }
