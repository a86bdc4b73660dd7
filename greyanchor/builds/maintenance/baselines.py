"""The baseline of a mode: the short chart on the day its curves were accepted."""

from __future__ import annotations

from greyanchor.builds.models import Baseline, Stage
from greyanchor.builds.stages.registry import type_of
from greyanchor.measuring.models import written


def take_baseline(stage: Stage) -> Baseline | None:
    """Keep the baseline of accepted curves: their confirming print, or what the ramps predict of it.

    Curves made by eye, or inherited, have no readings, and so no baseline.
    """
    result = stage.result or {}
    found = type_of(stage).baseline(stage) if "curves_csv" in result else None
    if found is None:
        return None
    readings, confirmed = found
    made, _ = Baseline.objects.update_or_create(
        mode=stage.build.mode,
        defaults={
            "text": written(readings),
            "curves": result["curves_csv"],
            "environment_hash": stage.build.environment_hash,
            "confirmed": confirmed,
            "withdrawn": "",
        },
    )
    return made
