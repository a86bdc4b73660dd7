"""What stands against accepting a stage, so that accepting it asks for a reason."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from greyanchor.builds.models import Stage
from greyanchor.builds.release_evidence import evidence
from greyanchor.builds.stages import kinds
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.queries import double_reading, early_passes


@dataclass(frozen=True)
class Objection:
    """Why accepting a stage asks for a reason."""

    text: str


def objections(stage: Stage, values: dict[str, Any] | None = None) -> list[Objection]:
    """What stands against accepting a stage as it is, or with other `values` than those found."""
    found = _objections_to_readings(stage)
    if stage.kind == kinds.LINEARIZATION and stage.result:
        found += _objections_to_curves(stage)
    if stage.kind == kinds.GREYS and stage.result:
        found += _objections_to_greys(stage.result)
    if stage.kind == kinds.PROFILE and stage.result:
        found += [Objection(text) for text in stage.result.get("doubts", [])]
    if stage.kind == kinds.CHECK and stage.result and stage.result["verdict"] != "pass":
        found.append(Objection("the check failed"))
    if stage.kind == kinds.RELEASE:
        told = evidence(stage.build.mode, stage.build)
        found += [Objection(e["text"]) for e in told if not e["ok"]]
    if values and stage.result:
        if stage.kind == kinds.INK_LIMITS:
            moved = [
                c for c, v in values["limits"].items() if abs(v - stage.result["limits"][c]["percent"]) > 0.05
            ]
            if moved:
                found.append(Objection(f"the limit of {', '.join(moved)} was moved from what was found"))
        if stage.kind == kinds.TOTAL_INK and abs(values["total_ink"] - stage.result["percent"]) > 0.05:
            found.append(Objection("the total was moved from what was found"))
    return found


def _objections_to_readings(stage: Stage) -> list[Objection]:
    wanted = kinds.BY_NAME[stage.kind].passes
    job = stage.sheet_print
    if job is None or not wanted:
        return []
    found = []
    count = job.passes.filter(state=ReadingPass.State.DONE).count()
    if count < wanted:
        times = f"{count} time{'s' if count != 1 else ''}"
        found.append(Objection(f"read {times}, {wanted} readings are wanted"))
    comparison = double_reading(job)
    if comparison is not None and not comparison.acceptable():
        found.append(
            Objection(f"the passes differ: mean {comparison.mean:.2f}, largest {comparison.max:.2f} dE00")
        )
    for early in early_passes(job):
        found.append(
            Objection(
                f"pass {early.number} was read {early.early_minutes:.0f} minutes before the sheet was dry"
            )
        )
    return found


def _objections_to_curves(stage: Stage) -> list[Objection]:
    result = stage.result or {}
    if "sure" in result:
        return []
    confirm = result.get("confirm")
    if confirm is None:
        return [Objection("the curves were not confirmed by a second print")]
    if not confirm["good"]:
        return [
            Objection(
                f"the confirming print is off by {confirm['mean']:.2f} % mean, {confirm['max']:.2f} % largest"
            )
        ]
    return []


def _objections_to_greys(result: dict[str, Any]) -> list[Objection]:
    confirm = result.get("confirm")
    if confirm is None:
        return [Objection("grey balance was calibrated, but not verified by a second print")]
    return (
        [] if confirm["verdict"] == "pass" else [Objection(f"the verification failed: {confirm['summary']}")]
    )
