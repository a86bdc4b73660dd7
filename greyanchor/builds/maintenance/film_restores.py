"""Films kept true: dots and opacity against the baseline, as restores show and decide them."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.builds.stages.film_dots import solid_facts
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.film import TRUE_MEAN, FilmDrift, film_drift, restore_film
from greyanchor.core.colour.transmission import THIN
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.film_screen import SOLID, parse_solid
from greyanchor.library.models import PrintMode

#: changes that are said: of dots, percent, and of a solid's density
_DOTS_SAID, _SOLID_SAID = 0.5, 0.08
#: a solid that lost more than this is not opaque as it was, density
_SOLID_LOST = 0.15
#: mean change of dots, percent, below which a film is as it was
RESTORED = TRUE_MEAN


def sheet_facts(mode: PrintMode, curves: CurveSet) -> dict[str, str]:
    """What a chart through curves says of the ink within its dots; nothing for other modes than films."""
    return solid_facts(curves, mode.splits) if mode.ink_set.is_film else {}


def drift_of(baseline: ReadingSet, now: ReadingSet, channel: str) -> dict[str, Any]:
    """A film's drift as plain values for JSON: changes of dots in percent, of density."""
    found = film_drift(baseline, now)
    return {
        "unit": "dots",
        "mean": round(found.mean, 3),
        "p95": round(float(np.percentile(np.abs(found.change), 95)), 3),
        "max": round(found.largest, 3),
        "solid_was": round(found.was.solid_uv, 2),
        "solid_now": round(found.now.solid_uv, 2),
        "words": _words(found),
        "not_enough": [],
        "channels": {
            channel: {
                "inputs": [round(float(v), 2) for v in found.was.inputs],
                "tone": [round(float(v), 3) for v in found.change],
                "tone_max": round(float(found.change[int(np.abs(found.change).argmax())]), 2),
            }
        },
    }


def _words(found: FilmDrift) -> list[str]:
    out = []
    if found.largest > _DOTS_SAID:
        at = int(np.abs(found.change).argmax())
        out.append(
            f"dots are {found.change[at]:+.1f} % off at {found.was.inputs[at]:.0f} %, {found.mean:.1f} % "
            "in the mean"
        )
    if abs(found.solid) > _SOLID_SAID:
        now = found.now.solid_uv
        thin = f", below {THIN:g} films are not opaque" if now < THIN else ""
        out.append(f"the solid is at UV density {now:.2f}, it was {found.was.solid_uv:.2f}{thin}")
    return out or ["nothing drifted beyond the noise of a reading"]


def restored(
    baseline: ReadingSet, now: ReadingSet, curves: CurveSet
) -> tuple[CurveSet, dict[str, float], list[str]]:
    """Corrected curves, what is lost by channel (percent), and that in words."""
    made, lost = restore_film(baseline, now, curves)
    words = [
        f"opacity is lost: a solid would need {100 * v:.0f} % of {c}, more than the machine prints"
        for c, v in lost.items()
    ]
    return made, {c: round(100.0 * v, 1) for c, v in lost.items()}, words


def is_back(after: dict[str, Any]) -> bool:
    """Whether a confirming print came back to dots and opacity of the baseline."""
    return bool(after["mean"] <= RESTORED and after["solid_now"] >= after["solid_was"] - _SOLID_LOST)


def take_curves(mode: PrintMode, curves_csv: str, after: dict[str, Any]) -> None:
    """Set on `mode`, unsaved, what corrected curves make of it."""
    curves = CurveSet.from_csv(curves_csv, "corrected curves")
    solid = parse_solid(solid_facts(curves, mode.splits)[SOLID])
    mode.limits = {c: round(100.0 * v, 2) for c, v in solid.items()}
    mode.film = {**mode.film, "solid": mode.limits, "solid_uv": after["solid_now"]}
