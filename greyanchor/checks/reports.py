"""A check in other forms: report, label and JSON."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.utils import timezone

from greyanchor.checks.models import Check
from greyanchor.checks.queries import UNITS
from greyanchor.checks.services import amended
from greyanchor.drawing.labels import LabelFacts
from greyanchor.drawing.report import Line, ReportFacts

#: figures that a label has room for
_ON_LABEL = 6


def paper_text(check: Check) -> str:
    """How the aim's paper was taken."""
    if check.tolerances in ("uniformity", "repeatability"):
        return "the print itself"
    return "substrate-corrected" if check.corrected else "paper as the aim has it"


def guard_text(check: Check) -> str:
    """The guard band in words."""
    found = check.guard
    if not found:
        return "not worked out"
    basis = "found by two readings of this sheet" if found["measured"] else "assumed, read once"
    scatter = f"with an instrument that repeats to {found['repeatability']:.2f} dE00 ({basis})"
    if found["sure"]:
        words = ("passes", "pass") if check.verdict == "pass" else ("fails", "fail")
        return f"{words[0]}, and would {words[1]} again 19 times of 20, {scatter}"
    return f"too close to call: the verdict would stay {20 * found['share']:.0f} times of 20, {scatter}"


def facts_of(check: Check) -> list[tuple[str, str]]:
    """What a reader wants to know of a check, as label and text."""
    made = timezone.localtime(check.made_at)
    printer = check.printer
    items = [
        ("Aim", f"{check.aim_name}, {paper_text(check)}"),
        ("Tolerances", _tolerances(check)),
        ("Verdict stands", guard_text(check)),
        ("Print mode", check.mode.name if check.mode else "none named"),
        ("Printer", f"{printer.name}, {printer.serial}, {printer.site.name}" if printer else "none named"),
        ("Profile", check.profile.title if check.profile else "none named"),
        ("Read", f"{check.condition}, D50, 2 degrees; {check.device or 'instrument not named'}"),
        ("Made", f"{made:%-d %B %Y %H:%M %Z} by {_name(check.made_by)}"),
    ]
    if check.signed_at:
        items.append(
            (
                "Signed off",
                f"{timezone.localtime(check.signed_at):%-d %B %Y %H:%M %Z} by {_name(check.signed_by)}",
            )
        )
    if check.note:
        items.append(("Note", check.note))
    return items


def _tolerances(check: Check) -> str:
    edition, source = check.tolerance_data.get("edition", ""), check.tolerance_data.get("source", "")
    text = f"{check.tolerance_title} ({source})" if source else check.tolerance_title
    return f"{text}, edition {edition}" if edition and edition not in text else text


def _name(user: Any) -> str:
    return (user.get_full_name() or user.get_username()) if user else "nobody named"


def notes_of(check: Check) -> list[str]:
    """Warnings of a check, and whether it was changed after it was signed off."""
    items = list(check.notes)
    if not check.is_unchanged:
        items.append("This check is no longer as it was made: its seal does not match.")
    if amended(check):
        items.append("Name or note were changed after this check was signed off; the trace is on its page.")
    return items


def report_facts(check: Check) -> ReportFacts:
    """Everything the PDF report says."""
    r = check.result

    def places(name: str) -> Any:
        return None if r.get(name) is None else np.array(r[name])

    lines = [
        Line(
            c["title"],
            c["patches"],
            "-" if c["value"] is None else f"{c['value']:.2f} {c['unit']}",
            f"{c['limit']:.1f}",
            "" if c["left"] is None else f"{c['left']:+.2f}",
            c["used"],
            f"{c['verdict']}, near" if c.get("near") else c["verdict"],
        )
        for c in check.criteria
        if c["limit"] is not None
    ]
    extra = "; ".join(
        f"{c['title']} {c['value']:.2f}"
        for c in check.criteria
        if c["limit"] is None and c["value"] is not None
    )
    return ReportFacts(
        check.title,
        check.verdict,
        check.summary,
        check.grade,
        facts_of(check),
        lines,
        notes_of(check),
        r["ids"],
        None if r["device"] is None else np.array(r["device"]),
        np.array(r["aim"]),
        np.array(r["measured"]),
        np.array(r["differences"]),
        places("rows"),
        places("columns"),
        UNITS[r["measure"]],
        f"Reported without a limit: {extra}." if extra else "",
        [f"{c['title']}: {c['evidence']}" for c in (check.diagnosis or [])[:2]]
        if check.verdict == "fail"
        else [],
        f"Grey Anchor, check {check.pk}, seal {check.seal[:16]}, {_earlier(check)}"
        f"readings {check.readings_hash[:16]}",
        check.made_at,
    )


def label_facts(check: Check, address: str) -> LabelFacts:
    """What a label says; the figures nearest their limits come first."""
    limited = sorted(
        (c for c in check.criteria if c["limit"] is not None and c["value"] is not None),
        key=lambda c: -(c["value"] / c["limit"]),
    )
    figures = [f"{c['value']:.2f} of {c['limit']:.1f} {c['unit']}  {c['title']}" for c in limited[:_ON_LABEL]]
    untested = [c["title"] for c in check.criteria if c["verdict"] == "not tested"]
    facts = [
        ("Aim", f"{check.aim_name}, {paper_text(check)}"),
        ("Tolerances", check.tolerance_title),
        ("Made", f"{timezone.localtime(check.made_at):%-d %b %Y %H:%M} by {_name(check.made_by)}"),
        ("Device", check.printer.name if check.printer else "none named"),
    ]
    if untested:
        facts.append(("Not tested", ", ".join(untested)))
    return LabelFacts(check.title, check.verdict, check.grade, facts, figures, address)


def as_json(check: Check) -> dict[str, Any]:
    """Everything about a check as plain values."""
    return {
        "id": check.pk,
        "name": check.title,
        "verdict": check.verdict,
        "grade": check.grade or None,
        "score": check.score,
        "summary": check.summary,
        "tolerances": check.tolerances,
        "tolerance_set": check.tolerance_data,
        "aim": check.aim_name,
        "substrate_corrected": check.corrected,
        "other_paper": check.other_paper or None,
        "criteria": check.criteria,
        "guard": check.guard,
        "notes": notes_of(check),
        "diagnosis": check.diagnosis,
        "patches": check.result,
        "condition": check.condition,
        "readings_hash": check.readings_hash,
        "seal": check.seal,
        "mode": check.mode.name if check.mode else None,
        "printer": check.printer.name if check.printer else None,
        "made_at": check.made_at.isoformat(),
        "made_by": _name(check.made_by),
        "signed_at": check.signed_at.isoformat() if check.signed_at else None,
        "signed_by": _name(check.signed_by) if check.signed_by else None,
        "amendments": [
            {
                "what": a.what,
                "before": a.before,
                "after": a.after,
                "why": a.why,
                "at": a.at.isoformat(),
                "by": _name(a.by),
            }
            for a in check.amendments.select_related("by")
        ],
    }


def _earlier(check: Check) -> str:
    """The seal that reports of an earlier version name, where it was another one."""
    return f"earlier {check.earlier_seal[:16]}, " if check.earlier_seal else ""
