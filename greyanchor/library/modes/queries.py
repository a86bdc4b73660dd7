"""What pages ask of the library."""

from __future__ import annotations

from typing import Any

from greyanchor.core.calibration.film import TRUE_MEAN
from greyanchor.core.calibration.restore import RESTORED
from greyanchor.core.printing.handling import SETTINGS, SOURCE_WORDS
from greyanchor.drawing.calibration import trend_plot
from greyanchor.library.models import PrintMode


def restore_trend(mode: PrintMode) -> str:
    """Mean distance to the baseline over all restores of a mode, as a plot; empty before the first."""
    items = [r for r in mode.restores.select_related("baseline").order_by("started_at") if r.drift]
    if not items:
        return ""
    first = items[0].baseline.taken_at
    days = [max(0.0, (r.started_at - first).total_seconds() / 86400.0) for r in items]
    after = [r.after["mean"] if r.after else None for r in items]
    limit = TRUE_MEAN if mode.ink_set.is_film else RESTORED
    return trend_plot(days, [r.drift["mean"] for r in items], after, limit, mode.drift_unit)


def settings_in_words(in_force: dict[str, dict[str, Any]]) -> list[tuple[str, str, str]]:
    """Kept handling settings in words: (title, value with unit, source)."""
    return [
        (SETTINGS[k].title, SETTINGS[k].with_unit(v["value"]), SOURCE_WORDS[v["source"]])
        for k, v in in_force.items()
        if k in SETTINGS
    ]
