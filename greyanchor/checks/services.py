"""Making checks, signing them off, and the trace of every later change."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Count
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.checks.models import Check, CheckAmendment, CheckFigure
from greyanchor.checks.tolerance_sets import tolerance_set
from greyanchor.checks.trends import watch
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.inks import WHITE
from greyanchor.core.verification import aims, own_inks
from greyanchor.core.verification.check import CheckResult, Finding
from greyanchor.core.verification.check import check as run
from greyanchor.core.verification.guard import Guard, Scatter, guard, scatter_of
from greyanchor.core.verification.shipped import AGAINST_ITSELF
from greyanchor.core.verification.spots import SpotColour
from greyanchor.core.verification.tolerances import MEASURES
from greyanchor.library.models import Printer, PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.services import passes_of
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import aim_of, model_of

#: failed criteria that a summary names
_NAMED = 2


@dataclass(frozen=True)
class Order:
    """What a print is held to.

    `aim` is None for prints held to themselves: the mean of their places, or the check `against`.
    """

    aim: AimRecord | None
    tolerances: str
    corrected: bool = False
    leave_out: bool = False
    spots: dict[str, SpotColour] = field(default_factory=dict)
    against: Check | None = None

    def target(self, readings: ReadingSet) -> aims.Aim:
        """The aim of the core, with the spot colours; `BadInput` when there is nothing to hold the print
        to.
        """
        if self.tolerances == "uniformity":
            return aims.of_places(readings)
        if self.against is not None:
            return aims.from_data(cgats.loads(self.against.readings), f"check {self.against.pk}")
        if self.tolerances in AGAINST_ITSELF:
            raise BadInput("repeatability holds a print to another check: choose which")
        if self.aim is None and self.tolerances == "g7-grayscale":
            return aims.grey_anchors(readings)
        if self.aim is None:
            raise BadInput("choose the aim that the print is held to")
        found = aim_of(self.aim)
        return aims.with_spots(found, self.spots) if self.spots else found


@dataclass(frozen=True)
class Subject:
    """What was printed, as far as it is known: any of these may be missing."""

    mode: PrintMode | None = None
    profile: Profile | None = None
    printer: Printer | None = None
    sheet_print: SheetPrint | None = None
    name: str = ""
    device: str = ""


@needs(USE)
@transaction.atomic
def make_check(
    subject: Subject,
    readings: ReadingSet,
    order: Order,
    user: User | None,
    made_at: datetime | None = None,
) -> Check:
    """Compute a verdict and keep it with everything it is based on; the mode remembers its last one.

    The profile of `subject` is the one the print went through; for one that is not the mode's yet, the mode
    in production keeps the verdict of its own. Raises `BadInput` when print and aim do not belong together.
    """
    mode, job = subject.mode, subject.sheet_print
    profile = subject.profile or (mode.profile if mode else None)
    readings, own = own_inks.apart(readings)
    tolerances, target = tolerance_set(order.tolerances), order.target(readings)
    aim = None if order.tolerances in AGAINST_ITSELF else order.aim
    result = run(readings, target, tolerances, order.corrected, order.leave_out)
    passes = passes_of(job) if job else []
    alone = _single_inks(readings, own, mode, profile)
    verdict = "fail" if alone is not None and not alone.holds else result.verdict
    firm = guard(result, scatter_of(passes) or _scatter_before(job), max(len(passes), 1))
    made = Check.objects.create(
        name=subject.name[:160],
        mode=mode,
        profile=profile,
        printer=subject.printer or (mode.printer if mode else None),
        sheet_print=job,
        aim=aim,
        against=order.against,
        aim_name=(str(aim) if aim else target.name)[:160],
        spots={name: colour.as_dict() for name, colour in order.spots.items()},
        tolerances=order.tolerances,
        tolerance_data=tolerances.as_dict(),
        corrected=order.corrected,
        verdict=verdict,
        grade=result.grade,
        score=result.score,
        summary="; ".join([*(alone.failed if alone else []), summary_of(result)])[:200],
        own=own_facts(alone) if alone else {},
        criteria=[criterion_facts(f) for f in result.findings],
        other_paper=_other_paper(readings, target, order, result),
        guard=guard_facts(firm),
        notes=list(result.notes),
        result=patch_facts(result),
        readings=cgats.dumps(readings),
        readings_hash=readings.content_hash(),
        condition=readings.condition,
        device=subject.device or readings.meta.get("INSTRUMENTATION", "")[:120],
        made_at=made_at or timezone.now(),
        made_by=user,
    )
    CheckFigure.objects.bulk_create(
        CheckFigure(check_made=made, criterion=f.criterion.id, value=f.value, limit=f.criterion.limit)
        for f in result.findings
        if f.value is not None
    )
    if mode is not None and profile == mode.profile and aim is not None:
        _remember_on_mode(mode, made, user)
    return made


def _single_inks(
    strip: ReadingSet, own: ReadingSet | None, mode: PrintMode | None, profile: Profile | None
) -> own_inks.OwnResult | None:
    """Patches of single inks held to what the mode was characterized with; None without any."""
    if own is None or mode is None or profile is None:
        return None
    paper = strip.values().max(axis=1) < 1e-6
    if not paper.any():
        return None
    channels = tuple(profile.channels)
    lab = model_of(profile).lab(np.eye(len(channels)))
    solids = {c: lab[i] for i, c in enumerate(channels) if c not in "CMYK"}
    white = next(((c, p) for c, p in mode.planes.items() if p.get("kind") == WHITE), None)
    accepted = (white[0], float(white[1]["opacity"]), np.array(white[1]["lab"])) if white else None
    return own_inks.check_own(own, strip.xyz()[paper].mean(axis=0), solids, accepted)


def own_facts(found: own_inks.OwnResult) -> dict[str, Any]:
    """Single inks of a check as plain values."""
    inks = [
        {
            "channel": i.channel,
            "solid": round(i.solid, 2),
            "tones": {str(t): round(v, 2) for t, v in i.tones.items()},
            "holds": i.holds,
            "words": i.words,
        }
        for i in found.inks
    ]
    white = found.white
    if white is None:
        return {"inks": inks}
    facts = {"was": white.was, "now": round(white.now, 2), "off": round(white.off, 2)}
    return {"inks": inks, "white": {**facts, "holds": white.holds, "words": white.words}}


def _scatter_before(job: SheetPrint | None) -> Scatter | None:
    """How readings of this print environment scattered when it was last read twice; None where it never
    was.
    """
    if job is None:
        return None
    earlier = (
        SheetPrint.objects.filter(environment_hash=job.environment_hash, pk__lt=job.pk)
        .filter(passes__state=ReadingPass.State.DONE)
        .annotate(read=Count("passes"))
        .filter(read__gte=2)
        .order_by("-pk")
        .first()
    )
    found = scatter_of(passes_of(earlier)) if earlier is not None else None
    return replace(found, measured=False) if found is not None else None


def _remember_on_mode(mode: PrintMode, made: Check, user: User | None) -> None:
    mode.last_verdict, mode.last_check_summary = made.verdict, made.summary
    set_history_author(mode, user, f"checked: {made.verdict}").save(
        update_fields=["last_verdict", "last_check_summary", "changed_at"]
    )
    watch(mode, made)


def _other_paper(readings: ReadingSet, target: aims.Aim, order: Order, result: CheckResult) -> dict[str, Any]:
    """The same print with the aim's paper taken the other way: its verdict and figures by criterion."""
    if order.aim is None:
        return {}
    try:
        other = run(readings, target, result.tolerances, not order.corrected, order.leave_out)
    except BadInput:  # no unprinted patch
        return {}
    return {
        "corrected": not order.corrected,
        "verdict": other.verdict,
        "values": {f.criterion.id: f.value for f in other.findings},
    }


def summary_of(result: CheckResult) -> str:
    """One line: what failed and by how much, or the figure nearest its limit, and what was not tested.

    Spot colours that a strip does not have are not missed.
    """
    limited = [f for f in result.findings if f.criterion.limit is not None and f.value is not None]
    failed = [f for f in limited if f.verdict == "fail"]
    missed = [f for f in result.findings if f.verdict == "not tested" and f.criterion.group != "spots"]
    tail = f"; {len(missed)} not tested" if [f for f in missed if f.criterion.limit is not None] else ""
    if failed:
        text = "; ".join(
            f"{f.criterion.title} {f.value:.2f} over {f.criterion.limit:.1f}" for f in failed[:_NAMED]
        )
        more = f"; {len(failed) - _NAMED} more over" if len(failed) > _NAMED else ""
        return (text + more + tail)[:200]
    if not limited:
        return "nothing could be tested: the strip has no patches for this tolerance set"
    nearest = max(limited, key=lambda f: f.used or 0.0)
    return (
        f"nearest its limit: {nearest.criterion.title} {nearest.value:.2f} of "
        f"{nearest.criterion.limit:.1f}{tail}"
    )


def criterion_facts(found: Finding) -> dict[str, Any]:
    """A finding as plain values: value, limit, what is left and what is used of it."""
    return {
        "id": found.criterion.id,
        "title": found.criterion.title,
        "unit": MEASURES[found.criterion.measure],
        "value": found.value,
        "limit": found.criterion.limit,
        "warning": found.criterion.warning,
        "weight": found.criterion.weight,
        "left": found.left,
        "used": None if found.used is None else min(100.0, found.used),
        "patches": found.count,
        "verdict": found.verdict,
        "near": found.near,
    }


def guard_facts(firm: Guard) -> dict[str, Any]:
    """A guard band as plain values."""
    return {
        "share": round(firm.share, 3),
        "changes": round(20 * (1.0 - firm.share)),
        "sure": firm.sure,
        "criteria": {name: round(v, 3) for name, v in firm.criteria.items()},
        "repeatability": round(firm.repeatability, 3),
        "measured": firm.measured,
    }


def patch_facts(result: CheckResult) -> dict[str, Any]:
    """Patches of a check as plain values, in the places they have on the strip."""

    def rounded(values: np.ndarray, digits: int) -> Any:
        return np.round(values, digits).tolist()

    def placed(name: str) -> Any:
        where = result.places.get(name)
        return None if where is None else where.tolist()

    return {
        "ids": list(result.ids),
        "spots": list(result.spots) if any(result.spots) else None,
        "rows": placed("rows"),
        "columns": placed("columns"),
        "sheets": placed("sheets"),
        "device": None if result.device is None else rounded(100.0 * result.device, 2),
        "aim": rounded(result.aim, 3),
        "measured": rounded(result.measured, 3),
        "differences": rounded(result.differences, 4),
        "measure": result.measure,
        "exact_greys": result.exact_greys,
    }


# --- after a check was made --------------------------------------------------------------------


@needs(MAKE)
@transaction.atomic
def sign_off(pk: int, user: User) -> Check:
    """Put one's name under a check; refused when it was signed, or is not as it was made."""
    check = Check.objects.select_for_update(of=("self",)).get(pk=pk)
    if check.signed_at is not None:
        raise BadInput("this check is signed off already")
    if not check.is_unchanged:
        raise BadInput("this check is no longer as it was made, so it cannot be signed off; make it again")
    check.signed_at, check.signed_by = timezone.now(), user
    check.save(update_fields=["signed_at", "signed_by"])
    return check


@needs(MAKE)
@transaction.atomic
def amend(pk: int, name: str, note: str, why: str, user: User) -> Check:
    """Change what a check is called or its note; what it was before stays readable, with the reason."""
    check = Check.objects.select_for_update(of=("self",)).get(pk=pk)
    changes = [
        (what, getattr(check, what), new)
        for what, new in (("name", name), ("note", note))
        if getattr(check, what) != new
    ]
    if not changes:
        raise BadInput("nothing was changed")
    if check.signed_at is not None and not why.strip():
        raise BadInput("this check is signed off: say why it is changed")
    for what, before, after in changes:
        setattr(check, what, after)
        CheckAmendment.objects.create(
            check_made=check,
            what=what,
            before=before,
            after=after,
            why=why.strip() or "before it was signed off",
            by=user,
        )
    check.save(update_fields=["name", "note"])
    return check


def amended(check: Check) -> bool:
    """Whether a signed check was changed afterwards."""
    return check.signed_at is not None and check.amendments.filter(at__gt=check.signed_at).exists()
