"""An even tone scale for every ink, confirmed by a second print."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from greyanchor.builds.expected import Expected, expected_of
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import accepted, names
from greyanchor.builds.stages.base import ChartDesign, Details, StageResult, StageType, rounded
from greyanchor.builds.stages.curves import curve_facts
from greyanchor.builds.stages.matching import matched, pairs
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.byeye import curve_from_matches
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.linearization import (
    EVEN_LARGEST,
    EVEN_MEAN,
    STEEP,
    ScaleEnd,
    ToneScale,
    confirm,
    linearize,
    parse_aim,
    scale_end,
    tone_scale,
    touch_up,
)
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.restore import baseline_from_ramps, short_chart
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import design
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.likely import surprises
from greyanchor.drawing.calibration import curve_plot, deviation_plot, tone_plot
from greyanchor.library.models import InkSet, PrintMode
from greyanchor.measuring.pipelines import channels_of, sent_channels, to_raw
from greyanchor.measuring.services import averaged

#: aim of the tone scale where nobody chose one
USUAL_AIM = "sctv"
#: aim of curves that were matched by eye
EYE = "eye"


@dataclass
class LinearizationResult(StageResult):
    """Curves as CSV, tone scales before, aimed at and after, and what the second print measured.

    `touched` are inks edited by hand; `sure` is how sure a curve by eye is, percent by ink; `confirm` holds
    scales, mean, max, required (mean, max) and good.
    """

    aim: str
    scales: dict[str, dict[str, Any]]
    curves_csv: str
    curves: dict[str, list[float]]
    touched: list[str] = field(default_factory=list)
    handles: dict[str, list[list[float]]] | None = None
    sure: dict[str, float] | None = None
    confirm: dict[str, Any] | None = None

    def deviation(self, which: str) -> float:
        """Largest deviation of any ink, percent; `which` is before or after."""
        return max(float(s[f"deviation_{which}"][1]) for s in self.scales.values())


@register
class Linearization(StageType[LinearizationResult]):
    name = names.LINEARIZATION
    position = 1
    title = "Linearization"
    purpose = "An even tone scale from 0 to 100 % for every ink."
    why = (
        "A printer darkens too soon: half the ink is far more than half the tone. The curve undoes "
        "that, so that equal steps in the file look equal on paper. A second print confirms it; "
        "restores come back to it."
    )
    why_picture = "tone"
    passes = 2
    accept_label = "Accept curves"
    read_twice_rule = True
    takes_baseline = True
    confirms = True
    lends, lends_field, lends_label = "curves", "curves", "the curves"
    result_class = LinearizationResult

    def belongs(self, ink_set: InkSet) -> bool:
        return not ink_set.parts_itself

    def take_over(self, stage: Stage) -> bool:
        """The ramps of the build this one is based on, when they reach the new limits."""
        base = stage.build.base
        if base is None or stage.build.purpose != Build.Purpose.LIMITS:
            return False
        before = base.stages.get(kind=self.name)
        old, new = accepted.decided(base, names.INK_LIMITS), accepted.decided(stage.build, names.INK_LIMITS)
        if before.sheet_print is None or old.get("splits", []) != new.get("splits", []):
            return False
        if any(new["limits"][c] > old["limits"][c] + 0.05 for c in channels_of(stage.build.mode.ink_set)):
            return False
        stage.sheet_print, stage.options = before.sheet_print, {"aim": before.options.get("aim", USUAL_AIM)}
        stage.made_under = before.made_under
        return True

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {"aim": USUAL_AIM}

    def layout_options(self, stage: Stage, chosen: dict[str, Any]) -> dict[str, Any]:
        return {**chosen, "aim": stage.options.get("aim", USUAL_AIM)}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        limits, splits = accepted.limits_and_splits(stage.build)
        inks = channels_of(stage.build.mode.ink_set)
        device = design("linearization", inks, None, 3.0, {c: limits[c] / 100.0 for c in inks})
        return ChartDesign(
            "linearization",
            device,
            inks,
            to_raw(splits, inks),
            sent=sent_channels(stage.build.mode.ink_set, splits),
        )

    def compute(self, stage: Stage, readings: ReadingSet) -> LinearizationResult:
        stage.confirm_print = None  # it was printed through other curves
        limits, _ = accepted.limits_and_splits(stage.build)
        options = stage.options
        return find(readings, limits, str(options.get("aim", USUAL_AIM)), options.get("touches"))

    def confirmation(self, stage: Stage) -> ChartDesign:
        found = self.result(stage)
        if stage.state != Stage.State.OPEN or found is None:
            raise BadInput("curves are confirmed while linearization is open and has a result")
        inks = channels_of(stage.build.mode.ink_set)
        return second_print(stage, found.curves_csv, "short", short_chart(len(inks)), "short")

    def compute_confirmation(self, stage: Stage, readings: ReadingSet) -> LinearizationResult:
        aim = str(stage.options.get("aim", USUAL_AIM))
        measured = evenness(readings, USUAL_AIM if aim == EYE else aim)
        return replace(self.required_result(stage), confirm=measured)

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        if not found.scales:
            return f"by eye, tone within {max(found.sure.values()):.0f} %" if found.sure else ""
        if found.confirm:
            measured = f"{found.confirm['max']:.1f} %, mean {found.confirm['mean']:.1f} %"
            return f"largest deviation {measured}, confirmed (aim {found.aim})"
        before, after = found.deviation("before"), found.deviation("after")
        return f"largest deviation {before:.1f} % before, {after:.1f} % predicted after (aim {found.aim})"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None or found.sure is not None:
            return []
        if found.confirm is None:
            return ["the curves were not confirmed by a second print"]
        if found.confirm["good"]:
            return []
        mean, largest = found.confirm["mean"], found.confirm["max"]
        return [f"the confirming print is off by {mean:.2f} % mean, {largest:.2f} % largest"]

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.curves = (stage.result or {}).get("curves_csv", "") if stage else ""

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        curves = CurveSet.from_csv(lender.curves, f"curves of {lender.name}")
        mine, _ = accepted.limits_and_splits(stage.build)
        off = [c for c in curves.channels if abs(lender.limits[c] - mine[c]) > 0.1]
        if off:
            raise BadInput(
                f"the curves of {lender.name} end at other limits than this build's ({', '.join(off)}): "
                "inherit the ink limits from it too, or linearize"
            )
        stage.result = LinearizationResult("inherited", {}, **curve_facts(curves)).to_json()
        return {}

    def baseline(self, stage: Stage) -> tuple[ReadingSet, bool] | None:
        if stage.confirm_print is not None and "confirm" in (stage.result or {}):
            return averaged(stage.confirm_print), True
        return predicted_baseline(stage, stage)

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        open_now = stage.state == Stage.State.OPEN
        views = [tone_plot(found.scales)] if found.scales else []
        views.append(curve_plot(found.curves, found.handles if open_now else None, _ghosts(stage)))
        return [*views, deviation_plot(found.confirm["scales"])] if found.confirm else views

    def details(self, stage: Stage) -> Details:
        found = self.result(stage)
        if found is not None:
            expected = _expected(stage)
            return {
                "ends": _ends(found.curves_csv),
                "expected": expected.modes if expected else [],
                "surprises": surprises(found.curves, expected.found) if expected else [],
            }
        if stage.state != Stage.State.OPEN or not stage.build.mode.media.unreadable:
            return {}
        return {"match": [(c, len(matched(stage, c)), len(p)) for c, p in pairs(stage.build).items()]}


def _expected(stage: Stage) -> Expected | None:
    """What other media let expect of curves that are not decided on."""
    found = expected_of(stage.build) if stage.state == Stage.State.OPEN else None
    return found if found is not None and found.found.curves else None


def _ghosts(stage: Stage) -> dict[str, list[tuple[float, float, float]]]:
    expected = _expected(stage)
    return expected.curves(accepted.limits_and_splits(stage.build)[0]) if expected else {}


def _ends(curves_csv: str) -> list[tuple[str, ScaleEnd]]:
    """Inks whose curves end steeply, and what a lower limit would give up."""
    curves = CurveSet.from_csv(curves_csv, "curves of this build")
    found = ((c, scale_end(o)) for c, o in zip(curves.channels, curves.outputs))
    return [(c, end) for c, end in found if end.slope > STEEP]


def second_print(stage: Stage, curves_csv: str, purpose: str, device: Any, subject: str) -> ChartDesign:
    """A chart through the curves that an open stage has found, to see whether they hold."""
    way = accepted.way_of(stage.build, CurveSet.from_csv(curves_csv, "curves of this build"))
    return ChartDesign(purpose, device, way.channels, way.raw, sent=way.sent, subject=subject)


def predicted_baseline(stage: Stage, ramps: Stage) -> tuple[ReadingSet, bool] | None:
    """What the short chart prints through the curves of `stage`, as the ramps of a linearization predict it;
    None where these were not read.
    """
    result = stage.result or {}
    if ramps.sheet_print is None or "curves_csv" not in result:
        return None
    inks = channels_of(stage.build.mode.ink_set)
    chart, _ = lay_out(short_chart(len(inks)), inks, shuffle_seed=3)
    curves = CurveSet.from_csv(result["curves_csv"], "accepted curves")
    return baseline_from_ramps(averaged(ramps.sheet_print), curves, chart), False


def _scale(s: ToneScale) -> dict[str, Any]:
    return {
        "inputs": rounded(s.inputs),
        "before": rounded(s.before),
        "aim": rounded(s.aim),
        "after": rounded(s.after),
        "deviation_before": [round(v, 5) for v in s.deviation_before],
        "deviation_after": [round(v, 5) for v in s.deviation_after],
    }


def find(
    readings: ReadingSet,
    limits: Mapping[str, float],
    aim: str,
    touches: Mapping[str, Mapping[str, float]] | None = None,
) -> LinearizationResult:
    """Curves from ramps; `limits` are percent.

    `touches` are raw outputs in percent by channel and handle (percent, as text), moved by hand.
    """
    fractions = {c: v / 100.0 for c, v in limits.items() if c in readings.channels}
    made = linearize(readings, fractions, aim)
    curves, scales = made.curves, {c: _scale(s) for c, s in made.scales.items()}
    touched = {c: moves for c, moves in (touches or {}).items() if moves}
    if touched:
        outputs = curves.outputs.copy()
        ramps = find_ramps(readings)
        for channel, moves in touched.items():
            i = curves.channels.index(channel)
            outputs[i] = touch_up(outputs[i], {float(h) / 100.0: v / 100.0 for h, v in moves.items()})
            changed = tone_scale(ramps[channel], fractions[channel], outputs[i], *parse_aim(aim))
            scales[channel] = _scale(changed)
        curves = CurveSet(curves.channels, outputs)
    return LinearizationResult(aim, scales, touched=sorted(touched), **curve_facts(curves))


def find_by_eye(
    limits: Mapping[str, float],
    matches: Mapping[str, Mapping[str, Sequence[float]]],
    widths: Mapping[str, Mapping[str, float]],
) -> LinearizationResult:
    """Curves from matched pairs, with how sure each is. Everything is percent; tones are keys as text."""
    outputs, sure = [], {}
    for channel, limit in limits.items():
        chosen = matches.get(channel, {})
        steps = {float(t): [v / 100.0 for v in found] for t, found in chosen.items() if found}
        width = {float(t): w / 100.0 for t, w in widths[channel].items()}
        made = curve_from_matches(channel, limit / 100.0, steps, width)
        outputs.append(made.output)
        sure[channel] = round(made.sure_within, 2)
    curves = CurveSet(tuple(limits), np.array(outputs))
    return LinearizationResult(EYE, {}, sure=sure, **curve_facts(curves))


def evenness(readings: ReadingSet, aim: str) -> dict[str, Any]:
    """What the short chart printed through the curves measured against the aim."""
    scales = {c: _scale(s) for c, s in confirm(readings, aim).items()}
    mean = max(s["deviation_after"][0] for s in scales.values())
    largest = max(s["deviation_after"][1] for s in scales.values())
    good = mean <= EVEN_MEAN and largest <= EVEN_LARGEST
    return {"scales": scales, "mean": mean, "max": largest, "wanted": [EVEN_MEAN, EVEN_LARGEST], "good": good}
