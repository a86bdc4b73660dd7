"""The log of a stage: what it had before stays readable."""

from __future__ import annotations

from django.utils import timezone

from greyanchor.builds.models import Stage
from greyanchor.builds.stages.headlines import headline


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


def empty(stage: Stage, why: str) -> None:
    """Make a stage void: what it had goes to its log, and it waits again."""
    set_aside(stage, why)
    stage.state, stage.sheet_print, stage.result, stage.options = Stage.State.WAITING, None, None, {}
    stage.decision, stage.profile, stage.made_check, stage.reason = None, None, None, ""
    stage.source, stage.source_text, stage.made_under, stage.confirm_print = "", "", None, None
    stage.save()
