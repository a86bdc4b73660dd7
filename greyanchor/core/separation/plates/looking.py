"""Pictures of plates: laid over one another in the colours of their inks, and screens enlarged."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from greyanchor.core.separation.halftone.clustered import Lattice
from greyanchor.core.separation.halftone.screens import Screen, ScreenSpec

Pixels = np.ndarray[Any, Any]
#: what inks let through that are not known otherwise, sRGB
COLOURS = {
    "C": (0, 150, 210),
    "M": (215, 25, 120),
    "Y": (255, 225, 0),
    "K": (30, 30, 30),
}
_UNKNOWN = (110, 110, 110)
#: of an inch, µm
_INCH = 25_400.0


def colour_of(ink: str, known: Mapping[str, tuple[int, int, int]]) -> tuple[int, int, int]:
    """sRGB of an ink's solid."""
    usual = {"Cyan": "C", "Magenta": "M", "Yellow": "Y", "Black": "K"}.get(ink, ink)
    return known.get(ink) or COLOURS.get(usual, _UNKNOWN)


def overlaid(amounts: Pixels, colours: Sequence[tuple[int, int, int]]) -> Pixels:
    """sRGB bytes (rows, columns, 3) of inks (n, rows, columns), 0 to 1, on white: each lets through what its
    colour does.
    """
    seen = np.ones((*amounts.shape[1:], 3))
    for plane, colour in zip(amounts, colours):
        through = (np.array(colour) / 255.0) ** 2.2
        seen *= 1.0 - plane[..., None] * (1.0 - through)
    return np.round(255.0 * seen ** (1.0 / 2.2)).astype(np.uint8)


def dots_of(
    screens: Mapping[str, ScreenSpec],
    lattices: Mapping[str, Lattice],
    tones: Mapping[str, float],
    resolution: float,
    side: int,
    origin: tuple[int, int] = (0, 0),
) -> Pixels:
    """Dots (inks, side, side), 0 or 1, of flat tones (fractions) of each ink, from a place on the sheet."""
    made = []
    for place, (ink, spec) in enumerate(screens.items()):
        screen = Screen(spec, resolution, side, place, lattice=lattices.get(ink))
        flat = np.full((side, side), round(65535.0 * tones.get(ink, 0.0)), dtype=np.uint16)
        made.append(screen.levels(flat, *origin))
    return np.array(made)


def levels_of(spec: ScreenSpec, resolution: float) -> int:
    """Tones that a cell of a clustered screen can have, bare and solid among them; for blue noise, those of
    an area that is as large as a cell of 60 lines.
    """
    lines = spec.lines if spec.kind in ("am", "hybrid") else 60.0
    side = max(spec.smallest, 1) if spec.kind == "blue-noise" else 1
    return int((resolution / lines) ** 2 / side**2 + 1e-9) + 1


def dot_micrometres(spec: ScreenSpec, resolution: float, tone: float) -> float:
    """How wide a dot of a tone (fraction) is, µm: a disc of a cell's share; of blue noise its smallest."""
    if spec.kind == "blue-noise":
        return max(spec.smallest, 1) * _INCH / resolution
    cell = _INCH / spec.lines
    return 2.0 * cell * math.sqrt(max(tone, 0.0) / math.pi)


def least_tone(spec: ScreenSpec, resolution: float) -> float:
    """The smallest tone (fraction) whose every cell has a dot of one place; smaller ones leave cells out."""
    return 0.0 if spec.kind == "blue-noise" else (spec.lines / resolution) ** 2
