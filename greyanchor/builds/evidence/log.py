"""The log of a stage: its folded line, and what it had before, which stays readable."""

from __future__ import annotations

from django.utils import timezone

from greyanchor.builds.models import Stage
from greyanchor.builds.stages.registry import type_of


def headline(stage: Stage) -> str:
    """The figure that matters, in one line; where a stage was not done here, where it came from."""
    if not stage.source or stage.source == Stage.Source.KEPT:
        return type_of(stage).headline(stage)
    if stage.source == Stage.Source.SKIPPED:
        return stage.source_text
    return f"{type_of(stage).headline(stage)}  {stage.source_text}".strip()


def set_aside(stage: Stage, why: str) -> None:
    """Keep what a stage had in its own log, with the figures that matter."""
    stage.superseded = [
        *stage.superseded,
        {
            "why": why,
            "at": timezone.now().isoformat(timespec="minutes"),
            "headline": headline(stage),
            "decision": stage.decision,
            "made_under": stage.made_under,
            "print": stage.sheet_print_id,
            "profile": stage.profile_id,
            "check": stage.made_check_id,
        },
    ]


def void(stage: Stage, why: str) -> None:
    """Make a stage void: what it had goes to its log, and it waits again."""
    set_aside(stage, why)
    stage.state, stage.sheet_print, stage.result, stage.options = Stage.State.WAITING, None, None, {}
    stage.decision, stage.profile, stage.made_check, stage.reason = None, None, None, ""
    stage.source, stage.source_text, stage.made_under, stage.confirm_print = "", "", None, None
    stage.save()
