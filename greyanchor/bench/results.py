"""What each stage computes from its readings: plain values for JSON, percent like every edge."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.core.calibration.inklimit import find_limit, ramp_curves
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.totalink import find_total_ink
from greyanchor.core.readings import ReadingSet


def _thin(values: Any, digits: int = 3) -> list[float]:
    return [round(float(v), digits) for v in np.asarray(values)]


def ink_limits(readings: ReadingSet) -> dict[str, Any]:
    """Limits with their reasons, and smoothed curves for the view."""
    found, curves = {}, {}
    for name, ramp in find_ramps(readings).items():
        limit = find_limit(ramp)
        found[name] = {
            "percent": round(100.0 * limit.limit, 1),
            "rule": limit.rule,
            "reason": limit.reason,
            "keeps": round(limit.keeps, 1),
            "keeps_density": round(limit.keeps_density, 1),
            "saves": round(limit.saves, 1),
        }
        smooth = ramp_curves(ramp)
        curves[name] = {
            "inputs": _thin(100.0 * smooth.inputs[::4]),
            "work": _thin(100.0 * smooth.work[::4] / smooth.work.max()),
            "density": _thin(smooth.density[::4] - smooth.density[0]),
            "lab": [[round(float(v), 2) for v in row] for row in smooth.lab[::20]],
        }
    return {"limits": found, "curves": curves}


def linearization(readings: ReadingSet, limits: dict[str, float], aim: str) -> dict[str, Any]:
    """Curves as CSV text, and tone scales before, aimed at and after. `limits` are percent."""
    result = linearize(readings, {c: v / 100.0 for c, v in limits.items()}, aim)
    scales = {
        c: {
            "inputs": _thin(s.inputs),
            "before": _thin(s.before),
            "aim": _thin(s.aim),
            "after": _thin(s.after),
            "deviation_before": [round(v, 5) for v in s.deviation_before],
            "deviation_after": [round(v, 5) for v in s.deviation_after],
        }
        for c, s in result.scales.items()
    }
    small = {c: _thin(100.0 * result.curves.outputs[i][::31]) for i, c in enumerate(result.curves.channels)}
    return {"aim": aim, "scales": scales, "curves_csv": result.curves.to_csv(), "curves": small}


def total_ink(readings: ReadingSet) -> dict[str, Any]:
    """The recommended sum with its reason and the ramp it came from."""
    found = find_total_ink(readings)
    return {
        "percent": round(100.0 * found.limit, 1),
        "reason": found.reason,
        "sums": _thin(100.0 * found.sums),
        "lightness": _thin(found.lightness),
    }


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
