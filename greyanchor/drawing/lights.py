"""Drawings of viewing lights: the spectrum before daylight of its temperature, and how it went."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS
from greyanchor.core.colour.illuminants import cie_table
from greyanchor.core.colour.lighting import NM, SEEN, LightSpectrum, reference
from greyanchor.drawing.plots import Axis, Series, line_plot


def spectrum_plot(light: LightSpectrum, temperature: float, height: int = 260) -> str:
    """A light with daylight (a black body below 4,000 K) of its temperature behind it, at one luminance."""
    nm, power = NM[SEEN][::2], light.seen[::2]
    behind = reference(temperature, blend=True)[::2]
    y = cie_table()["y"][20::2]
    behind = behind * float(power @ y) / float(behind @ y)
    from_first = light.first <= nm
    scale = 1000.0 if light.is_absolute else 100.0 / max(float(power.max()), 1e-12)
    top = scale * max(float(power.max()), float(behind.max()))
    return line_plot(
        [
            Series(f"daylight of {temperature:.0f} K", nm, scale * behind, "#8a8a8a", "dashed"),
            Series(light.name, nm[from_first], scale * power[from_first]),
        ],
        Axis("wavelength, nm", 380, 780),
        Axis("mW/m²/nm" if light.is_absolute else "relative power", 0, _round_up(top)),
        f"power of {light.name} before daylight of {temperature:.0f} K",
        height=height,
    )


def reflectance_plot(colours: Sequence[tuple[str, Sequence[float]]], height: int = 220) -> str:
    """Reflectance of one colour, or of two one over the other, the second dashed."""
    styles = ("solid", "dashed", "dotted")
    lines = [
        Series(name, WAVELENGTHS, 100.0 * np.asarray(spectrum), style=styles[i % 3])
        for i, (name, spectrum) in enumerate(colours)
    ]
    top = max(float(np.max(line.y)) for line in lines)
    return line_plot(
        lines,
        Axis("wavelength, nm", 380, 730),
        Axis("reflectance, %", 0, max(20.0, _round_up(top))),
        f"reflectance of {' and '.join(name for name, _ in colours)}",
        height=height,
    )


def course_plot(
    days: Sequence[float], values: Sequence[float], limit: float | None, label: str, title: str
) -> str:
    """A figure over days, with its limit dashed."""
    x, y = np.asarray(days, dtype=float), np.asarray(values, dtype=float)
    low, high = float(y.min()), float(y.max())
    if limit is not None:
        low, high = min(low, limit), max(high, limit)
    pad = max(0.08 * (high - low), 1e-6)
    last = max(float(x[-1]), 1.0)
    lines = [Series(title, x, y), Series("", x, y, "#111111", "dots")]
    if limit is not None:
        lines.append(Series("limit", [0.0, last], [limit, limit], "#444444", "dashed"))
    return line_plot(
        lines,
        Axis("days", 0.0, last),
        Axis(label, low - pad, high + pad),
        title,
        height=190,
        width=440,
    )


def _round_up(value: float) -> float:
    step = 10.0 ** np.floor(np.log10(max(value, 1e-9)))
    return float(np.ceil(value / step * 2.0) / 2.0 * step)
