"""What each stage computes from its readings: plain values for JSON, percent like every edge."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from greyanchor.core.calibration.byeye import EyeLimit, curve_from_matches, eye_limit
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.greybalance import balance, on_top
from greyanchor.core.calibration.inklimit import find_limit, ramp_curves
from greyanchor.core.calibration.lightinks import LightSplit, find_split
from greyanchor.core.calibration.linearization import (
    EVEN_LARGEST,
    EVEN_MEAN,
    HANDLES,
    ToneScale,
    confirm,
    linearize,
    parse_aim,
    tone_scale,
    touch_up,
)
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.totalink import TotalInk, find_total_ink, recommend
from greyanchor.core.colour.colorimetry import chroma
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

Marks = Mapping[str, Mapping[str, float | None]]


def _thin(values: Any, digits: int = 3) -> list[float]:
    return [round(float(v), digits) for v in np.asarray(values)]


def _seen(marks: Marks, name: str) -> EyeLimit | None:
    """The eye's limit for a channel or an overprint, from marks in percent."""
    told = marks.get(name, {})
    return eye_limit({fault: None if v is None else v / 100.0 for fault, v in told.items()})


def ink_limits(readings: ReadingSet, light: Mapping[str, str], marks: Marks) -> dict[str, Any]:
    """Limits with their reasons, splits of light inks, and smoothed curves for the views."""
    ramps = find_ramps(readings)
    found, curves = {}, {}
    for name, ramp in ramps.items():
        limit = find_limit(ramp)
        percent, reason, rule = 100.0 * limit.limit, limit.reason, limit.rule
        seen = _seen(marks, name)
        if seen is not None and seen.limit < limit.limit:
            percent, rule = 100.0 * seen.limit, "eye"
            reason = (
                f"{seen.fault} was seen past {percent:.0f} %; by reading {100 * limit.limit:.0f} % would do"
            )
        found[name] = {
            "percent": round(percent, 1),
            "rule": rule,
            "reason": reason,
            "keeps": round(limit.keeps, 1),
            "keeps_density": round(limit.keeps_density, 1),
            "saves": round(100.0 - percent, 1),
        }
        smooth = ramp_curves(ramp)
        curves[name] = {
            "inputs": _thin(100.0 * smooth.inputs[::4]),
            "neutral": smooth.neutral,
            "chroma": _thin(chroma(smooth.lab)[::4]),
            "density": _thin((smooth.density - smooth.density[0])[::4]),
            "hue": _thin((smooth.hue - np.interp(0.7, smooth.inputs, smooth.hue))[::4], 2),
            "lab": [[round(float(v), 2) for v in row] for row in smooth.lab[::4]],
        }
    splits = [
        find_split(ramps[parent], ramps[name], found[name]["percent"] / 100.0).as_dict()
        for name, parent in light.items()
        if name in ramps
    ]
    return {"limits": found, "curves": curves, "splits": splits}


def ink_limits_by_eye(channels: Sequence[str], marks: Marks) -> dict[str, Any]:
    """Limits from marks alone, for media that nothing can read."""
    found = {}
    for name in channels:
        seen = _seen(marks, name)
        percent = 100.0 if seen is None else 100.0 * seen.limit
        reason = (
            "by eye: no fault up to the end of the ramp"
            if seen is None
            else f"by eye: {seen.fault} was seen past {percent:.0f} %"
        )
        found[name] = {
            "percent": round(percent, 1), "rule": "eye", "reason": reason, "keeps": None, "keeps_density": None,
            "saves": round(100.0 - percent, 1),
        }  # fmt: skip
    return {"limits": found, "curves": {}, "splits": []}


def checked_splits(told: Sequence[Mapping[str, Any]]) -> list[LightSplit]:
    """Splits as the core knows them; `BadInput` for one that the light ink cannot carry."""
    return [LightSplit(**s) for s in told]


def _scale(s: ToneScale) -> dict[str, Any]:
    return {
        "inputs": _thin(s.inputs),
        "before": _thin(s.before),
        "aim": _thin(s.aim),
        "after": _thin(s.after),
        "deviation_before": [round(v, 5) for v in s.deviation_before],
        "deviation_after": [round(v, 5) for v in s.deviation_after],
    }


def linearization(
    readings: ReadingSet,
    limits: dict[str, float],
    aim: str,
    touches: Mapping[str, Mapping[str, float]] | None = None,
) -> dict[str, Any]:
    """Curves as CSV text, and tone scales before, aimed at and after. `limits` are percent.

    `touches` are raw outputs in percent by channel and handle (percent, as text).
    """
    fractions = {c: v / 100.0 for c, v in limits.items() if c in readings.channels}
    made = linearize(readings, fractions, aim)
    curves, scales = made.curves, {c: _scale(s) for c, s in made.scales.items()}
    touched = {c: t for c, t in (touches or {}).items() if t}
    if touched:
        outputs = curves.outputs.copy()
        kind, increase = parse_aim(aim)
        ramps = find_ramps(readings)
        for channel, moves in touched.items():
            i = curves.channels.index(channel)
            outputs[i] = touch_up(outputs[i], {float(h) / 100.0: v / 100.0 for h, v in moves.items()})
            scales[channel] = _scale(
                tone_scale(ramps[channel], fractions[channel], outputs[i], kind, increase)
            )
        curves = CurveSet(curves.channels, outputs)
    return {"aim": aim, "scales": scales, "touched": sorted(touched), **curve_facts(curves)}


def curve_facts(curves: CurveSet) -> dict[str, Any]:
    """Curves as CSV, in small for a drawing, and where their handles are."""
    grid = np.linspace(0.0, 1.0, curves.outputs.shape[1])
    return {
        "curves_csv": curves.to_csv(),
        "curves": {c: _thin(100.0 * curves.outputs[i][::31]) for i, c in enumerate(curves.channels)},
        "handles": {
            c: [
                [round(100 * h), round(float(100 * np.interp(h, grid, curves.outputs[i])), 2)]
                for h in HANDLES
            ]
            for i, c in enumerate(curves.channels)
        },
    }


def linearization_by_eye(
    limits: Mapping[str, float],
    matches: Mapping[str, Mapping[str, Sequence[float]]],
    widths: Mapping[str, Mapping[str, float]],
) -> dict[str, Any]:
    """Curves from matched pairs, with how sure each is. Everything is percent; tones are keys as text."""
    outputs, sure = [], {}
    for channel, limit in limits.items():
        told = {
            float(t): [v / 100.0 for v in steps] for t, steps in matches.get(channel, {}).items() if steps
        }
        step = {float(t): w / 100.0 for t, w in widths[channel].items()}
        made = curve_from_matches(channel, limit / 100.0, told, step)
        outputs.append(made.output)
        sure[channel] = round(made.sure_within, 2)
    curves = CurveSet(tuple(limits), np.array(outputs))
    return {"aim": "eye", "scales": {}, "touched": [], "sure": sure, **curve_facts(curves)}


def confirmation(readings: ReadingSet, aim: str) -> dict[str, Any]:
    """What the short chart printed through the curves measured against the aim."""
    scales = {c: _scale(s) for c, s in confirm(readings, aim).items()}
    mean = max(s["deviation_after"][0] for s in scales.values())
    largest = max(s["deviation_after"][1] for s in scales.values())
    return {
        "scales": scales,
        "mean": mean,
        "max": largest,
        "wanted": [EVEN_MEAN, EVEN_LARGEST],
        "good": mean <= EVEN_MEAN and largest <= EVEN_LARGEST,
    }


def grey_balance(readings: ReadingSet, beneath: CurveSet) -> dict[str, Any]:
    """Curves of grey balance on top of the linearization, and both scales before, aimed at and predicted."""
    made = balance(readings)
    before, after = made.weighted(False), made.weighted()
    names = ("cmy_tone", "cmy_balance", "k_tone")
    figures = {
        name: {"before": [float(b.mean()), float(b.max())], "after": [float(a.mean()), float(a.max())]}
        for name, b, a in zip(names, before, after)
    }
    return {
        "figures": figures,
        "tones": _thin(made.tones),
        "target": [_thin(row) for row in made.target],
        "before": [_thin(row) for row in made.before],
        "after": [_thin(row) for row in made.after],
        "unmet": [round(100.0 * t, 1) for t in made.unmet],
        "fit": round(made.fit, 3),
        "on_top": {
            c: _thin(100.0 * made.curves.outputs[i][::31]) for i, c in enumerate(made.curves.channels)
        },
        **curve_facts(on_top(made.curves, beneath)),
    }


def total_ink(readings: ReadingSet, marks: Marks) -> dict[str, Any]:
    """The recommended sum with its reason, every overprint, and the ramp it came from."""
    found = find_total_ink(readings)
    told = marks.get("all", {})
    best = recommend(found, {f: None if v is None else v / 100.0 for f, v in told.items()})
    return {
        "percent": round(100.0 * best.limit, 1),
        "reason": best.reason,
        "by": best.by,
        "sums": _thin(100.0 * found.whole.sums),
        "lightness": _thin(found.whole.lightness),
        "overprints": _overprints(found, marks),
    }


def _overprints(found: TotalInk, marks: Marks) -> list[dict[str, Any]]:
    out = []
    for name, o in found.overprints.items():
        seen = _seen(marks, name)
        out.append(
            {
                "name": name,
                "channels": list(o.channels),
                "percent": round(100.0 * o.limit, 1),
                "stalls": o.stalls,
                "reason": o.reason,
                "eye": None if seen is None else round(100.0 * seen.limit, 1),
                "fault": "" if seen is None else seen.fault,
                "sums": _thin(100.0 * o.sums),
                "lightness": _thin(o.lightness),
            }
        )
    return out


def total_ink_by_eye(marks: Marks) -> dict[str, Any]:
    """The total from marks alone."""
    seen = _seen(marks, "all")
    if seen is None:
        raise BadInput("mark the last good sum of at least one fault, or the end of the ramp")
    return {
        "percent": round(100.0 * seen.limit, 1), "reason": f"by eye: {seen.fault} was seen past {100 * seen.limit:.0f} %",
        "by": seen.fault, "sums": [], "lightness": [], "overprints": [],
    }  # fmt: skip


def profile_chart(readings: ReadingSet) -> dict[str, Any]:
    """What was read: patches, paper and solids."""
    device, lab = readings.values(), readings.lab()
    paper = device.max(axis=1) < 1e-6
    return {
        "patches": len(readings),
        "paper": _thin(lab[paper].mean(axis=0), 2),
        "darkest": _thin(lab[int(np.argmin(lab[:, 0]))], 2),
        "largest_sum": round(float(100.0 * device.sum(axis=1).max()), 1),
    }
