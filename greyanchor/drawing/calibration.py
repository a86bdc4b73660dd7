"""Curve views of ink limits, linearization and total ink."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.drawing.colours import channel_colour
from greyanchor.drawing.plots import Axis, Mark, Series, line_plot


def limit_plot(curves: Mapping[str, Mapping[str, Any]], limits: Mapping[str, float], quantity: str) -> str:
    """Work done by each ink (share of its largest, percent) or density against raw input, limits as marks."""
    top = 105.0 if quantity == "work" else 1.05 * max(max(c["density"]) for c in curves.values())
    series = [Series(name, c["inputs"], c[quantity], channel_colour(name)) for name, c in curves.items()]
    marks = [Mark(value, "", channel_colour(name)) for name, value in limits.items()]
    label = "chroma or lightness gained, % of largest" if quantity == "work" else "density over paper"
    return line_plot(
        series,
        Axis("raw input, %", 0, 100),
        Axis(label, 0, top),
        f"Ink limit view, {label}",
        marks,
        430,
        260,
    )


def tone_plot(scales: Mapping[str, Mapping[str, Any]], only: str | None = None) -> str:
    """Tone value before (dashed), aim (dotted) and after (solid) against device value."""
    series: list[Series] = []
    for name, s in scales.items():
        if only and name != only:
            continue
        colour = channel_colour(name)
        series.append(Series(f"{name} before", s["inputs"], s["before"], colour, "dashed"))
        series.append(Series(f"{name} after", s["inputs"], s["after"], colour))
    first = next(iter(scales.values()))
    series.append(Series("aim", first["inputs"], first["aim"], "#777777", "dotted"))
    return line_plot(
        series,
        Axis("device value, %", 0, 100),
        Axis("tone value, %", 0, 105),
        "Tone scale before, aim and after",
    )


def curve_plot(curves: Mapping[str, list[float]]) -> str:
    """Correction curves: raw output against input, percent."""
    series = [
        Series(n, [100 * i / (len(v) - 1) for i in range(len(v))], v, channel_colour(n))
        for n, v in curves.items()
    ]
    return line_plot(
        series,
        Axis("input, %", 0, 100),
        Axis("raw output, %", 0, 100),
        "Correction curves",
        width=340,
        height=290,
    )


def total_ink_plot(result: Mapping[str, Any], limit: float) -> str:
    """Lightness of equal amounts of all inks against their sum, percent."""
    series = [
        Series("L*", result["sums"], result["lightness"], "#111111"),
        Series("", result["sums"], result["lightness"], "#111111", "dots"),
    ]
    high = max(result["lightness"]) + 5
    return line_plot(
        series,
        Axis("sum of inks, %", 100, 400),
        Axis("L*", 0, high),
        "Lightness against total ink",
        [Mark(limit, f"{limit:.0f} %")],
    )
