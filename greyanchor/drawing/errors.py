"""Where a profile errs, drawn: patches in the a* b* plane, and round trips over planes of colour."""

from __future__ import annotations

from html import escape
from itertools import pairwise

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.profiling.gamut import Gamut
from greyanchor.core.profiling.maps import FitMap
from greyanchor.drawing.colours import hex_colours

_SIDE, _REACH = 420, 110.0


def _frame(name: str, side: int, reach: float) -> tuple[list[str], float, float]:
    scale, middle = side / (2 * reach), side / 2
    parts = [
        f'<svg class="gamut" viewBox="0 0 {side} {side}" role="img" aria-label="{escape(name)}">',
        f'<rect width="{side}" height="{side}" fill="#ececec"/>',
        f'<path d="M0 {middle}H{side}M{middle} 0V{side}" stroke="#bdbdbd" fill="none"/>',
    ]
    return parts, scale, middle


def fit_picture(found: FitMap, largest: float) -> str:
    """Every patch at the a* and b* it read, in its own colour; its ring grows with dE00, full at
    `largest`.
    """
    parts, scale, middle = _frame(
        "patches in the a* b* plane; rings grow with their difference", _SIDE, _REACH
    )
    order = np.argsort(found.differences, kind="stable")
    colours = hex_colours(found.read)
    for i in order:
        x, y = middle + found.read[i, 1] * scale, middle - found.read[i, 2] * scale
        radius = 1.6 + 9.0 * min(found.differences[i] / max(largest, 1e-6), 1.0)
        text = f"{found.ids[i]}: {found.differences[i]:.2f} dE00"
        parts.append(
            f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{radius:.1f}" fill="{colours[i]}" stroke="#000" '
            'stroke-width="0.7">'
            f"<title>{escape(text)}</title></circle>"
        )
    parts.append(f'<text x="{_SIDE - 6}" y="{middle - 5}" text-anchor="end">a*</text>')
    parts.append(f'<text x="{middle + 5}" y="14">b*</text></svg>')
    return "".join(parts)


def round_trip_picture(lightness: float, axis: Array, errors: Array, largest: float) -> str:
    """dE00 of round trips at one lightness: white is none, black is `largest` or more, blank is out of
    reach.
    """
    side = 210
    parts, scale, middle = _frame(f"round trips at L* {lightness:g}", side, 105.0)
    cell = float(axis[1] - axis[0]) * scale
    known = np.isfinite(errors)
    for row, column in np.argwhere(known):
        grey = round(255 * (1.0 - min(float(errors[row, column]) / largest, 1.0)))
        x, y = middle + axis[column] * scale - cell / 2, middle - axis[row] * scale - cell / 2
        parts.append(
            f'<rect x="{x:.1f}" y="{y:.1f}" width="{cell + 0.3:.1f}" height="{cell + 0.3:.1f}" '
            f'fill="rgb({grey},{grey},{grey})"/>'
        )
    mean = float(errors[known].mean()) if known.any() else float("nan")
    parts.append(f'<text x="8" y="18">L* {lightness:g}</text>')
    if known.any():
        parts.append(
            f'<text x="{side - 6}" y="18" text-anchor="end">mean {mean:.2f}, largest '
            f"{errors[known].max():.2f}</text>"
        )
    return "".join([*parts, "</svg>"])


def leaf_picture(gamuts: list[tuple[str, Gamut]], hue: float) -> str:
    """The cut of up to three gamuts through the neutral axis at a hue: the first filled, the others as
    lines.
    """
    side, reach = 260, 130.0
    scale, middle, base = side / (2 * reach), side / 2, 236
    rise = 2.2
    name = f"cut at hue {hue:g} degrees: " + ", ".join(title for title, _ in gamuts)
    parts = [
        f'<svg class="gamut" viewBox="0 0 {side} 256" role="img" aria-label="{escape(name)}">',
        f'<rect width="{side}" height="256" fill="#ececec"/>',
    ]
    for light in range(0, 101, 20):
        y = base - light * rise
        parts.append(
            f'<path d="M0 {y:.1f}H{side}" stroke="#d2d2d2"/><text x="4" y="{y - 3:.1f}">L* {light}</text>'
        )
    parts.append(f'<path d="M{middle} 10V{base}" stroke="#bdbdbd"/>')
    for number, (_, gamut) in enumerate(gamuts):
        outline = gamut.leaf(hue)
        if number == 0:
            parts += _filled(outline, hue, middle, scale, base, rise)
            continue
        path = "M" + "L".join(f"{middle + c * scale:.1f} {base - v * rise:.1f}" for c, v in outline) + "Z"
        parts.append(f'<path d="{path}" fill="none" stroke="#ffffff" stroke-width="3.4"/>')
        dash = "6 4" if number == 1 else "2 3"
        parts.append(
            f'<path d="{path}" fill="none" stroke="#000000" stroke-width="1.4" stroke-dasharray="{dash}"/>'
        )
    opposite = (hue + 180.0) % 360.0
    parts.append(f'<text x="{side - 6}" y="{base + 14}" text-anchor="end">hue {hue:g}°</text>')
    parts.append(f'<text x="6" y="{base + 14}">hue {opposite:g}°</text></svg>')
    return "".join(parts)


def _filled(outline: Array, hue: float, middle: float, scale: float, base: float, rise: float) -> list[str]:
    """Cells of the cut in their own colours: bands of lightness, each in steps of chroma."""
    half = len(outline) // 2
    cells, labs = [], []
    for side, angle in ((outline[:half], hue), (outline[::-1][:half], hue + 180.0)):
        cos, sin = np.cos(np.radians(angle)), np.sin(np.radians(angle))
        for low, high in pairwise(side):
            for a, b in pairwise(np.linspace(0.0, 1.0, 9)):
                chroma = 0.25 * (a + b) * (abs(low[0]) + abs(high[0]))
                labs.append((0.5 * (low[1] + high[1]), chroma * cos, chroma * sin))
                x = [
                    middle + share * edge * scale
                    for share, edge in ((a, low[0]), (b, low[0]), (b, high[0]), (a, high[0]))
                ]
                cells.append((x, base - low[1] * rise, base - high[1] * rise - 0.4))
    return [
        f'<path d="M{x[0]:.1f} {y0:.1f}L{x[1]:.1f} {y0:.1f}L{x[2]:.1f} {y1:.1f}L{x[3]:.1f} {y1:.1f}Z" '
        f'fill="{fill}" stroke="{fill}" stroke-width="0.4"/>'
        for (x, y0, y1), fill in zip(cells, hex_colours(np.array(labs)))
    ]
