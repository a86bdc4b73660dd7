"""A stage that no release has: whether the darkest print survives a thumb. One file, as any stage is one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.builds.models import Stage
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.library.models import PrintMode

#: sums of ink that are rubbed, percent
STEPS = (100, 150, 200, 250)


@dataclass
class RubResult(StageResult):
    """Lightness of every step, and the darkest of them."""

    lightness: list[float]
    darkest: float


class Rub(StageType[RubResult]):
    name = "rub"
    position = 0.5  # type: ignore[assignment]  # between the first and the second
    title = "Rub test"
    purpose = "How dark the media may be printed before it comes off."
    why = "Four sums of ink are printed raw and rubbed."
    passes = 1
    accept_label = "Accept rub test"
    read_twice_rule = False
    result_class = RubResult
    template = "builds/stages/base.html"

    def opening_options(self, stage: Stage) -> dict[str, Any]:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        return ChartDesign("rub", np.repeat(np.array(STEPS)[:, None] / 400.0, 4, axis=1))

    def compute(self, stage: Stage, readings: ReadingSet) -> RubResult:
        lightness = [round(float(v), 2) for v in readings.lab()[:, 0]]
        return RubResult(lightness, min(lightness))

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        return f"darkest L* {found.darkest:.1f}" if found else super().headline(stage)

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        return ["The media is hardly darker than grey."] if found and found.darkest > 40 else []

    def check_values(self, values: dict[str, Any]) -> None:
        if values.get("survives") is False:
            raise BadInput("a print that comes off is not accepted")

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.note = self.headline(stage) if stage else ""
