"""A drawn reason: what a lamp sends, what two colours send back of it, and what the eye gets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.colour.illuminants import Light, cie_table, light, light_name
from greyanchor.drawing.colours import hex_colours

_WIDE, _HIGH, _GAP, _TOP = 190, 92, 44, 26


@dataclass(frozen=True)
class Seen:
    """Two colours under one light: Lab (3,) of each there."""

    light: Light
    first: Array
    second: Array
    apart: float


def light_colour_eye(
    seen: Sequence[Seen], first: Sequence[float], second: Sequence[float], names: tuple[str, str]
) -> str:
    """An SVG of one row a light: its power, the reflectance of both colours, what of it reaches the eye, and
    both side by side as they look there.
    """
    height = len(seen) * (_HIGH + _TOP + 18) + 6
    width = 3 * _WIDE + 3 * _GAP + 120
    title = f"{names[0]} and {names[1]} under {', '.join(light_name(s.light) for s in seen)}"
    parts = [
        f'<svg class="plot explained" viewBox="0 0 {width} {height}" role="img" aria-label="{escape(title)}" '
        'font-size="11">'
    ]
    one, other = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    for k, row in enumerate(seen):
        top = k * (_HIGH + _TOP + 18) + _TOP
        power = np.interp(WAVELENGTHS, cie_table()["nm"], light(row.light))
        power = power / power.max()
        most = max(float(np.max(one * power)), float(np.max(other * power)), 1e-6)
        share = max(float(one.max()), float(other.max()), 1e-6)
        panels = (
            (f"the light: {light_name(row.light)}", [power]),
            (
                "what each colour sends back",
                [one / share, other / share],
            ),
            ("what reaches the eye", [one * power / most, other * power / most]),
        )
        for p, (words, lines) in enumerate(panels):
            left = p * (_WIDE + _GAP) + 2
            parts.append(f'<text x="{left}" y="{top - 8}" fill="currentColor">{escape(words)}</text>')
            parts.append(
                f'<rect x="{left}" y="{top}" width="{_WIDE}" height="{_HIGH}" fill="none" '
                'stroke="currentColor" stroke-opacity="0.3"/>'
            )
            for i, values in enumerate(lines):
                dash = ' stroke-dasharray="4 3"' if i else ""
                parts.append(
                    f'<polyline points="{_points(values, left, top)}" fill="none" stroke="currentColor" '
                    f'stroke-width="1.6"{dash}/>'
                )
            sign = "×" if p == 0 else "=" if p == 1 else ""
            parts.append(
                f'<text x="{left + _WIDE + _GAP / 2}" y="{top + _HIGH / 2 + 6}" text-anchor="middle" '
                f'font-size="20" fill="currentColor">{sign}</text>'
            )
        left = 3 * (_WIDE + _GAP) - _GAP + 14
        a, b = hex_colours(np.array([row.first, row.second]))
        parts.append(f'<rect x="{left}" y="{top}" width="120" height="{_HIGH}" fill="#777777"/>')
        parts.append(f'<rect x="{left + 10}" y="{top + 10}" width="50" height="{_HIGH - 20}" fill="{a}"/>')
        parts.append(f'<rect x="{left + 60}" y="{top + 10}" width="50" height="{_HIGH - 20}" fill="{b}"/>')
        parts.append(f'<text x="{left}" y="{top - 8}" fill="currentColor">{row.apart:.1f} dE00 apart</text>')
    return "".join([*parts, "</svg>"])


def _points(values: Array, left: float, top: float) -> str:
    x = left + (WAVELENGTHS - WAVELENGTHS[0]) / (WAVELENGTHS[-1] - WAVELENGTHS[0]) * _WIDE
    y = top + _HIGH - 4 - np.clip(values, 0.0, 1.05) * (_HIGH - 12)
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x, y))


def paper_picture(rows: Sequence[tuple[str, Array]], tones: Sequence[str]) -> str:
    """An SVG of greys from paper to dark, a row for each set of Lab (n, 3) with its words: how a paper's
    colour is seen through the tints that lie on it.
    """
    cell, high, left, top = 62, 40, 190, 22
    width, height = left + len(tones) * cell + 12, top + len(rows) * (high + 4) + 10
    parts = [
        f'<svg class="plot explained" viewBox="0 0 {width} {height}" role="img" '
        f'data-style="max-width:{width}px" '
        'aria-label="Paper and greys, one row under the other" font-size="12">',
        f'<rect x="{left - 6}" y="{top - 6}" width="{len(tones) * cell + 12}" '
        f'height="{len(rows) * (high + 4) + 8}" fill="#777777"/>',
    ]
    for i, tone in enumerate(tones):
        parts.append(
            f'<text x="{left + (i + 0.5) * cell}" y="12" text-anchor="middle" fill="currentColor">'
            f"{escape(tone)}</text>"
        )
    for k, (words, labs) in enumerate(rows):
        y = top + k * (high + 4)
        parts.append(f'<text x="0" y="{y + high / 2 + 4}" fill="currentColor">{escape(words)}</text>')
        for i, colour in enumerate(hex_colours(np.asarray(labs))):
            parts.append(
                f'<rect x="{left + i * cell}" y="{y}" width="{cell}" height="{high}" fill="{colour}"/>'
            )
    return "".join([*parts, "</svg>"])
