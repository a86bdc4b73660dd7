"""How much ink the media holds in all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from greyanchor.builds import forms
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import way_of
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
from greyanchor.core.charts.patches import design, neighbours
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.calibration import total_ink_plot
from greyanchor.library.models import InkSet, PrintMode
from greyanchor.measuring.pipelines import channels_of
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

    def belongs(self, ink_set: InkSet) -> bool:
        return not ink_set.parts_itself and len(ink_set.channels) > 1

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        way = way_of(stage.build)
        return ChartDesign(
            "total-ink", design("total-ink", way.channels), way.channels, way.raw, sent=way.sent
        )

    def compute(self, stage: Stage, readings: ReadingSet) -> TotalInkResult:
        return find(readings, stage.options.get("marks", {}))

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if stage.decision and "total_ink" in stage.decision:
            together = (stage.decision or {}).get("overprints") or {}
            less = "".join(f", {k} {v:.0f} %" for k, v in together.items())
            return f"{stage.decision['total_ink']:.0f} %{less}"
        return f"{found.percent:.0f} %" if found else super().headline(stage)

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if not values or found is None or abs(values["total_ink"] - found.percent) <= 0.05:
            return []
        return ["the total was moved from what was found"]

    def doubts_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> tuple[str, str] | None:
        if not wishes.get("eye") or self.required_result(stage).by != "reading":
            return None
        return "eye", "pooling and bleed of the overprints are to be judged by eye before the total is taken"

    def check_values(self, values: dict[str, Any]) -> None:
        if not 100 <= values["total_ink"] <= 800:
            raise BadInput(f"a total ink of {values['total_ink']:g} % lies outside 100..800 %")

    def found_values(self, stage: Stage) -> dict[str, Any]:
        found = self.required_result(stage)
        return {"total_ink": found.percent, "overprints": held_together(found)}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        found = self.result(stage)
        first = {"total_ink": found.percent} if found else {}
        held = held_together(found) if found else {}
        return TotalInkForm(data, initial=initial | first, prefix=self.name, overprints=held)

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.total_ink = (stage.decision or {}).get("total_ink") if stage else None

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        stage.result = None
        return {"total_ink": lender.total_ink}

    def eye_subjects(self, build: Build) -> Sequence[EyeSubject]:
        inks = channels_of(build.mode.ink_set)
        return [EyeSubject(name, _steps(name, inks), TOTAL_FAULTS) for name in overprints_of(inks)]

    def eye_raw(self, build: Build, subject: EyeSubject) -> Array:
        way = way_of(build)
        inks = _inks(subject.name, way.channels)
        sums = np.array(subject.steps) / 100.0
        device = np.zeros((len(sums), len(way.channels)))
        for ink in inks:
            device[:, way.channels.index(ink)] = np.minimum(sums / len(inks), 1.0)
        return way.raw(device)

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
        together = (stage.decision or {}).get("overprints", held_together(found))
        return {"consequences": consequences(stage, self._total(stage, found)), "together": together}

    def _total(self, stage: Stage, found: TotalInkResult) -> float:
        return float((stage.decision or {}).get("total_ink", found.percent))


def held_together(found: TotalInkResult) -> dict[str, float]:
    """Sums (percent) that inks keep to together, below the total and below what they could: where more brings
    no more colour, or where the eye saw a fault.
    """
    out = {}
    for o in found.overprints:
        known = [v for v in (o["percent"] if o["stalls"] else None, o["eye"]) if v is not None]
        most = min(found.percent, 100.0 * len(o["channels"]))
        if o["name"] != "all" and known and min(known) < most - 0.5:
            out[str(o["name"])] = max(100.0, round(min(known), 1))
    return out


def overprints_of(channels: Sequence[str]) -> tuple[str, ...]:
    """Overprints that are judged by eye: all inks, C M Y and their pairs, and each further ink with its
    neighbours.
    """
    pairs = [f"{further}+{near}" for further in channels[4:] for near in neighbours(further, channels)]
    return tuple(o for o in (*OVERPRINTS, *pairs) if set(_inks(o, channels)) <= set(channels))


def _inks(overprint: str, channels: Sequence[str]) -> list[str]:
    return list(channels[:4]) if overprint == "all" else overprint.split("+")


def _steps(overprint: str, channels: Sequence[str]) -> tuple[int, ...]:
    most = 100 * len(_inks(overprint, channels))
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
    """Total ink in percent, and the sums of inks that hold less together."""

    total_ink = forms.percent_field("Total ink, %", 100, most=800)

    def __init__(self, *args: Any, overprints: Mapping[str, float] | None = None, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.overprints = dict(overprints or {})

    def values(self) -> dict[str, Any]:
        return {"total_ink": self.cleaned_data["total_ink"], "overprints": self.overprints}
