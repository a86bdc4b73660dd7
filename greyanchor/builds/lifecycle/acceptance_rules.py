"""What speaks against accepting a stage, so that accepting it requires a reason."""

from __future__ import annotations

from typing import Any

from greyanchor.builds.models import Stage
from greyanchor.builds.stages.registry import type_of
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.queries import double_reading, early_passes


def objections(stage: Stage, values: dict[str, Any] | None = None) -> list[str]:
    """What speaks against accepting a stage as it is, or with other `values` than those found."""
    return [*_against_readings(stage), *type_of(stage).objections(stage, values)]


def _against_readings(stage: Stage) -> list[str]:
    required = type_of(stage).passes
    job = stage.sheet_print
    if job is None or not required:
        return []
    found = []
    count = job.passes.filter(state=ReadingPass.State.DONE).count()
    if count < required:
        found.append(f"{count} of {required} passes read")
    comparison = double_reading(job)
    if comparison is not None and not comparison.acceptable():
        found.append(f"the passes differ: {comparison.apart}")
    for early in early_passes(job):
        minutes = f"{early.early_minutes:.0f} minutes"
        found.append(f"pass {early.number} was read {minutes} before the sheet was dry")
    return found
