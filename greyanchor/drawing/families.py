"""Pictures of how far apart prints of two members of a family are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from itertools import cycle

import numpy as np

from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.plots import THIRD, Axis, Series, line_plot

_SIDE, _REACH, _MOST = 320, 100.0, 6.0
_LINES = ("solid", "dashed", "dotted")


def pair_map(rows: Sequence[Sequence[float]], after: bool) -> str:
    """Colours of a picture on the plane of a* and b*, each as large as the two prints differ there: rows
    of L*, a*, b*, dE00 before and after.
    """
    values = np.array(rows, dtype=float)
    order = np.argsort(-values[:, 4 if after else 3])
    values = values[order]
    fills = hex_colours(values[:, :3])
    middle, scale = _SIDE / 2, _SIDE / 2 / _REACH
    title = "after joining" if after else "as they print now"
    parts = [
        f'<svg class="plot" viewBox="0 0 {_SIDE} {_SIDE}" role="img" '
        f'aria-label="Differences of the pair {title}">'
        f'<line class="plot-grid" x1="0" y1="{middle}" x2="{_SIDE}" y2="{middle}"/>'
        f'<line class="plot-grid" x1="{middle}" y1="0" x2="{middle}" y2="{_SIDE}"/>'
    ]
    for row, fill in zip(values, fills):
        off = min(row[4 if after else 3], _MOST)
        x, y = middle + row[1] * scale, middle - row[2] * scale
        parts.append(
            f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{0.6 + 1.7 * off:.2f}" fill="{fill}" fill-opacity="0.8">'
            f"<title>L* {row[0]:.0f} a* {row[1]:.0f} b* {row[2]:.0f}: {off:.2f} dE00</title></circle>"
        )
    parts.append(
        f'<text x="{_SIDE - 6}" y="{middle - 5}" text-anchor="end">a*</text>'
        f'<text x="{middle + 5}" y="14">b*</text></svg>'
    )
    return "".join(parts)


def neutral_scales(greys: Mapping[str, Sequence[Sequence[float]]], index: int) -> str:
    """a* (`index` 1) or b* (2) along each member's neutral scale."""
    series, most = [], 2.0
    for i, (name, rows) in enumerate(greys.items()):
        lab = np.array(rows, dtype=float)
        most = max(most, float(np.abs(lab[:, index]).max()))
        series.append(Series(name, lab[:, 0], lab[:, index], "#111111", _LINES[i % len(_LINES)]))
    axis = "a*" if index == 1 else "b*"
    return line_plot(
        series,
        Axis("L* as it prints", 0, 100),
        Axis(axis, -most, most),
        f"Neutral scale, {axis}",
        width=THIRD[0],
        height=THIRD[1],
    )


def held_true(drifts: Mapping[str, Sequence[tuple[date, float]]], limit: float) -> str:
    """How far each member had drifted from its baseline whenever it was read, mean dE00 over the days;
    below `limit` a restore counts as back.
    """
    days = [d for rows in drifts.values() for d, _ in rows]
    first, last = min(days), max(days)
    span = max((last - first).days, 7) * 1.05
    series, most = [], 2.0 * limit
    for style, (name, rows) in zip(cycle(_LINES), drifts.items()):
        x, y = [(d - first).days for d, _ in rows], [off for _, off in rows]
        most = max(most, *y, 0.0)
        if rows:
            series += [Series(name, x, y, "#111111", style), Series("", x, y, "#111111", "dots")]
    series.append(Series("restored under", [0.0, span], [limit, limit], "#777777", "dotted"))
    return line_plot(
        series,
        Axis("day", 0.0, span, first),
        Axis("mean dE00 to the baseline", 0.0, 1.15 * most),
        "Drift of every member",
        height=230,
    )
