"""Patterns that ready a machine: nozzle lines, and steps of one setting for the eye. Black on white."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

from greyanchor.core.printing.handling import Setting
from greyanchor.core.printing.readiness import Task
from greyanchor.drawing.colours import channel_colour

_STEP = 92
_TALL = 150


def nozzle_pattern(closed: Mapping[str, Sequence[int]], nozzles: int, columns: int = 6) -> str:
    """A staircase of short lines for each ink, one line a nozzle; lines of closed nozzles are missing."""
    pitch, fall, gap = 24, 7, 26
    rows = -(-nozzles // columns)
    block = columns * fall + gap
    width, height = 40 + rows * (columns * 4 + pitch), 8 + len(closed) * block
    parts = [
        (
            f'<svg class="pattern" viewBox="0 0 {width} {height}" role="img" aria-label="Nozzle pattern: '
            f'{nozzles} lines for each ink">'
        )
    ]
    for i, (channel, gone) in enumerate(closed.items()):
        top = 10 + i * block
        parts.append(f'<text x="4" y="{top + block / 2 - 8:.0f}">{escape(channel)}</text>')
        lost = set(gone)
        colour = channel_colour(channel)
        for n in range(nozzles):
            if n in lost:
                continue
            row, column = divmod(n, columns)
            x = 34 + row * (columns * 4 + pitch) + column * 4
            y = top + column * fall
            parts.append(f'<path d="M{x} {y}h{pitch}" stroke="{colour}" stroke-width="2.4"/>')
    return "".join([*parts, "</svg>"])


def step_pattern(task: Task, setting: Setting, values: Sequence[float], misfit: Sequence[float]) -> str:
    """The steps of a pattern side by side as they came out: what is off is drawn off."""
    width = 16 + _STEP * len(values)
    parts = [
        (
            f'<svg class="pattern" viewBox="0 0 {width} {_TALL + 34}" role="img" '
            f'aria-label="{escape(task.title)}: {len(values)} steps">'
        )
    ]
    draw = _DRAWN[task.key]
    for i, (value, off) in enumerate(zip(values, misfit)):
        left = 8 + i * _STEP
        parts.append(f'<g transform="translate({left} 4)">{draw(float(off))}</g>')
        parts.append(
            f'<text x="{left + 40}" y="{_TALL + 16}" text-anchor="middle">{i + 1}</text>'
            f'<text x="{left + 40}" y="{_TALL + 29}" text-anchor="middle" '
            f'class="plot-label">{escape(setting.with_unit(value))}</text>'
        )
    return "".join([*parts, "</svg>"])


def _lines(off: float) -> str:
    """Upright lines of one direction, and those of the other beside them."""
    shift = 6.0 * off
    there = "".join(f'<path d="M{x} 0v66" stroke="#111" stroke-width="2"/>' for x in range(10, 80, 20))
    back = "".join(
        (
            f'<path d="M{x + shift:.2f} 74v66" stroke="#111" stroke-width="2"/><path d="M{x + shift:.2f} '
            '50v24" '
            'stroke="#111" stroke-width="2"/>'
        )
        for x in range(10, 80, 20)
    )
    return f'<rect width="80" height="{_TALL - 8}" fill="#fff" stroke="#c4c4c4"/>{there}{back}'


def _strips(off: float) -> str:
    """Strips of neighbouring passes: a gap between them, or an overlap."""
    tall, gap = 20, 4.0 * off
    parts = [f'<rect width="80" height="{_TALL - 8}" fill="#fff" stroke="#c4c4c4"/>']
    for i in range(7):
        y = 2 + i * tall
        parts.append(f'<rect x="2" y="{y}" width="76" height="{tall}" fill="#8c8c8c"/>')
        if i and gap > 0:
            parts.append(f'<rect x="2" y="{y - gap / 2:.2f}" width="76" height="{gap:.2f}" fill="#f4f4f4"/>')
        elif i and gap < 0:
            parts.append(f'<rect x="2" y="{y + gap / 2:.2f}" width="76" height="{-gap:.2f}" fill="#3a3a3a"/>')
    return "".join(parts)


def _triangle(off: float) -> str:
    """A cut triangle: not through where the force is too small, into the backing where it is too large."""
    base = f'<rect width="80" height="{_TALL - 8}" fill="#fff" stroke="#c4c4c4"/>'
    if off < -0.12:
        dash = f' stroke-dasharray="{max(1.0, 9.0 * (1 + off)):.1f} {2 + 8 * -off:.1f}"'
        return f'{base}<path d="M40 20L68 116H12Z" fill="none" stroke="#111" stroke-width="1.6"{dash}/>'
    backing = (
        f'<path d="M40 20L68 116H12Z" fill="none" stroke="#8a8a8a" stroke-width="{2 + 9 * max(off, 0):.1f}"/>'
        if off > 0.12
        else ""
    )
    return f'{base}{backing}<path d="M40 20L68 116H12Z" fill="#dcdcdc" stroke="#111" stroke-width="1.6"/>'


def _corner(off: float) -> str:
    """A square whose corners are torn where the blade is too fast, and rough where it is too slow."""
    torn = 14.0 * max(off, 0.0)
    wave = 3.0 * max(-off, 0.0)
    side = "".join(f"q4 {wave:.1f} 8 0" for _ in range(7))
    return (
        f'<rect width="80" height="{_TALL - 8}" fill="#fff" stroke="#c4c4c4"/>'
        f'<path d="M12 {40 + torn:.1f}Q12 40 {12 + torn:.1f} 40{side}L68 96Q68 104 60 104H12Z" '
        'fill="#dcdcdc" stroke="#111" stroke-width="1.6"/>'
    )


def _offset(off: float) -> str:
    """A printed square and the line of the blade around it."""
    shift = 12.0 * off
    return (
        f'<rect width="80" height="{_TALL - 8}" fill="#fff" stroke="#c4c4c4"/>'
        '<rect x="18" y="40" width="44" height="56" fill="none" stroke="#111" stroke-width="2"/>'
        f'<rect x="{18 + shift:.2f}" y="{40 + shift:.2f}" width="44" height="56" fill="none" stroke="#111" '
        'stroke-width="1" stroke-dasharray="3 2"/>'
    )


_DRAWN = {
    "alignment": _lines,
    "feed": _strips,
    "cut-force": _triangle,
    "cut-speed": _corner,
    "cut-passes": _triangle,
    "cut-offset": _offset,
}
