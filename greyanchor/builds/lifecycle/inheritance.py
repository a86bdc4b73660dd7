"""Taking limits, curves, total ink or a profile from another mode, for media that cannot have their own."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.lifecycle.decisions import decide, go_on, locked, must_be_open
from greyanchor.builds.models import Stage
from greyanchor.builds.stages.registry import named, type_of
from greyanchor.core.errors import BadInput
from greyanchor.library.models import ClassFallback, PrintMode


@dataclass(frozen=True)
class Lender:
    """A mode that has what a stage needs; `why` says how it is related."""

    mode: PrintMode
    why: str


def lenders(stage: Stage) -> list[Lender]:
    """Modes a stage can inherit from: the fall-back of the media class first, then sister modes."""
    stage_type = type_of(stage)
    field = named(stage_type.lends_to or stage_type.name).lends_field
    if not field:
        return []
    mode = stage.build.mode
    found: dict[int, Lender] = {}
    lent = ClassFallback.objects.filter(media_class=mode.media.media_class_id, printer=mode.printer_id)
    for fallback in lent.select_related("mode__media"):
        why = f"fall-back of the class {mode.media.media_class.name}"
        found[fallback.mode_id] = Lender(fallback.mode, why)
    sisters = (
        PrintMode.objects.filter(printer__model=mode.printer.model, ink_set=mode.ink_set_id)
        .filter(state__in=[PrintMode.State.RELEASED, PrintMode.State.READY])
        .exclude(pk=mode.pk)
        .select_related("media")
    )
    for sister in sisters:
        near = "same media" if sister.media_id == mode.media_id else sister.media.name
        found.setdefault(sister.pk, Lender(sister, f"sister mode, {near}"))
    return [f for f in found.values() if getattr(f.mode, field) and f.mode.ink_set_id == mode.ink_set_id]


@needs(MAKE)
@transaction.atomic
def inherit(pk: int, based_on: int, lender_pk: int, reason: str, user: User) -> Stage:
    """Decide an open stage with what another mode has; the mode says so until it has its own."""
    stage = locked(pk, based_on, "inherited", user)
    must_be_open(stage)
    lender = next((f for f in lenders(stage) if f.mode.pk == lender_pk), None)
    if lender is None:
        raise BadInput("that mode cannot be inherited from here; choose one of the list")
    if not reason:
        raise BadInput("say why this mode inherits it")
    if taker := type_of(stage).lends_to:
        why = f"the {named(taker).lends} is inherited from {lender.mode.name}"
        stage.source, stage.source_text = Stage.Source.SKIPPED, why
        decide(stage, {"note": why}, "", user)
        stage = stage.build.stages.get(kind=taker)
    values = type_of(stage).lend(stage, lender.mode)
    stage.sheet_print, stage.confirm_print, stage.made_under = None, None, lender.mode.environment
    stage.source = Stage.Source.INHERITED
    stage.source_text = f"from {lender.mode.name} ({lender.why})"
    decide(stage, {**values, "from": lender.mode.name}, reason, user)
    return go_on(stage, values, reason, user)
