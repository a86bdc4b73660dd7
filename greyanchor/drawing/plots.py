"""Line plots with axes, units and values under the pointer."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from html import escape

import numpy as np
import numpy.typing as npt

WIDTH, HEIGHT = 560, 320
#: width and height of a plot that stands with two others in a row
THIRD = (340, 230)
#: days between ticks of an axis of days
_DAYS = (1, 2, 5, 7, 14, 28, 56, 91, 182, 365)
_LEFT, _RIGHT, _TOP, _BOTTOM = 52, 14, 12, 40
#: height of a name at the end of a line
_LABEL = 11.0


@dataclass(frozen=True)
class Axis:
    """A linear axis from `low` to `high` with a label that carries the unit.

    With `origin` the values are days from that day, and days stand at the ticks.
    """

    label: str
    low: float
    high: float
    origin: date | None = None

    def name(self, tick: float) -> str:
        """What stands at a tick: the number, or the day that many days from `origin`."""
        if self.origin is None:
            return f"{tick:g}"
        day = self.origin + timedelta(days=round(tick))
        return f"{day.day} {day:%b}"

    def ticks(self, count: int = 6) -> list[float]:
        """Round values inside the axis."""
        raw = (self.high - self.low) / count
        if self.origin is not None:
            step = float(min(_DAYS, key=lambda days: abs(days - raw)))
            return [float(v) for v in np.arange(np.ceil(self.low / step) * step, self.high + 1e-6, step)]
        power = 10.0 ** np.floor(np.log10(raw))
        step = float(min((m * power for m in (1, 2, 2.5, 5, 10)), key=lambda s: abs(s - raw)))
        first = np.ceil(self.low / step - 1e-9) * step
        return [float(round(v, 10)) + 0.0 for v in np.arange(first, self.high + step * 1e-6, step)]


@dataclass(frozen=True)
class Series:
    """One line: `style` is ``solid``, ``dashed``, ``dotted`` or ``dots``."""

    name: str
    x: npt.ArrayLike
    y: npt.ArrayLike
    colour: str = "#111111"
    style: str = "solid"


@dataclass(frozen=True)
class Mark:
    """A vertical line at `x` with a short text. A `key` lets the page take hold of it; a ghost is dashed."""

    x: float
    text: str
    colour: str = "#111111"
    key: str = ""
    ghost: bool = False


@dataclass(frozen=True)
class Band:
    """A faint field between two lines: where a line is expected to run."""

    x: npt.ArrayLike
    low: npt.ArrayLike
    high: npt.ArrayLike
    colour: str = "#111111"


_STYLES = {
    "solid": 'stroke-width="1.8"',
    "dashed": 'stroke-width="1.3" stroke-dasharray="6 4"',
    "dotted": 'stroke-width="1.3" stroke-dasharray="1.5 3.5" stroke-linecap="round"',
}


def line_plot(
    series: Sequence[Series],
    x: Axis,
    y: Axis,
    title: str,
    marks: Sequence[Mark] = (),
    width: int = WIDTH,
    height: int = HEIGHT,
    ends: bool = False,
    bands: Sequence[Band] = (),
) -> str:
    """An SVG line plot; `title` is what a screen reader says. Values stand in ``data-series`` for the
    pointer.

    With `ends` each line carries its name, a letter or two, where it ends on the right.
    """
    inner_w, inner_h = width - _LEFT - _RIGHT, height - _TOP - _BOTTOM

    def px(value: npt.ArrayLike) -> np.ndarray:
        return _LEFT + (np.asarray(value, dtype=float) - x.low) / (x.high - x.low) * inner_w

    def py(value: npt.ArrayLike) -> np.ndarray:
        return _TOP + inner_h - (np.asarray(value, dtype=float) - y.low) / (y.high - y.low) * inner_h

    role = "group" if any(m.key for m in marks) else "img"  # lines that can be moved stand for themselves
    parts = [
        f'<svg class="plot" viewBox="0 0 {width} {height}" role="{role}" aria-label="{escape(title)}" '
        'tabindex="0" '
        f"data-frame='{json.dumps([_LEFT, _TOP, inner_w, inner_h, x.low, x.high])}' "
        f"data-xlabel='{escape(x.label, quote=True)}' data-series='{_payload(series)}'>",
        f'<rect x="{_LEFT}" y="{_TOP}" width="{inner_w}" height="{inner_h}" class="plot-field"/>',
    ]
    for tick in x.ticks():
        at = float(px(tick))
        parts.append(f'<path d="M{at:.1f} {_TOP}v{inner_h}" class="plot-grid"/>')
        parts.append(
            f'<text x="{at:.1f}" y="{_TOP + inner_h + 15}" text-anchor="middle">{x.name(tick)}</text>'
        )
    for tick in y.ticks():
        at = float(py(tick))
        parts.append(f'<path d="M{_LEFT} {at:.1f}h{inner_w}" class="plot-grid"/>')
        parts.append(f'<text x="{_LEFT - 6}" y="{at + 4:.1f}" text-anchor="end">{tick:g}</text>')
    parts.append(
        f'<text x="{_LEFT + inner_w / 2:.0f}" y="{height - 6}" text-anchor="middle" '
        f'class="plot-label">{escape(x.label)}</text>'
    )
    parts.append(
        f'<text transform="translate(13 {_TOP + inner_h / 2:.0f}) rotate(-90)" text-anchor="middle" '
        f'class="plot-label">{escape(y.label)}</text>'
    )
    for mark in marks:
        at = float(px(mark.x))
        anchor, shift = ("end", -4) if at > width - 110 else ("start", 4)
        held = f' data-mark="{escape(mark.key)}"' if mark.key else ""
        dash = ' stroke-dasharray="2 4"' if mark.ghost else ""
        parts.append(
            f'<path d="M{at:.1f} {_TOP}v{inner_h}" stroke="{mark.colour}" stroke-width="1.6"{dash}{held}/>'
        )
        parts.append(
            f'<text x="{at + shift:.1f}" y="{_TOP + 12}" text-anchor="{anchor}" '
            f'class="plot-mark">{escape(mark.text)}</text>'
        )
    for band in bands:
        xs = px(band.x)
        top, below = (np.clip(py(v), _TOP, _TOP + inner_h) for v in (band.high, band.low))
        edge = [*zip(xs, top), *zip(xs[::-1], below[::-1])]
        path = "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in edge) + "Z"
        parts.append(f'<path d="{path}" class="plot-band" fill="{band.colour}"/>')
    for line in series:
        xs, ys = px(line.x), np.clip(py(line.y), _TOP - 2, _TOP + inner_h + 2)
        if line.style == "dots":
            parts.append(f'<g fill="{line.colour}">')
            parts += [f'<circle cx="{a:.1f}" cy="{b:.1f}" r="2.4"/>' for a, b in zip(xs, ys)]
            parts.append("</g>")
            continue
        path = "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(xs, ys))
        parts.append(f'<path d="{path}" fill="none" stroke="{line.colour}" {_STYLES[line.style]}/>')
    if ends:
        lasts = [float(py(np.asarray(line.y, dtype=float)[-1])) for line in series]
        for line, at in zip(series, _apart(lasts, _LABEL)):
            parts.append(
                f'<text x="{width - _RIGHT + 3}" y="{at + 4:.1f}" class="plot-end">{escape(line.name)}</text>'
            )
    parts.append('<path class="plot-pointer" d=""/></svg>')
    return "".join(parts)


def _apart(wanted: Sequence[float], gap: float) -> list[float]:
    """Places near the `wanted` ones, in their order, none closer to the next than `gap`."""
    order = np.argsort(wanted, kind="stable")
    steps = np.arange(len(wanted)) * gap
    free = np.asarray(wanted, dtype=float)[order] - steps
    placed = np.empty(len(wanted))
    # blocks that would overlap share their mean: the least-squares fit of a rising row (pool adjacent
    # violators)
    blocks: list[tuple[float, int]] = []
    for value in free:
        blocks.append((float(value), 1))
        while len(blocks) > 1 and blocks[-2][0] > blocks[-1][0]:
            (a, n), (b, m) = blocks[-2], blocks[-1]
            blocks[-2:] = [((a * n + b * m) / (n + m), n + m)]
    placed[order] = np.repeat([v for v, _ in blocks], [n for _, n in blocks]) + steps
    return [float(v) for v in placed]


def _payload(series: Sequence[Series]) -> str:
    data = [
        {
            "name": s.name,
            "colour": s.colour,
            "x": [round(float(v), 3) for v in np.asarray(s.x)],
            "y": [round(float(v), 3) for v in np.asarray(s.y)],
        }
        for s in series
        if s.name
    ]
    return escape(json.dumps(data), quote=True)
