"""How much ink the media holds in all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from greyanchor.builds import forms
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import curves_of
from greyanchor.builds.stages.base import (
    ChartDesign,
    Details,
    EyeSubject,
    Marks,
    StageResult,
    StageType,
    rounded,
)
from greyanchor.builds.stages.eye_marks import limit_seen
from greyanchor.builds.stages.linearization import limits_and_splits
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.byeye import TOTAL_FAULTS
from greyanchor.core.calibration.consequences import drying_minutes, ink_load
from greyanchor.core.calibration.totalink import (
    Overprint,
    TotalInk,
    find_total_ink,
    gamut_kept,
    lightness_at,
    recommend,
)
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.calibration import total_ink_plot
from greyanchor.library.models import PrintMode
from greyanchor.measuring.pipelines import channels_of, sent_channels, to_raw
from greyanchor.measuring.services import averaged

#: sums of the picture of an overprint, percent
SUM_STEPS = tuple(range(120, 401, 20))
#: overprints that are judged by eye; "all" are all inks
OVERPRINTS = ("all", "C+M+Y", "C+M", "C+Y", "M+Y")


@dataclass
class TotalInkResult(StageResult):
    """The recommended sum (percent) with its reason, the ramp it came from, and every overprint.

    `by` is "reading" or the fault that the eye saw; `sums` are percent, `lightness` is L*.
    """

    percent: float
    reason: str
    by: str
    sums: list[float] = field(default_factory=list)
    lightness: list[float] = field(default_factory=list)
    overprints: list[dict[str, Any]] = field(default_factory=list)


@register
class TotalInkStage(StageType[TotalInkResult]):
    name = names.TOTAL_INK
    position = 3
    title = "Total ink"
    purpose = "How much ink this media holds in all."
    why = (
        "Overprints carry several inks at once. Past some sum they hardly darken, and pool or dry late. "
        "Lower it where the eye sees pooling."
    )
    why_picture = "total"
    passes = 1
    accept_label = "Accept total ink"
    lends, lends_field, lends_label = "total ink", "total_ink", "the total"
    result_class = TotalInkResult

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        _, splits = limits_and_splits(stage.build)
        inks = channels_of(stage.build.mode.ink_set)
        share, curves = to_raw(splits, inks), curves_of(stage.build)
        sent = sent_channels(stage.build.mode.ink_set, splits)
        device = design("total-ink", inks)
        return ChartDesign("total-ink", device, inks, lambda values: share(curves.apply(values)), sent=sent)

    def compute(self, stage: Stage, readings: ReadingSet) -> TotalInkResult:
        return find(readings, stage.options.get("marks", {}))

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if stage.decision and "total_ink" in stage.decision:
            return f"{stage.decision['total_ink']:.0f} %"
        return f"{found.percent:.0f} %" if found else super().headline(stage)

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if not values or found is None or abs(values["total_ink"] - found.percent) <= 0.05:
            return []
        return ["the total was moved from what was found"]

    def check_values(self, values: dict[str, Any]) -> None:
        if not 120 <= values["total_ink"] <= 400:
            raise BadInput(f"a total ink of {values['total_ink']:g} % lies outside 120..400 %")

    def found_values(self, stage: Stage) -> dict[str, Any]:
        return {"total_ink": self.required_result(stage).percent}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        found = self.result(stage)
        first = {"total_ink": found.percent} if found else {}
        return TotalInkForm(data, initial=initial | first, prefix=self.name)

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.total_ink = (stage.decision or {}).get("total_ink") if stage else None

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        stage.result = None
        return {"total_ink": lender.total_ink}

    def eye_subjects(self, build: Build) -> Sequence[EyeSubject]:
        return [EyeSubject(name, _steps(name), TOTAL_FAULTS) for name in OVERPRINTS]

    def eye_raw(self, build: Build, subject: EyeSubject) -> Array:
        inks, channels = _inks(subject.name), channels_of(build.mode.ink_set)
        sums = np.array(subject.steps) / 100.0
        device = np.zeros((len(sums), len(channels)))
        for ink in inks:
            device[:, channels.index(ink)] = np.minimum(sums / len(inks), 1.0)
        _, splits = limits_and_splits(build)
        return to_raw(splits, channels)(curves_of(build).apply(device))

    def compute_by_eye(self, stage: Stage, marks: Marks) -> TotalInkResult:
        seen = limit_seen(marks, "all")
        if seen is None:
            raise BadInput("mark the last good sum of at least one fault, or the end of the ramp")
        percent = 100.0 * seen.limit
        return TotalInkResult(
            round(percent, 1), f"by eye: {seen.fault} was seen past {percent:.0f} %", seen.fault
        )

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        return [total_ink_plot(found.to_json(), self._total(stage, found))] if found.sums else []

    def details(self, stage: Stage) -> Details:
        found = self.result(stage)
        if found is None or stage.sheet_print is None:
            return {}
        return {"consequences": consequences(stage, self._total(stage, found))}

    def _total(self, stage: Stage, found: TotalInkResult) -> float:
        return float((stage.decision or {}).get("total_ink", found.percent))


def _inks(overprint: str) -> list[str]:
    return list("CMYK") if overprint == "all" else overprint.split("+")


def _steps(overprint: str) -> tuple[int, ...]:
    most = 100 * len(_inks(overprint))
    return tuple(s for s in SUM_STEPS if s <= most)


def find(readings: ReadingSet, marks: Marks) -> TotalInkResult:
    """The recommended sum from readings of rising sums, lowered where the eye saw a fault."""
    found = find_total_ink(readings)
    seen = {f: None if v is None else v / 100.0 for f, v in marks.get("all", {}).items()}
    best = recommend(found, seen)
    return TotalInkResult(
        percent=round(100.0 * best.limit, 1),
        reason=best.reason,
        by=best.by,
        sums=rounded(100.0 * found.whole.sums),
        lightness=rounded(found.whole.lightness),
        overprints=_overprints(found, marks),
    )


def _overprints(found: TotalInk, marks: Marks) -> list[dict[str, Any]]:
    return [_overprint(name, o, marks) for name, o in found.overprints.items()]


def _overprint(name: str, overprint: Overprint, marks: Marks) -> dict[str, Any]:
    seen = limit_seen(marks, name)
    return {
        "name": name,
        "channels": list(overprint.channels),
        "percent": round(100.0 * overprint.limit, 1),
        "stalls": overprint.stalls,
        "reason": overprint.reason,
        "eye": None if seen is None else round(100.0 * seen.limit, 1),
        "fault": "" if seen is None else seen.fault,
        "sums": rounded(100.0 * overprint.sums),
        "lightness": rounded(overprint.lightness),
    }


def consequences(stage: Stage, total: float) -> dict[str, float]:
    """What a total (percent) means for gamut, the darkest overprint, ink on the sheet and drying."""
    assert stage.sheet_print is not None
    readings = averaged(stage.sheet_print)
    share = total / 100.0
    return {
        "gamut": gamut_kept(readings, share),
        "darkest": lightness_at(find_total_ink(readings).whole, share),
        "load": ink_load(np.array([share])),
        "drying": drying_minutes(share, stage.sheet_print.dry_minutes),
        "usual": stage.sheet_print.dry_minutes,
    }


class TotalInkForm(forms.DecisionForm):
    """Total ink in percent."""

    total_ink = forms.percent_field("Total ink, %", 120, most=400)

    def values(self) -> dict[str, Any]:
        return {"total_ink": self.cleaned_data["total_ink"]}
