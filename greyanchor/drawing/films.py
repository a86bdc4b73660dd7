"""Plots of films: opacity over ink, dots over what was asked for, curves of film and press."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from greyanchor.drawing.plots import THIRD, Axis, Mark, Series, line_plot

_LINES = ("solid", "dashed", "dotted", "dots")


def opacity_of_film_plot(
    amounts: Sequence[float],
    curves: Mapping[str, Sequence[float]],
    inks: Sequence[str],
    limit: float,
    asked: float,
    which: str,
) -> str:
    """Density of solids over the main ink, percent, for each share of the others, with what is asked for."""
    series = []
    most = 0.0
    for place, share in enumerate(sorted(curves, key=float)):
        with_others = f" + {float(share):.0f} % {' '.join(inks[1:])}" if float(share) else ""
        line = _LINES[min(place, 2)]
        series.append(Series(f"{inks[0]}{with_others}", amounts, curves[share], "#111111", line))
        most = max(most, float(np.max(curves[share])))
    series.append(Series(f"asked {asked:g}", [0.0, 100.0], [asked, asked], "#777777", "dotted"))
    return line_plot(
        series,
        Axis(f"raw input of {inks[0]}, %", 0, 100),
        Axis(f"{which} density", 0, 1.1 * max(most, asked)),
        "Density of solids",
        [Mark(limit, f"{limit:.0f} %")],
        width=520,
        height=260,
        ends=len(curves) < 3,
    )


def film_dots_plot(inputs: Sequence[float], before: Sequence[float], after: Sequence[float]) -> str:
    """Dots on the film against those asked for, percent: straight (dashed), and predicted with the curve."""
    series = [
        Series("straight", inputs, before, "#777777", "dashed"),
        Series("through the curve", inputs, after, "#111111"),
        Series("asked for", [0.0, 100.0], [0.0, 100.0], "#777777", "dotted"),
    ]
    return line_plot(
        series, Axis("asked for, %", 0, 100), Axis("dot on film, %", 0, 100), "Dots on the film", (), *THIRD
    )


def film_curve_plot(curves: Mapping[str, Sequence[float]], title: str = "Dots asked of the screen") -> str:
    """Curves of film, press, or both together: dot that is screened against the one asked for, percent."""
    series = []
    for place, (name, values) in enumerate(curves.items()):
        x = np.linspace(0.0, 100.0, len(values))
        colour = "#111111" if place == 0 else "#777777"
        series.append(Series(name, x, values, colour, _LINES[min(place, 2)]))
    return line_plot(
        series, Axis("asked for, %", 0, 100), Axis("dot that is screened, %", 0, 100), title, (), *THIRD
    )


def dot_deviation_plot(inputs: Sequence[float], dots: Sequence[float]) -> str:
    """Dots of the confirming print less what was asked for, percent."""
    off = np.array(dots) - np.array(inputs)
    most = max(2.0, 1.2 * float(np.abs(off).max()))
    return line_plot(
        [Series("confirmed", inputs, off, "#111111"), Series("", inputs, off, "#111111", "dots")],
        Axis("asked for, %", 0, 100),
        Axis("dot less asked for, %", -most, most),
        "Confirming print",
        (),
        *THIRD,
    )
