"""White and spot inks: how much of each does useful work, and curves that make their tones even."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from greyanchor.builds import forms
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import decided
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType, rounded
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.inklimit import find_limit
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.white import OPAQUE, find_white, white_chart
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.inks import SPOT, WHITE, Ink
from greyanchor.drawing.calibration import opacity_plot
from greyanchor.library.models import InkSet, PrintMode

_SPOT_STEPS = 20
#: a limit moved by less than this is taken as found, percent
_SAME = 0.05


@dataclass
class WhiteResult(StageResult):
    """By channel: percent (limit), reason, kind, and for white opacity at it (percent), lab, and the curve of
    opacity as inputs and opacities, percent; for spot inks the raw curve.
    """

    planes: dict[str, dict[str, Any]] = field(default_factory=dict)


def _planes(ink_set: InkSet) -> list[Ink]:
    return [i for i in ink_set.planes if i.role in (WHITE, SPOT)]


def _backing(build: Build) -> tuple[str, float]:
    """The channel of the dark backing, and its raw value at its limit, fraction."""
    limits = decided(build, names.INK_LIMITS)["limits"]
    if "K" not in limits:
        raise BadInput("white is judged over black; these inks have no K")
    return "K", limits["K"] / 100.0


@register
class WhiteStage(StageType[WhiteResult]):
    name = names.WHITE
    position = 4
    title = "White"
    purpose = "How much white hides what is below it, and an even scale of it."
    why = (
        "White is printed last, over a black backing and over bare media. Opacity is how bright it is on "
        "black, as a share of how bright it is on paper. Past some amount more ink hides hardly more, and "
        "only dries later. Spot inks that no separation uses get their limits here as well."
    )
    passes = 1
    accept_label = "Accept white"
    skip_text, skip_subject = "white prints up to 100 %, without a curve", "white"
    skip_label = "Skip white"
    result_class = WhiteResult

    def belongs(self, ink_set: InkSet) -> bool:
        return bool(_planes(ink_set)) and "K" in ink_set.channels

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        under, dark = _backing(stage.build)
        planes = _planes(stage.build.mode.ink_set)
        channels = (under, *(p.channel for p in planes))
        rows: list[Array] = []
        for place, plane in enumerate(planes, start=1):
            if plane.role == WHITE:
                device, _ = white_chart(plane.channel, under, dark)
                wide = np.zeros((len(device), len(channels)))
                wide[:, [0, place]] = device
            else:
                wide = np.zeros((_SPOT_STEPS + 2, len(channels)))
                wide[2:, place] = np.linspace(0.0, 1.0, _SPOT_STEPS + 1)[1:]
            rows.append(wide)
        return ChartDesign("white", np.vstack(rows), channels)

    def compute(self, stage: Stage, readings: ReadingSet) -> WhiteResult:
        return WhiteResult({p.channel: _found(readings, p) for p in _planes(stage.build.mode.ink_set)})

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        limits = (stage.decision or {}).get("limits") or {}
        return "  ".join(_words(c, p, limits.get(c, p["percent"])) for c, p in found.planes.items())

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None:
            return []
        against = [
            f"{c} hides {p['opacity']:.0f} % at most; {OPAQUE:.0f} % are usual"
            for c, p in found.planes.items()
            if p["kind"] == WHITE and p["opacity"] < OPAQUE
        ]
        limits = (values or {}).get("limits", {})
        moved = [c for c, v in limits.items() if abs(v - found.planes[c]["percent"]) > _SAME]
        if moved:
            against.append(f"the limit of {', '.join(moved)} was moved from what was found")
        return against

    def check_values(self, values: dict[str, Any]) -> None:
        for channel, value in values["limits"].items():
            if not 15 <= value <= 100:
                raise BadInput(f"the limit of {channel}, {value:g} %, lies outside 15..100 %")

    def found_values(self, stage: Stage) -> dict[str, Any]:
        return {"limits": {c: p["percent"] for c, p in self.required_result(stage).planes.items()}}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        planes = (self.result(stage) or WhiteResult()).planes
        found = {c: p["percent"] for c, p in planes.items()}
        return PlanesForm(data, initial=initial | found, prefix=self.name, channels=list(found))

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        found = self.result(stage) if stage else None
        limits = ((stage.decision or {}).get("limits") or {}) if stage else {}
        mode.planes = {c: _of_mode(p, limits[c]) for c, p in found.planes.items()} if found and limits else {}

    def skip(self, stage: Stage) -> None:
        stage.result = None

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        limits = (stage.decision or {}).get("limits") or {}
        return [
            opacity_plot(c, p["inputs"], p["tones"], limits.get(c, p["percent"]), p["kind"] == WHITE)
            for c, p in found.planes.items()
        ]


def _found(readings: ReadingSet, plane: Ink) -> dict[str, Any]:
    amount = readings.values()
    at = readings.channels.index(plane.channel)
    mine = np.delete(amount, [0, at], axis=1).max(axis=1, initial=0.0) < 1e-6
    alone = readings.select(np.flatnonzero(mine))
    if plane.role == WHITE:
        found = find_white(alone, plane.channel)
        return {
            "kind": WHITE,
            "percent": round(100.0 * found.limit, 1),
            "reason": found.reason,
            "opacity": round(float(found.opacity_at(found.limit)), 1),
            "lab": rounded(found.lab, 2),
            "inputs": rounded(100.0 * found.inputs[::5], 2),
            "tones": rounded(found.opacity[::5], 2),
        }
    single = _alone(alone, plane.channel)
    ramp = find_ramps(single)[plane.channel]
    limit = find_limit(ramp)
    curve = linearize(single, {plane.channel: limit.limit}).curves.outputs[0]
    even = np.linspace(0.0, 100.0, 41)
    return {
        "kind": SPOT,
        "percent": round(100.0 * limit.limit, 1),
        "reason": limit.reason,
        "lab": rounded(ramp.lab[-1], 2),
        "inputs": rounded(np.interp(even, np.linspace(0.0, 100.0, len(curve)), 100.0 * curve)),
        "tones": rounded(even),
    }


def _alone(readings: ReadingSet, channel: str) -> ReadingSet:
    """The patches without a backing, with one channel."""
    at = readings.channels.index(channel)
    bare = readings.select(np.flatnonzero(readings.values()[:, 0] < 1e-6))
    return replace(bare, channels=(channel,), device=bare.values()[:, at : at + 1])


def _of_mode(plane: dict[str, Any], limit: float) -> dict[str, Any]:
    """What a mode keeps of a plane: limit (percent), curve as 41 raw inputs (percent) of even tones."""
    inputs, tones = np.array(plane["inputs"]), np.array(plane["tones"])
    top = float(np.interp(limit, inputs, tones))
    rising = tones + np.linspace(0.0, 1e-6, len(tones))
    curve = np.minimum(np.interp(np.linspace(0.0, top, 41), rising, inputs), limit)
    curve[0], curve[-1] = 0.0, limit
    out = {"limit": limit, "curve": rounded(curve), "lab": plane["lab"], "kind": plane["kind"]}
    return {**out, "opacity": round(top, 1)} if plane["kind"] == WHITE else out


def _words(channel: str, plane: dict[str, Any], limit: float) -> str:
    hides = f", hides {plane['opacity']:.0f} %" if plane["kind"] == WHITE else ""
    return f"{channel} {limit:.1f} %{hides}"


class PlanesForm(forms.DecisionForm):
    """Limits in percent of raw, one for each white or spot ink."""

    def __init__(self, *args: Any, channels: list[str], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.channels = channels
        fields = {c: forms.percent_field(f"{c}, %", 15) for c in channels}
        self.fields = {"version": self.fields["version"], **fields, "reason": self.fields["reason"]}

    def values(self) -> dict[str, Any]:
        return {"limits": {c: self.cleaned_data[c] for c in self.channels}}
