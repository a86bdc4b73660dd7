"""The readings that the profile learns the print environment from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.builds import forms
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import total_of, way_of
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType, rounded
from greyanchor.builds.stages.registry import register
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet, as_inks, is_additive
from greyanchor.profiles.models import ProposedPatches

#: patches where nobody chose a number
USUAL_PATCHES = 1000


@dataclass
class ProfileChartResult(StageResult):
    """What was read: number of patches, Lab of paper and of the darkest patch, the largest sum (percent)
    where there are inks.
    """

    patches: int
    paper: list[float]
    darkest: list[float]
    largest_sum: float | None = None


@register
class ProfileChart(StageType[ProfileChartResult]):
    name = names.PROFILE_CHART
    position = 5
    title = "Profile chart"
    purpose = "The readings that the profile learns this print environment from."
    why = (
        "Printed through the curves with colour management off and everything else as frozen, read twice and "
        "compared. More patches describe the printer better and take longer to read. Averages are of spectra."
    )
    passes = 2
    accept_label = "Accept readings"
    read_twice_rule = True
    lends_label, lends_to = "a profile", names.PROFILE
    result_class = ProfileChartResult
    layout_form = forms.ProfileChartOptions

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        build = stage.build
        way, percent = way_of(build), total_of(build)
        total = None if percent is None else percent / 100.0
        device = design("profile", way.channels, int(options.get("patches", USUAL_PATCHES)), total)
        device = _with_proposals(build, device, total)
        return ChartDesign("profile", device, way.channels, way.raw, sent=way.sent, subject="profile")

    def options_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> dict[str, Any]:
        return {"patches": int(wishes.get("patches", USUAL_PATCHES))}

    def compute(self, stage: Stage, readings: ReadingSet) -> ProfileChartResult:
        device, lab = as_inks(readings.values(), readings.channels), readings.lab()
        paper = device.max(axis=1) < 1e-6
        return ProfileChartResult(
            patches=len(readings),
            paper=rounded(lab[paper].mean(axis=0), 2),
            darkest=rounded(lab[int(np.argmin(lab[:, 0]))], 2),
            largest_sum=None
            if is_additive(readings.channels)
            else round(float(100.0 * device.sum(axis=1).max()), 1),
        )

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        lightness, a, b = found.paper
        return f"{found.patches} patches, paper L* {lightness:.1f} a* {a:.1f} b* {b:.1f}"


def _with_proposals(build: Build, device: Array, total: float | None) -> Array:
    """The chart with the patches that a profile of this environment asked for."""
    waiting = ProposedPatches.objects.filter(environment_hash=build.environment_hash, used_at=None).first()
    if waiting is None:
        return device
    asked = np.array(waiting.device)
    if asked.shape[1] != device.shape[1]:
        return device
    return np.vstack([device, asked if total is None else asked[asked.sum(axis=1) <= total + 1e-9]])
