"""The first stage: how much of each ink does useful work."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.contrib.auth.models import User

from greyanchor.builds import forms
from greyanchor.builds.expected import expected_of
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import decided
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
from greyanchor.core.calibration.byeye import RAMP_FAULTS
from greyanchor.core.calibration.consequences import Cost, gamut_added, ink_load, limit_cost
from greyanchor.core.calibration.inklimit import InkLimit, find_limit, moved, ramp_curves
from greyanchor.core.calibration.light_split import Split, split_from
from greyanchor.core.calibration.lightinks import find_splits
from greyanchor.core.calibration.ramps import Ramp, find_ramps
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array, chroma
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.inks import SECOND_BLACK
from greyanchor.drawing.calibration import limit_plot, path_plot, split_plot
from greyanchor.library.models import InkSet, PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.measuring.services import averaged

#: inputs of the picture of a ramp, percent
RAMP_STEPS = tuple(range(40, 101, 5))
#: a limit moved by less than this is taken as found, percent
SAME = 0.05
#: a limit that keeps less of its ink's colour than this is a person's to decide, percent
LEAST_KEPT = 85.0


@dataclass
class InkLimitsResult(StageResult):
    """Limits by ink with their reasons, smoothed curves for the views, and splits of light inks."""

    limits: dict[str, dict[str, Any]]
    curves: dict[str, dict[str, Any]] = field(default_factory=dict)
    splits: list[dict[str, Any]] = field(default_factory=list)

    @property
    def percents(self) -> dict[str, float]:
        """The limits alone."""
        return {c: found["percent"] for c, found in self.limits.items()}


@register
class InkLimits(StageType[InkLimitsResult]):
    name = names.INK_LIMITS
    position = 0
    title = "Ink limits"
    purpose = "How much of each ink does useful work on this media."
    why = (
        "A ramp of every ink alone is printed raw and read twice. From some point on, more ink gives "
        "hardly more colour, turns the hue or bleeds. That point becomes the new 100 %."
    )
    why_picture = "limits"
    passes = 2
    accept_label = "Accept limits"
    read_twice_rule = True
    lends, lends_field, lends_label = "limits", "limits", "the limits"
    result_class = InkLimitsResult

    def belongs(self, ink_set: InkSet) -> bool:
        return not ink_set.parts_itself

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        channels = tuple(stage.build.mode.ink_set.raw_channels)
        return ChartDesign("ink-limit", design("ink-limit", channels), channels)

    def compute(self, stage: Stage, readings: ReadingSet) -> InkLimitsResult:
        inks = stage.build.mode.ink_set
        return find(readings, inks.light, stage.options.get("marks", {}), inks.facts)

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        limits = stage.decision["limits"] if stage.decision else found.percents if found else {}
        return "  ".join(f"{c} {v:.1f} %" for c, v in limits.items())

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if not values or found is None:
            return []
        changed = [c for c, v in values["limits"].items() if abs(v - found.limits[c]["percent"]) > SAME]
        return [f"the limit of {', '.join(changed)} was moved from what was found"] if changed else []

    def doubts_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> tuple[str, str] | None:
        found = self.required_result(stage)
        least = float(wishes.get("keeps", LEAST_KEPT))
        low = {
            c: f["keeps"] for c, f in found.limits.items() if f["keeps"] is not None and f["keeps"] < least
        }
        if not low:
            return None
        said = ", ".join(f"{c} {v:.0f} %" for c, v in low.items())
        return "limit", f"the limits found keep less of what the inks can do than {least:g} %: {said}"

    def check_values(self, values: dict[str, Any]) -> None:
        for channel, value in values["limits"].items():
            if not 15 <= value <= 100:
                raise BadInput(f"the limit of {channel}, {value:g} %, lies outside 15..100 %")
        checked_splits(values.get("splits", []))

    def found_values(self, stage: Stage) -> dict[str, Any]:
        return {"limits": self.required_result(stage).percents}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        found = self.result(stage) or InkLimitsResult({})
        return LimitsForm(
            data,
            initial=initial | found.percents,
            prefix=self.name,
            channels=list(found.limits) or list("CMYK"),
            splits=found.splits,
        )

    def changes_nothing(self, stage: Stage) -> bool:
        build = stage.build
        if build.purpose != Build.Purpose.LIMITS or build.base is None:
            return False
        old, new = decided(build.base, self.name), stage.decision or {}
        same = all(abs(new["limits"][c] - v) <= SAME for c, v in old["limits"].items())
        return same and old.get("splits", []) == new.get("splits", [])

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        decision = (stage.decision or {}) if stage else {}
        mode.limits, mode.splits = decision.get("limits", {}), decision.get("splits", [])

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        stage.result = None
        return {"limits": lender.limits, "splits": lender.splits}

    def accepted(self, stage: Stage, user: User) -> None:
        """Inks whose colour nobody knew have it now: the ramp at its limit."""
        if stage.sheet_print is None or stage.decision is None:
            return
        inks, limits = stage.build.mode.ink_set, stage.decision["limits"]
        readings = averaged(stage.sheet_print)
        unknown = [c for c in limits if "spectrum" not in inks.facts.get(c, {})]
        if readings.spectra is None or not unknown:
            return
        ramps = find_ramps(readings)
        for channel in unknown:
            ramp, at = ramps[channel], limits[channel] / 100.0
            light = [np.interp(at, ramp.inputs, band) for band in ramp.light.T]
            density = float(np.interp(at, ramp.inputs, ramp.density) - ramp.density[0])
            seen = {"spectrum": rounded(light, 4), "density": round(density, 2)}
            inks.facts = {**inks.facts, channel: {**seen, **inks.facts.get(channel, {})}}
        inks.version += 1
        set_history_author(inks, user, f"colours read on the ramps of {stage.build.mode.name}").save()

    def eye_subjects(self, build: Build) -> Sequence[EyeSubject]:
        return [EyeSubject(c, RAMP_STEPS, RAMP_FAULTS) for c in build.mode.ink_set.raw_channels]

    def eye_raw(self, build: Build, subject: EyeSubject) -> Array:
        channels = list(build.mode.ink_set.raw_channels)
        raw = np.zeros((len(subject.steps), len(channels)))
        raw[:, channels.index(subject.name)] = np.array(subject.steps) / 100.0
        return raw

    def compute_by_eye(self, stage: Stage, marks: Marks) -> InkLimitsResult:
        return InkLimitsResult({c: _limit_by_eye(marks, c) for c in stage.build.mode.ink_set.channels})

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        if not found.curves:
            return []
        limits, older = self._limits(stage, found), older_limits(stage)[1]
        views = [limit_plot(found.curves, limits, q, older) for q in ("chroma", "density", "hue")]
        return [*views, path_plot(found.curves, limits)]

    def details(self, stage: Stage) -> Details:
        found = self.result(stage)
        if found is None:
            return {}
        shown: Details = {"older": older_limits(stage)[0]}
        splits = (stage.decision or {}).get("splits", []) if stage.decision else found.splits
        shown["splits"] = [(s["parent"], _shared_ink(s), _split_picture(s)) for s in splits]
        if found.curves and stage.sheet_print is not None:
            shown["cost"] = cost_of(stage, self._limits(stage, found))
        return shown

    def _limits(self, stage: Stage, found: InkLimitsResult) -> dict[str, float]:
        return (stage.decision or {}).get("limits") or found.percents


def find(
    readings: ReadingSet,
    light: Mapping[str, str],
    marks: Marks,
    facts: Mapping[str, Mapping[str, Any]] | None = None,
) -> InkLimitsResult:
    """Limits from ramps, lowered where the eye saw a fault earlier; splits of light inks by their parents."""
    ramps = find_ramps(readings)
    limits = {name: _limit(find_limit(ramp), marks, name) for name, ramp in ramps.items()}
    seconds = [c for c in light if (facts or {}).get(c, {}).get("role") == SECOND_BLACK]
    shares = {c: found["percent"] / 100.0 for c, found in limits.items()}
    splits = [s.as_dict() for s in find_splits(ramps, shares, light, seconds)]
    return InkLimitsResult(limits, {name: _curves(ramp) for name, ramp in ramps.items()}, splits)


def _limit(found: InkLimit, marks: Marks, name: str) -> dict[str, Any]:
    percent, reason, rule = 100.0 * found.limit, found.reason, found.rule
    seen = limit_seen(marks, name)
    if seen is not None and seen.limit < found.limit:
        percent, rule = 100.0 * seen.limit, "eye"
        reason = f"{seen.fault} was seen past {percent:.0f} %; by reading {100 * found.limit:.0f} % would do"
    return {
        "percent": round(percent, 1),
        "rule": rule,
        "reason": reason,
        "keeps": round(found.keeps, 1),
        "keeps_density": round(found.keeps_density, 1),
        "saves": round(100.0 - percent, 1),
    }


def _limit_by_eye(marks: Marks, name: str) -> dict[str, Any]:
    seen = limit_seen(marks, name)
    percent = 100.0 if seen is None else 100.0 * seen.limit
    reason = (
        "no fault up to the end of the ramp"
        if seen is None
        else f"{seen.fault} was seen past {percent:.0f} %"
    )
    return {
        "percent": round(percent, 1),
        "rule": "eye",
        "reason": f"by eye: {reason}",
        "keeps": None,
        "keeps_density": None,
        "saves": round(100.0 - percent, 1),
    }


def _curves(ramp: Ramp) -> dict[str, Any]:
    smooth = ramp_curves(ramp)
    return {
        "inputs": rounded(100.0 * smooth.inputs[::4]),
        "neutral": smooth.neutral,
        "chroma": rounded(chroma(smooth.lab)[::4]),
        "density": rounded((smooth.density - smooth.density[0])[::4]),
        "hue": rounded((smooth.hue - np.interp(0.7, smooth.inputs, smooth.hue))[::4], 2),
        "lab": [rounded(row, 2) for row in smooth.lab[::4]],
    }


def checked_splits(splits: Sequence[Mapping[str, Any]]) -> list[Split]:
    """Splits as the core knows them; `BadInput` for one that the light ink cannot carry."""
    return [split_from(s) for s in splits]


def _shared_ink(split: Mapping[str, Any]) -> str:
    """The ink that a split adds: a light or medium one, or a second black."""
    return str(split["second"] if "second" in split else split["light"])


def _ends(split: Mapping[str, Any]) -> tuple[str, ...]:
    return ("start",) if "second" in split else ("start", "end")


def _split_picture(split: dict[str, Any]) -> str:
    made = checked_splits([split])[0]
    inputs = np.linspace(0.0, 1.0, 101)
    light, full = made.apply(inputs)
    named = {**split, "light": _shared_ink(split)}
    return split_plot(named, (100 * light).tolist(), (100 * full).tolist(), (100 * inputs).tolist())


def cost_of(stage: Stage, limits: Mapping[str, float]) -> dict[str, Any]:
    """What limits (percent) keep and save, in all and ink by ink, from the stage's readings."""
    assert stage.sheet_print is not None
    ramps = find_ramps(averaged(stage.sheet_print))
    shares = {c: min(max(v, 1.0), 100.0) / 100.0 for c, v in limits.items() if c in ramps}
    first = stage.build.mode.ink_set.channels[:4]
    parents = {c: r for c, r in ramps.items() if c in first}
    cost: Cost = limit_cost(parents, {c: v for c, v in shares.items() if c in parents})
    each = {c: moved(ramps[c], v) for c, v in shares.items()}
    added = [_worth(stage, ramps, shares, c) for c in stage.build.mode.ink_set.channels[4:] if c in ramps]
    return {"gamut": cost.gamut_kept, "saved": cost.ink_saved, "each": each, "added": added}


def _worth(
    stage: Stage, ramps: Mapping[str, Ramp], shares: Mapping[str, float], channel: str
) -> dict[str, Any]:
    """What a further ink adds to the gamut (percent) at its limit, and what its solid takes: ml/m2, and the
    shop's money where a price is known.
    """
    load, price = ink_load(np.array([shares[channel]])), stage.build.mode.ink_set.price
    return {
        "channel": channel,
        "gamut": gamut_added(ramps, shares, channel),
        "load": load,
        "price": None if price is None else load * price / 1000.0,
    }


def older_limits(stage: Stage) -> tuple[str, dict[str, float]]:
    """Name and limits of an older mode to compare with: the build's base, or the newest on the same
    media; else what other media let expect.
    """
    build = stage.build
    if build.base is not None:
        before = build.base.stages.get(kind=names.INK_LIMITS)
        return build.base.mode.name, dict((before.decision or {}).get("limits", {}))
    mode = build.mode
    same = PrintMode.objects.filter(printer=mode.printer_id, ink_set=mode.ink_set_id, media=mode.media_id)
    older = same.exclude(pk=build.mode_id).exclude(limits={}).order_by("-created_at").first()
    if older is not None:
        return older.name, dict(older.limits)
    expected = expected_of(build)
    if expected is None:
        return "", {}
    return "what other media let expect", {c: g.value for c, g in expected.found.limits.items()}


class LimitsForm(forms.DecisionForm):
    """Ink limits in percent of raw, one for each ink, and the crossover of light inks."""

    def __init__(
        self,
        *args: Any,
        channels: Sequence[str] = "CMYK",
        splits: Sequence[dict[str, Any]] = (),
        **kwargs: Any,
    ) -> None:
        super().__init__(*args, **kwargs)
        self.channels, self.splits = list(channels), list(splits)
        fields: dict[str, Any] = {c: forms.percent_field(f"{c}, %", 15) for c in self.channels}
        for split in self.splits:
            name = _shared_ink(split)
            for end in _ends(split):
                label, found = f"{name} crossover {end}, %", round(100.0 * split[end], 1)
                fields[f"{name}_{end}"] = forms.percent_field(label, 0, found)
        self.fields = {"version": self.fields["version"], **fields, "reason": self.fields["reason"]}

    def values(self) -> dict[str, Any]:
        limits = {c: self.cleaned_data[c] for c in self.channels}
        return {"limits": limits, "splits": [self._split(s) for s in self.splits]}

    def _split(self, split: dict[str, Any]) -> dict[str, Any]:
        limit = min(split["limit"], self.cleaned_data[_shared_ink(split)] / 100.0)
        return {**split, "limit": limit, **{end: self._share(split, end) for end in _ends(split)}}

    def _share(self, split: dict[str, Any], end: str) -> float:
        """The crossover as found when the form shows it unchanged, so that rounding does not move it."""
        chosen = self.cleaned_data[f"{_shared_ink(split)}_{end}"] / 100.0
        return float(split[end]) if abs(chosen - split[end]) < 0.0006 else chosen
