"""The ICC profile of the mode: built here by the worker, or attached."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import decided, total_of
from greyanchor.builds.stages.base import Details, StageResult, StageType
from greyanchor.builds.stages.registry import register
from greyanchor.library.models import PrintMode

#: figures of a profile's report that the stage keeps
FIGURES = ("fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume", "seconds")


@dataclass
class ProfileStageResult(StageResult):
    """How good the profile is, in dE00: fit, held out and round trip as {"mean", "p95", ...}; `doubts` in
    words.
    """

    fit: dict[str, float] | None = None
    held_out: dict[str, float] | None = None
    round_trip: dict[str, float] | None = None
    neutral_dch_max: float | None = None
    gamut_volume: float | None = None
    seconds: float | None = None
    doubts: list[str] | None = None
    attached: str | None = None

    @classmethod
    def of_report(cls, report: Mapping[str, Any], **more: Any) -> ProfileStageResult:
        """From the report of a profile."""
        return cls(**{n: report[n] for n in FIGURES if n in report}, **more)


@register
class ProfileStage(StageType[ProfileStageResult]):
    name = names.PROFILE
    position = 6
    title = "Profile"
    purpose = "The ICC profile of this mode: separation and tables."
    why = (
        "A model of the printer is fitted to the readings and turned round: which inks give this "
        "colour? Black start is how dark a neutral is before black joins in; strength, how soon it "
        "takes over."
    )
    accept_label = "Accept profile"
    lends, lends_field, lends_label = "profile", "profile_id", "a profile"
    result_class = ProfileStageResult

    def settings_alone(self, stage: Stage, title: str) -> dict[str, Any]:
        """As the form has them when nobody changes anything."""
        inks = stage.build.mode.ink_set.channels
        total = total_of(stage.build)
        settings: dict[str, Any] = {"title": title, "version": 4, "quality": "full", "light": "D50"}
        if total is not None:
            decision = decided(stage.build, names.TOTAL_INK)
            settings |= {"total_ink": total, "overprints": decision.get("overprints") or {}}
        if "K" in inks and len(inks) > 1:
            settings |= {"black_start": 25.0, "black_strength": 50.0, "max_black": 100.0, "width": 100.0}
        return settings

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        if found.attached:
            own = f", {found.held_out['mean']:.2f} dE00 from this mode's readings" if found.held_out else ""
            return f"attached: {found.attached}{own}"
        held_out, round_trip = found.held_out or {}, found.round_trip or {}
        return f"held out {held_out['mean']:.2f}, round trip {round_trip['mean']:.2f} dE00 mean"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        return list(found.doubts or []) if found else []

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.profile = stage.profile if stage else None

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        assert lender.profile is not None
        stage.profile = lender.profile
        stage.result = ProfileStageResult.of_report(lender.profile.report).to_json()
        return {}

    def details(self, stage: Stage) -> Details:
        return {"task": stage.tasks.first()}
