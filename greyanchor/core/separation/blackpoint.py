"""Black point compensation (ISO 18619): the darkest colour of a source is laid onto that of the printer.

Which colour is a profile's darkest is found the way ISO 18619 describes: by asking the profile itself for
black, there and back, and where its shadows bend, by where the straight part of the lightness scale would
meet black.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array, lab_to_xyz
from greyanchor.core.formats.icc import PCS_WHITE

#: XYZ (Y = 1) of the perceptual black of version 4 (ICC.1:2022, 6.3.4.3)
PERCEPTUAL_BLACK = np.array([0.00336, 0.0034731, 0.00287])
NO_BLACK = np.zeros(3)
#: a profile without a black is taken to have one no lighter than this (L*)
_LIGHTEST = 50.0
_STEPS = 256
_STRAIGHT_WITHIN = 4.0


@dataclass(frozen=True)
class Tables:
    """What the search asks of a profile: Lab (n, 3) of a darkest device value, and Lab there and back."""

    version: int
    space: str
    device_class: str
    matrix: bool
    has_output_table: bool
    darkest: Callable[[str], Array | None]
    round_trip: Callable[[Array, str], Array]


def source_black(tables: Tables, intent: str) -> Array:
    """XYZ (3,), Y = 1, of the darkest colour of a source for `intent`; zero where it cannot be known."""
    if tables.device_class in ("link", "abst", "nmcl"):
        return NO_BLACK
    if tables.version >= 4 and intent in ("perceptual", "saturation"):
        return _darkest(tables, "relative") if tables.matrix else PERCEPTUAL_BLACK
    by_print = intent == "relative" and tables.device_class == "prtr" and tables.space not in ("RGB", "GRAY")
    if by_print and tables.has_output_table:
        # all inks full are no printable black: what the profile prints for black is
        found = tables.round_trip(np.zeros((1, 3)), "perceptual")[0]
        return _neutral(float(np.clip(found[0], 0.0, _LIGHTEST)))
    return _darkest(tables, intent)


def target_black(tables: Tables, intent: str) -> Array:
    """XYZ (3,), Y = 1, of the darkest colour that a printer reaches through `intent`."""
    if tables.device_class in ("link", "abst", "nmcl"):
        return NO_BLACK
    if tables.version >= 4 and intent in ("perceptual", "saturation"):
        return _darkest(tables, "relative") if tables.matrix else PERCEPTUAL_BLACK
    if not tables.has_output_table or tables.space not in ("GRAY", "RGB", "CMYK"):
        return source_black(tables, intent)
    start = 0.0
    if intent == "relative":
        start = _lightness(source_black(tables, intent))
    asked = np.linspace(0.0, 100.0, _STEPS)
    greys = np.zeros((_STEPS, 3))
    greys[:, 0] = asked
    reached = tables.round_trip(greys, intent)[:, 0]
    reached[1:] = np.minimum.accumulate(reached[1:][::-1])[::-1]
    low, high = reached[0], reached[-1]
    if not low < high:
        return NO_BLACK
    if intent == "relative":
        straight = np.abs(asked - reached) < _STRAIGHT_WITHIN
        if np.all(straight | (asked <= low + 0.2 * (high - low))):
            return _neutral(start)
    share = (reached - low) / (high - low)
    first, last = (0.1, 0.5) if intent == "relative" else (0.03, 0.25)
    inside = (share >= first) & (share < last)
    if inside.sum() < 3:
        return NO_BLACK
    return _neutral(max(_vertex(asked[inside], share[inside]), 0.0))


def _vertex(x: Array, y: Array) -> float:
    """Where the parabola through points (n,) meets zero, 0..50; 0 where it does not."""
    a, b, c = np.polyfit(x, y, 2)
    if abs(a) < 1e-10:
        return float(min(0.0, max(50.0, -c / b)))
    inside = b * b - 4.0 * a * c
    if inside <= 0:
        return 0.0
    return float(np.clip((-b + np.sqrt(inside)) / (2.0 * a), 0.0, 50.0))


def _darkest(tables: Tables, intent: str) -> Array:
    found = tables.darkest(intent)
    if found is None:
        return NO_BLACK
    lab = np.minimum(found[:1], [[_LIGHTEST, np.inf, np.inf]])
    return np.asarray(lab_to_xyz(lab)[0] / 100.0)


def _neutral(lightness: float) -> Array:
    """XYZ (3,), Y = 1, of a neutral."""
    return np.asarray(lab_to_xyz(np.array([[lightness, 0.0, 0.0]]))[0] / 100.0)


def _lightness(xyz: Array) -> float:
    y = float(xyz[1])
    return 116.0 * y ** (1.0 / 3.0) - 16.0 if y > 216.0 / 24389.0 else y * 24389.0 / 27.0


def compensation(source: Array, target: Array) -> tuple[Array, Array]:
    """Factors and offsets (3,) for XYZ (Y = 1) that move `source` black to `target` and hold PCS white."""
    if np.array_equal(source, target):
        return np.ones(3), np.zeros(3)
    room = source - PCS_WHITE
    return (target - PCS_WHITE) / room, -PCS_WHITE * (target - source) / room
