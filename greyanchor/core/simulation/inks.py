"""Absorption of the made-up inks: density per unit of film, 380..730 nm at 10 nm."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.errors import BadInput


def _peak(centre: float, short: float, long: float) -> Array:
    """A lopsided bell: `short` and `long` are the widths in nm on either side of `centre`."""
    distance = WAVELENGTHS - centre
    return np.exp(-0.5 * (distance / np.where(distance < 0, short, long)) ** 2)


def _edge(at: float, width: float) -> Array:
    """1 below `at` nm, 0 above, over `width` nm."""
    return 1.0 / (1.0 + np.exp((WAVELENGTHS - at) / width))


def ink_absorption(ink_set: str = "Tarn pigment") -> Array:
    """Spectral density of one unit of C, M, Y and K film, shape (4, 36)."""
    cyan = 1.22 * _peak(640, 46, 70) + 0.06 * _peak(430, 50, 60) + 0.085 * _peak(560, 40, 30)
    magenta = 1.10 * _peak(556, 38, 19) + 0.62 * _peak(520, 28, 22) + 0.17 * _peak(425, 45, 46)
    yellow = 1.10 * _edge(502, 8.0) * (0.82 + 0.18 * _peak(440, 60, 40))
    black = 1.42 + 0.12 * (WAVELENGTHS - 550.0) / 200.0 * -1.0 + 0.05 * _peak(470, 60, 60)
    if ink_set.startswith("Basalt UV"):
        cyan = cyan * 1.05 + 0.03 * _peak(500, 60, 60)
        magenta = 1.25 * _peak(548, 42, 26) + 0.45 * _peak(512, 32, 24) + 0.28 * _peak(425, 50, 40)
        yellow = yellow * 1.08
        black = black * 1.10
    return np.stack([cyan, magenta, yellow, black])


def extra_absorption(name: str) -> Array:
    """Spectral density (36,) of one unit of an ink beyond C, M, Y and K: O, G, V or B. Raises `BadInput` for
    another.
    """
    if name == "O":
        return 1.20 * _edge(566, 7.0) * (0.86 + 0.14 * _peak(500, 60, 60))
    if name == "G":
        return 1.15 * _peak(648, 52, 80) + 1.00 * _edge(482, 8.0)
    if name == "V":
        return 1.25 * _peak(572, 48, 34) + 0.10 * _peak(440, 30, 40)
    if name == "B":
        return 0.62 * _peak(640, 46, 70) + 0.62 * _peak(572, 48, 34) + 0.05 * _peak(440, 30, 40)
    raise BadInput(f"the stand-in has no ink called {name!r}; beyond C, M, Y and K there are O, G, V and B")
