"""Separations: the inks along paths through colour, over a strip of what they print."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

import numpy as np

from greyanchor.core.profiling.preview import Path
from greyanchor.drawing.colours import channel_colour, hex_colours
from greyanchor.drawing.gamuts import LINES

_WIDTH, _HEIGHT, _LEFT, _BOTTOM, _STRIP = 420, 190, 34, 18, 22


def path_picture(path: Path, channels: Sequence[str], other: Path | None = None, other_name: str = "") -> str:
    """Inks in percent from light to dark, the colours they print below; those of `other` as thin dashed
    lines.
    """
    wide, high = _WIDTH - _LEFT - 8, _HEIGHT - _BOTTOM - _STRIP - 8
    steps = len(path.inks)
    x = _LEFT + np.linspace(0.0, wide, steps)

    def y(inks: np.ndarray) -> np.ndarray:
        return 6 + high * (1.0 - np.asarray(inks))

    name = f"{path.title}: inks from light to dark" + (f", beside {other_name}" if other else "")
    parts = [f'<svg class="plot" viewBox="0 0 {_WIDTH} {_HEIGHT}" role="img" aria-label="{escape(name)}">']
    parts.append(f'<rect x="{_LEFT}" y="6" width="{wide}" height="{high}" class="plot-field"/>')
    for share in (0.0, 0.5, 1.0):
        at = float(y(np.array(share)))
        parts.append(f'<path d="M{_LEFT} {at:.1f}h{wide}" class="plot-grid"/>')
        parts.append(f'<text x="{_LEFT - 5}" y="{at + 4:.1f}" text-anchor="end">{100 * share:.0f}</text>')
    if other is not None:
        for i, channel in enumerate(channels):
            parts.append(
                f'<path d="{_line(x, y(other.inks[:, i]))}" fill="none" stroke="{channel_colour(channel)}" '
                'stroke-width="1.1" stroke-dasharray="2 3"/>'
            )
    for i, channel in enumerate(channels):
        dash = ' stroke-dasharray="7 3"' if LINES[i % len(LINES)] != "solid" else ""
        parts.append(
            f'<path d="{_line(x, y(path.inks[:, i]))}" fill="none" stroke="{channel_colour(channel)}" '
            f'stroke-width="2"{dash}/>'
        )
    top = 6 + high + 5
    step = wide / steps
    for i, colour in enumerate(hex_colours(path.printed)):
        parts.append(
            f'<rect x="{_LEFT + i * step:.2f}" y="{top}" width="{step + 0.5:.2f}" height="{_STRIP}" '
            f'fill="{colour}"/>'
        )
    parts.append(
        f'<text x="{_LEFT}" y="{_HEIGHT - 3}" class="plot-label">{escape(path.title)}, light to dark</text>'
    )
    parts.append(
        f'<text x="{_WIDTH - 8}" y="{_HEIGHT - 3}" text-anchor="end">roughness '
        f"{path.roughness:.2f}</text></svg>"
    )
    return "".join(parts)


def _line(x: np.ndarray, y: np.ndarray) -> str:
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y))
