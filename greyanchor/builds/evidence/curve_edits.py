"""Changing the curves of an open stage by hand: another aim, moved handles, another choice."""

from __future__ import annotations

from collections.abc import Mapping

from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.evidence.charts import compute_stage
from greyanchor.builds.models import Stage
from greyanchor.builds.stages.registry import type_of
from greyanchor.core.calibration.linearization import parse_aim
from greyanchor.core.errors import BadInput


@needs(MAKE)
@transaction.atomic
def change_tone_aim(stage: Stage, aim: str) -> None:
    """Another aim for the tone scale, from the same readings; edits by hand belonged to the old one."""
    parse_aim(aim)
    stage.options = {**{k: v for k, v in stage.options.items() if k != "touches"}, "aim": aim}
    stage.save(update_fields=["options"])
    if stage.result is not None:
        compute_stage(stage)


@needs(MAKE)
@transaction.atomic
def move_handle(stage: Stage, channel: str, handle: str, output: float | None) -> None:
    """Move one handle of a channel's curve to a raw output in percent; None takes all its moves back."""
    if stage.state != Stage.State.OPEN or not stage.result:
        raise BadInput("a curve is edited while linearization is open and has a result")
    if channel not in stage.result["curves"]:
        raise BadInput(f"there is no curve of {channel}")
    touches = {c: dict(moves) for c, moves in stage.options.get("touches", {}).items()}
    if output is None:
        touches.pop(channel, None)
    else:
        if not 0.0 <= output <= 100.0:
            raise BadInput(f"a raw output of {output:g} % lies outside 0..100 %")
        touches.setdefault(channel, {})[handle] = round(output, 2)
    stage.options = {**stage.options, "touches": touches, "touched_last": channel}
    compute_stage(stage)


@needs(MAKE)
@transaction.atomic
def choose(stage: Stage, data: Mapping[str, str]) -> None:
    """Take a choice of an open stage and compute its result again."""
    if stage.state != Stage.State.OPEN or not stage.result:
        raise BadInput(f"{type_of(stage).title} is not open, or not read yet")
    type_of(stage).choose(stage, data)
    compute_stage(stage)
