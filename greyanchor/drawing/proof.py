"""Views of checks: grey balance against its aim, figures over time, two prints beside each other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

import numpy as np

from greyanchor.core.calibration.g7 import weight
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.verification.trend import Trend
from greyanchor.drawing.plots import Axis, Mark, Series, line_plot

_WIDE, _TALL = 470, 250
_BAND = "#9a9a9a"


def _ends(size: Array, share: Array) -> Array:
    """How far a value may lie off (n,) so that its weighted difference is `size`."""
    return np.asarray(size / share)


def tone_view(tones: Array, aim: Array, measured: Array, limit: float, scale: str) -> str:
    """Lightness of a grey scale against tone value in percent, with the aim and the band that the largest
    difference leaves.
    """
    off = _ends(np.full(len(tones), limit), weight(tones))
    x = 100.0 * tones
    return line_plot(
        [
            Series("aim", x, aim, "#5e5e5e", "dashed"),
            Series("lower bound", x, aim - off, _BAND, "dotted"),
            Series("upper bound", x, aim + off, _BAND, "dotted"),
            Series("measured", x, measured, "#141414"),
        ],
        Axis("tone value, %", 0, 100),
        Axis("L*", 0, 100),
        f"Tone of the {scale} scale: measured lightness against its aim",
        (),
        _WIDE,
        _TALL,
    )


def balance_view(tones: Array, aim: Array, measured: Array, limit: float) -> str:
    """a* and b* of the composed grey scale against tone value, with their aims and the band around
    neutral.
    """
    off = _ends(np.full(len(tones), limit), weight(tones))
    x = 100.0 * tones
    reach = float(max(6.0, np.ceil(np.abs(np.vstack([aim[:, 1:], measured[:, 1:]])).max() + 1.0)))
    return line_plot(
        [
            Series("a* aim", x, aim[:, 1], "#9b2f57", "dashed"),
            Series("a* measured", x, measured[:, 1], "#9b2f57"),
            Series("b* aim", x, aim[:, 2], "#2a5c8f", "dashed"),
            Series("b* measured", x, measured[:, 2], "#2a5c8f"),
            Series("", x, np.minimum(aim[:, 1], aim[:, 2]) - off, _BAND, "dotted"),
            Series("", x, np.maximum(aim[:, 1], aim[:, 2]) + off, _BAND, "dotted"),
        ],
        Axis("tone value of cyan, %", 0, 100),
        Axis("a*, b*", -reach, reach),
        "Grey balance: a* and b* of the composed greys against their aims",
        (),
        _WIDE,
        _TALL,
    )


def grey_plots(r: Mapping[str, Any]) -> list[str]:
    """Tone and balance of a grey balance: aimed at, as printed before, and predicted through the curves."""
    x = 100.0 * np.array(r["tones"])
    aim, before, after = (np.array(r[k]) for k in ("target", "before", "after"))
    reach = float(max(6.0, np.ceil(max(np.abs(v[:, 1:]).max() for v in (aim, before, after)) + 1.0)))
    tone = [
        Series("aim", x, aim[:, 0], "#5e5e5e", "dashed"),
        Series("before", x, before[:, 0], "#141414", "dotted"),
        Series("predicted", x, after[:, 0], "#141414"),
    ]
    balance = []
    for k, name, colour in ((1, "a*", "#9b2f57"), (2, "b*", "#2a5c8f")):
        balance += [
            Series(f"{name} aim", x, aim[:, k], colour, "dashed"),
            Series(f"{name} before", x, before[:, k], colour, "dotted"),
            Series(f"{name} predicted", x, after[:, k], colour),
        ]
    across = Axis("tone value of cyan, %", 0, 100)
    return [
        line_plot(tone, across, Axis("L*", 0, 100), "Tone of the composed greys", (), _WIDE, _TALL),
        line_plot(
            balance, across, Axis("a*, b*", -reach, reach), "Balance of the composed greys", (), _WIDE, _TALL
        ),
    ]


def weighted_view(tones: Array, lightness: Array, chroma: Array, mean: float, largest: float) -> str:
    """Weighted differences of the composed greys, with the limits of mean and largest."""
    x = 100.0 * tones
    top = float(max(1.15 * largest, 1.1 * max(float(lightness.max()), float(chroma.max()))))
    return line_plot(
        [
            Series("wdL*", x, lightness, "#141414"),
            Series("wdCh", x, chroma, "#6a6a6a", "dashed"),
            Series("limit of the mean", [0, 100], [mean, mean], _BAND, "dotted"),
            Series("limit of the largest", [0, 100], [largest, largest], "#141414", "dotted"),
        ],
        Axis("tone value of cyan, %", 0, 100),
        Axis("weighted difference", 0, top),
        "Weighted differences of the composed greys",
        (),
        _WIDE,
        _TALL,
    )


def trend_view(
    days: Sequence[float],
    values: Sequence[float],
    trend: Trend,
    limit: float | None,
    unit: str,
    title: str,
    today: date | None = None,
) -> str:
    """One figure over time (days from `today`), the control limits of its reference period, its tolerance,
    signals, and where it is heading.
    """
    x, y = np.asarray(days, dtype=float), np.asarray(values, dtype=float)
    ahead = trend.forecast
    crossing = ahead.day if ahead else None
    right = float(max(7.0, min(crossing + 10.0, 180.0) if crossing is not None else 7.0))
    left = float(min(x[0], -14.0)) if len(x) else -30.0
    lines = [Series("value", x, y, "#141414", "solid"), Series("", x, y, "#141414", "dots")]
    if trend.upper is not None and trend.lower is not None:
        lines += [
            Series("centre", [left, right], [trend.centre] * 2, _BAND, "solid"),
            Series("upper control limit", [left, right], [trend.upper] * 2, "#5e5e5e", "dotted"),
            Series("lower control limit", [left, right], [trend.lower] * 2, "#5e5e5e", "dotted"),
        ]
    if limit is not None:
        lines.append(Series("tolerance", [left, right], [limit] * 2, "#141414", "dashed"))
    if ahead is not None and crossing is not None and limit is not None and len(x):
        lines.append(Series("forecast", [float(x[-1]), crossing], [ahead.level, limit], "#5e5e5e", "dashed"))
    top = max([float(y.max()) if len(y) else 1.0, limit or 0.0, trend.upper or 0.0]) * 1.12
    marks = [Mark(0.0, "today", "#8a8a8a", ghost=True)]
    if trend.upper is not None and trend.reference < len(x):
        marks.append(Mark(float(x[trend.reference - 1]), "reference", "#8a8a8a", ghost=True))
    if crossing is not None and crossing <= right:
        marks.append(Mark(crossing, "", "#141414"))
    seen = sorted({s.at for s in trend.signals})
    if seen:
        lines.append(Series("", x[seen], y[seen] + 0.03 * top, "#141414", "dots"))
    return line_plot(
        lines,
        Axis("day" if today else "days from today", left, right, today),
        Axis(f"{title}, {unit}", 0.0, top),
        f"{title} over time",
        marks,
        860,
        320,
    )
