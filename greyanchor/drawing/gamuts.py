"""Gamut slices and the neutral separation."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.profiling.gamut import Gamut
from greyanchor.drawing.colours import channel_colour, hex_colours
from greyanchor.drawing.plots import Axis, Series, line_plot

_SIDE, _REACH = 210, 125.0
#: line styles of channels after the first four, so that nothing is reported by colour alone
LINES = ("solid", "solid", "solid", "solid", "dashed", "dashed", "dashed", "dotted")


def slice_picture(gamut: Gamut, aim: Gamut | None, lightness: float, others: Sequence[Gamut] = ()) -> str:
    """The cut of a gamut (filled with its colours), of an aim and of others (lines) at one lightness, in the
    a* b* plane.
    """
    scale, middle = _SIDE / (2 * _REACH), _SIDE / 2

    def path(outline: Array) -> str:
        return "M" + "L".join(f"{middle + a * scale:.1f} {middle - b * scale:.1f}" for a, b in outline) + "Z"

    name = f"gamut at L* {lightness:g}" + (", aim as a line" if aim else "")
    parts = [f'<svg class="gamut" viewBox="0 0 {_SIDE} {_SIDE}" role="img" aria-label="{escape(name)}">']
    parts.append(f'<rect width="{_SIDE}" height="{_SIDE}" fill="#ececec"/>')
    parts.append(f'<path d="M0 {middle}H{_SIDE}M{middle} 0V{_SIDE}" stroke="#bdbdbd" fill="none"/>')
    outline = gamut.slice(lightness)
    centre = np.array([[lightness, 0.0, 0.0]])
    rim = hex_colours(np.column_stack([np.full(len(outline), lightness), outline]))
    for i in range(len(outline)):
        a, b = outline[i], outline[(i + 1) % len(outline)]
        wedge = (
            f"M{middle} {middle}L{middle + a[0] * scale:.1f} "
            f"{middle - a[1] * scale:.1f}L{middle + b[0] * scale:.1f} {middle - b[1] * scale:.1f}Z"
        )
        parts.append(f'<path d="{wedge}" fill="{rim[i]}" stroke="{rim[i]}" stroke-width="0.6"/>')
    parts.append(f'<circle cx="{middle}" cy="{middle}" r="7" fill="{hex_colours(centre)[0]}"/>')
    if aim is not None:
        parts.append(
            f'<path d="{path(aim.slice(lightness))}" fill="none" stroke="#ffffff" stroke-width="3.4"/>'
        )
        parts.append(
            f'<path d="{path(aim.slice(lightness))}" fill="none" stroke="#000000" stroke-width="1.4" '
            'stroke-dasharray="5 3"/>'
        )
    for other in others:
        dotted = path(other.slice(lightness))
        parts.append(f'<path d="{dotted}" fill="none" stroke="#ffffff" stroke-width="3"/>')
        parts.append(
            f'<path d="{dotted}" fill="none" stroke="#000000" stroke-width="1.4" stroke-dasharray="1.5 2.5"/>'
        )
    parts.append(f'<text x="8" y="18">L* {lightness:g}</text>')
    parts.append(
        f'<text x="{_SIDE - 6}" y="{middle - 5}" text-anchor="end">a*</text><text x="{middle + 5}" '
        'y="14">b*</text></svg>'
    )
    return "".join(parts)


def neutral_plot(neutral: Array, channels: Sequence[str] = "CMYK") -> str:
    """Ink along the neutral axis in percent against the lightness asked for."""
    darkness = neutral[:, 0]
    series = [
        Series(c, darkness, neutral[:, 1 + i], channel_colour(c), LINES[i % len(LINES)])
        for i, c in enumerate(channels)
    ]
    return line_plot(
        series,
        Axis("L* asked for, media-relative", 0, 100),
        Axis("ink, %", 0, 100),
        "Neutral separation",
        ends=True,
    )
