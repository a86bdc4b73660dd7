"""Curve views of ink limits, light inks, linearization, total ink, and drift."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

import numpy as np

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.drawing.colours import channel_colour
from greyanchor.drawing.plots import THIRD, Axis, Band, Mark, Series, line_plot

_QUANTITIES = {
    "chroma": "chroma C*",
    "density": "density over paper",
    "hue": "hue turn from 70 %, degrees",
}


def limit_plot(
    curves: Mapping[str, Mapping[str, Any]],
    limits: Mapping[str, float],
    quantity: str,
    ghosts: Mapping[str, float] | None = None,
) -> str:
    """Chroma, density or hue turn of each ink against raw input; limits as marks that can be moved, older
    ones dashed.
    """
    drawn = {n: c for n, c in curves.items() if not (quantity == "hue" and c.get("neutral"))}
    series = [Series(name, *_late(c, quantity), channel_colour(name)) for name, c in drawn.items()]
    marks = [Mark(v, "", channel_colour(n), ghost=True) for n, v in (ghosts or {}).items() if n in drawn]
    marks += [Mark(v, "", channel_colour(n), key=n) for n, v in limits.items() if n in drawn]
    low, high = _range(quantity, drawn)
    label = _QUANTITIES[quantity]
    return line_plot(
        series,
        Axis("raw input, %", 0, 100),
        Axis(label, low, high),
        f"Ink limit view: {label} against raw input",
        marks,
        *THIRD,
        ends=True,
    )


def _late(curve: Mapping[str, Any], quantity: str) -> tuple[list[float], list[float]]:
    """Hue means nothing near the paper: its curve begins at 30 %."""
    x, y = np.array(curve["inputs"]), np.array(curve[quantity])
    keep = x >= (30.0 if quantity == "hue" else 0.0)
    return x[keep].tolist(), y[keep].tolist()


def _range(quantity: str, curves: Mapping[str, Mapping[str, Any]]) -> tuple[float, float]:
    if quantity == "hue":
        return -20.0, 20.0
    return 0.0, 1.05 * max(max(c[quantity]) for c in curves.values())


def path_plot(curves: Mapping[str, Mapping[str, Any]], limits: Mapping[str, float], size: int = 300) -> str:
    """The way of each ink across the a*b* plane with raw input; a ring stands at its limit."""
    reach = 10.0 * np.ceil(max(np.abs(np.array(c["lab"])[:, 1:]).max() for c in curves.values()) / 10.0 + 0.4)
    middle, scale = size / 2.0, (size / 2.0 - 16.0) / reach
    facts: dict[str, Any] = {}
    parts: list[str] = []
    for name, c in curves.items():
        lab = np.array(c["lab"])
        xs, ys = middle + scale * lab[:, 1], middle - scale * lab[:, 2]
        facts[name] = {"inputs": c["inputs"], "x": xs.round(1).tolist(), "y": ys.round(1).tolist()}
        path = "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(xs, ys))
        colour = channel_colour(name)
        parts.append(f'<path d="{path}" fill="none" stroke="{colour}" stroke-width="1.8"/>')
        at = [float(np.interp(limits.get(name, 100.0), c["inputs"], v)) for v in (xs, ys)]
        parts.append(
            f'<circle cx="{at[0]:.1f}" cy="{at[1]:.1f}" r="6" fill="none" stroke="#000000" '
            'stroke-width="2" '
            f'data-dot="{escape(name)}"/>'
        )
    grid = "".join(
        (
            f'<path d="M{middle + scale * v:.1f} 12V{size - 12}M12 {middle - scale * v:.1f}H{size - 12}" '
            'class="plot-grid"/>'
        )
        for v in np.arange(-reach + 20 - reach % 20, reach, 20)
    )
    return (
        f'<svg class="path-plot" viewBox="0 0 {size} {size}" role="img" aria-label="Way of each ink across '
        'a* b*, rings at the limits" '
        f"data-paths='{escape(json.dumps(facts), quote=True)}'>"
        f'<rect x="12" y="12" width="{size - 24}" height="{size - 24}" class="plot-field"/>{grid}'
        f'<path d="M{middle} 12V{size - 12}M12 {middle}H{size - 12}" stroke="#9a9a9a"/>'
        f'<text x="{size - 14}" y="{middle - 4}" text-anchor="end" class="plot-label">a* {reach:g}</text>'
        f'<text x="{middle + 4}" y="24" class="plot-label">b* {reach:g}</text>{"".join(parts)}</svg>'
    )


def split_plot(
    split: Mapping[str, Any], light: Sequence[float], full: Sequence[float], inputs: Sequence[float]
) -> str:
    """Light and full ink against the raw input of their channel, percent."""
    return line_plot(
        [
            Series(str(split["light"]), inputs, light, channel_colour(str(split["light"]))),
            Series(str(split["parent"]), inputs, full, channel_colour(str(split["parent"]))),
        ],
        Axis(f"raw input of {split['parent']}, %", 0, 100),
        Axis("raw output, %", 0, 100),
        f"How {split['parent']} is shared with {split['light']}",
        width=300,
        height=220,
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
        (),
        *THIRD,
    )


def deviation_plot(scales: Mapping[str, Mapping[str, Any]]) -> str:
    """Tone value measured on the confirming print less the aim, against device value."""
    series = [
        Series(n, s["inputs"], np.array(s["after"]) - np.array(s["aim"]), channel_colour(n))
        for n, s in scales.items()
    ]
    most = max(3.0, 1.1 * max(float(np.abs(np.asarray(s.y)).max()) for s in series))
    return line_plot(
        series,
        Axis("device value, %", 0, 100),
        Axis("tone value off the aim, %", -most, most),
        "Confirming print against the aim",
        (),
        *THIRD,
        ends=True,
    )


def curve_plot(
    curves: Mapping[str, list[float]],
    handles: Mapping[str, list[list[float]]] | None = None,
    expected: Mapping[str, Sequence[tuple[float, float, float]]] | None = None,
) -> str:
    """Correction curves: raw output against input, percent; `handles` can be dragged up and down.

    `expected` are input, output and standard deviation of where a curve is expected: a faint band each.
    """
    series = [
        Series(n, [100 * i / (len(v) - 1) for i in range(len(v))], v, channel_colour(n))
        for n, v in curves.items()
    ]
    width, height = THIRD
    svg = line_plot(
        series,
        Axis("input, %", 0, 100),
        Axis("raw output, %", 0, 100),
        "Correction curves",
        width=width,
        height=height,
        ends=len(curves) < 5 and len({float(v[-1]) for v in curves.values()}) > 1,
        bands=[_band(n, points) for n, points in (expected or {}).items() if n in curves and len(points)],
    )
    if not handles:
        return svg
    # the plot's field: 52..326 across, 12..190 down
    dots = [
        f'<circle class="handle" tabindex="0" role="slider" aria-label="{escape(n)} at {x:g} %" '
        'aria-valuemin="0" aria-valuemax="100" '
        f'aria-valuenow="{y:g}" data-channel="{escape(n)}" data-input="{x:g}" cx="{52 + 2.74 * x:.1f}" '
        f'cy="{190 - 1.78 * y:.1f}" r="4.5" '
        f'fill="#ffffff" stroke="{channel_colour(n)}" stroke-width="2"/>'
        for n, points in handles.items()
        for x, y in points
    ]
    svg = svg.replace('role="img"', 'role="group"', 1)
    return svg.replace('<path class="plot-pointer"', "".join(dots) + '<path class="plot-pointer"')


def _band(ink: str, points: Sequence[tuple[float, float, float]]) -> Band:
    x, y, unsure = np.array(points).T
    return Band(x, y - unsure, y + unsure, channel_colour(ink))


def total_ink_plot(result: Mapping[str, Any], limit: float) -> str:
    """Lightness of rising sums, all inks together thick, pairs and triples thin, percent."""
    series = [
        Series(o["name"], o["sums"], o["lightness"], "#888888")
        for o in result.get("overprints", [])
        if o["name"] != "all"
    ]
    series += [
        Series("all", result["sums"], result["lightness"], "#111111"),
        Series("", result["sums"], result["lightness"], "#111111", "dots"),
    ]
    high = max(max(np.asarray(s.y)) for s in series) + 5
    most = max(400.0, max(max(np.asarray(s.x)) for s in series))
    return line_plot(
        series,
        Axis("sum of inks, %", 100, most),
        Axis("L*", 0, high),
        "Lightness against total ink",
        [Mark(limit, f"{limit:.0f} %")],
    )


def grey_lightness_plot(
    inputs: Sequence[float], before: Sequence[Sequence[float]], after: Sequence[Sequence[float]]
) -> str:
    """L* of R = G = B against its value, as the driver prints it (dashed), even (dotted), and through the
    curves before it; percent.
    """
    lightness, through = np.array(before)[:, 0], np.array(after)[:, 0]
    ends = [float(lightness[0]), float(lightness[-1])]
    series = [
        Series("driver", inputs, lightness, "#777777", "dashed"),
        Series("even", [0.0, 100.0], ends, "#777777", "dotted"),
        Series("through curves", inputs, through, "#111111"),
    ]
    return line_plot(
        series, Axis("R = G = B, %", 0, 100), Axis("L*", 0, 100), "Lightness of greys", (), *THIRD
    )


def cast_plot(
    inputs: Sequence[float], before: Sequence[Sequence[float]], after: Sequence[Sequence[float]]
) -> str:
    """a* and b* of R = G = B against its value, as the driver prints it (dashed) and through the curves."""
    old, new = np.array(before), np.array(after)
    most = max(4.0, 1.1 * float(np.abs(np.vstack([old, new])[:, 1:]).max()))
    series = []
    for i, (name, colour) in enumerate((("a*", channel_colour("M")), ("b*", channel_colour("Y"))), start=1):
        series.append(Series(f"{name} driver", inputs, old[:, i], colour, "dashed"))
        series.append(Series(name, inputs, new[:, i], colour))
    return line_plot(
        series, Axis("R = G = B, %", 0, 100), Axis("a*, b*", -most, most), "Colour of greys", (), *THIRD
    )


def opacity_plot(
    channel: str, inputs: Sequence[float], tones: Sequence[float], limit: float, is_white: bool
) -> str:
    """Opacity of a white, or tone value of a spot ink, against raw input, percent, with its limit."""
    what = "opacity, %" if is_white else "tone value, %"
    series = [Series(channel, inputs, tones, channel_colour(channel))]
    return line_plot(
        series,
        Axis("raw input, %", 0, 100),
        Axis(what, 0, 105),
        f"{channel}: {what}",
        [Mark(limit, f"{limit:.0f} %")],
        *THIRD,
    )


def drift_plot(channels: Mapping[str, Mapping[str, Any]]) -> str:
    """Change of tone value since the baseline against device value, by channel."""
    series = [Series(n, c["inputs"], c["tone"], channel_colour(n)) for n, c in channels.items()]
    most = max(4.0, 1.15 * max(float(np.abs(np.asarray(s.y)).max()) for s in series))
    return line_plot(
        series,
        Axis("device value, %", 0, 100),
        Axis("tone value since the baseline, %", -most, most),
        "Drift of each channel since the baseline",
        width=520,
        height=250,
    )


def trend_plot(
    days: Sequence[float],
    before: Sequence[float],
    after: Sequence[float | None],
    limit: float,
    unit: str = "dE00",
) -> str:
    """Mean distance to the baseline, in `unit`, over the days since it was taken: found, and restored."""
    brought = [(d, a) for d, a in zip(days, after) if a is not None]
    series = [Series("as found", days, before, "#111111"), Series("", days, before, "#111111", "dots")]
    if brought:
        x, y = [d for d, _ in brought], [a for _, a in brought]
        series += [Series("restored", x, y, "#777777", "dashed"), Series("", x, y, "#777777", "dots")]
    last = max([*days, 7.0])
    series.append(Series("restored under", [0.0, last * 1.05], [limit, limit], "#777777", "dotted"))
    return line_plot(
        series,
        Axis("days since the baseline", 0, last * 1.05),
        Axis(f"mean {unit} to the baseline", 0, 1.2 * max([*before, 1.0])),
        "Drift over all restores",
        width=520,
        height=230,
    )


def shape_plot(sets: Mapping[str, CurveSet]) -> str:
    """The curves of one or more sets over each other, each set in a line style of its own."""
    series = []
    for curves, style in zip(sets.items(), ("solid", "dashed", "dotted", "dots")):
        name, made = curves
        steps = np.linspace(0.0, 1.0, 65)
        outputs = made.apply(np.repeat(steps[:, None], len(made.channels), axis=1))
        for i, channel in enumerate(made.channels):
            label = f"{channel} {name}".strip()
            series.append(Series(label, 100 * steps, 100 * outputs[:, i], channel_colour(channel), style))
    return line_plot(
        series, Axis("input, %", 0, 100), Axis("output, %", 0, 100), "Tone curves", ends=len(sets) == 1
    )
