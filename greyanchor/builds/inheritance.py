"""Taking limits, curves, total ink or a profile from another mode, for media that cannot have their own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.models import Stage
from greyanchor.builds.services import decide, go_on, locked, must_be_open
from greyanchor.builds.stages import kinds, results
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.models import ClassFallback, PrintMode

_HAS = {
    kinds.INK_LIMITS: "limits",
    kinds.LINEARIZATION: "curves",
    kinds.TOTAL_INK: "total_ink",
    kinds.PROFILE: "profile_id",
}


@dataclass(frozen=True)
class Lender:
    """A mode that has what a stage needs; `why` says how it is related."""

    mode: PrintMode
    why: str


def lenders(stage: Stage) -> list[Lender]:
    """Modes a stage can inherit from: the fall-back of the media class first, then sister modes."""
    kind = kinds.PROFILE if stage.kind == kinds.PROFILE_CHART else stage.kind
    if kind not in _HAS:
        return []
    mode = stage.build.mode
    found: dict[int, Lender] = {}
    lent = ClassFallback.objects.filter(media_class=mode.media.media_class_id, printer=mode.printer_id)
    for fallback in lent.select_related("mode__media"):
        found[fallback.mode_id] = Lender(
            fallback.mode, f"fall-back of the class {mode.media.media_class.name}"
        )
    sisters = (
        PrintMode.objects.filter(printer__model=mode.printer.model, ink_set=mode.ink_set_id)
        .filter(state__in=[PrintMode.State.RELEASED, PrintMode.State.READY])
        .exclude(pk=mode.pk)
        .select_related("media")
    )
    for sister in sisters:
        near = "same media" if sister.media_id == mode.media_id else sister.media.name
        found.setdefault(sister.pk, Lender(sister, f"sister mode, {near}"))
    return [f for f in found.values() if getattr(f.mode, _HAS[kind]) and f.mode.ink_set_id == mode.ink_set_id]


@needs(MAKE)
@transaction.atomic
def inherit(pk: int, based_on: int, lender_pk: int, reason: str, user: AbstractBaseUser) -> Stage:
    """Decide an open stage with what another mode has; the mode says so until it has its own."""
    stage = locked(pk, based_on)
    must_be_open(stage)
    lender = next((f for f in lenders(stage) if f.mode.pk == lender_pk), None)
    if lender is None:
        raise BadInput("that mode cannot lend here; choose one of the list")
    if not reason:
        raise BadInput("say why this mode takes what another one has")
    if stage.kind == kinds.PROFILE_CHART:
        _skip(stage, f"the profile is inherited from {lender.mode.name}", user)
        stage = stage.build.stages.get(kind=kinds.PROFILE)
    values = _take(stage, lender.mode)
    stage.sheet_print, stage.confirm_print, stage.made_under = None, None, lender.mode.environment
    stage.source = Stage.Source.INHERITED
    stage.source_text = f"from {lender.mode.name} ({lender.why})"
    decide(stage, {**values, "from": lender.mode.name}, reason, user)
    return go_on(stage, values, reason, user)


def _skip(stage: Stage, why: str, user: AbstractBaseUser) -> None:
    stage.source, stage.source_text = Stage.Source.SKIPPED, why
    decide(stage, {"note": why}, "", user)


def _take(stage: Stage, lender: PrintMode) -> dict[str, Any]:
    """Put the lender's values on the stage, unsaved, and give them as a decision."""
    if stage.kind == kinds.INK_LIMITS:
        stage.result = None
        return {"limits": lender.limits, "splits": lender.splits}
    if stage.kind == kinds.LINEARIZATION:
        curves = CurveSet.from_csv(lender.curves, f"curves of {lender.name}")
        mine = (stage.build.stages.get(kind=kinds.INK_LIMITS).decision or {})["limits"]
        off = [c for c in curves.channels if abs(lender.limits[c] - mine[c]) > 0.1]
        if off:
            raise BadInput(
                f"the curves of {lender.name} end at other limits than this build's ({', '.join(off)}): "
                "inherit the ink limits from it too, or linearize"
            )
        stage.result = {"aim": "inherited", "scales": {}, "touched": [], **results.curve_facts(curves)}
        return {}
    if stage.kind == kinds.TOTAL_INK:
        stage.result = None
        return {"total_ink": lender.total_ink}
    assert lender.profile is not None
    stage.profile = lender.profile
    names = ("fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume", "seconds")
    stage.result = {n: lender.profile.report[n] for n in names if n in lender.profile.report}
    return {}
