"""Absorption of the made-up inks: density per unit of film, 380..730 nm at 10 nm."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colorimetry import WAVELENGTHS, Array


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
    if ink_set == "Basalt UV":
        cyan = cyan * 1.05 + 0.03 * _peak(500, 60, 60)
        magenta = 1.25 * _peak(548, 42, 26) + 0.45 * _peak(512, 32, 24) + 0.28 * _peak(425, 50, 40)
        yellow = yellow * 1.08
        black = black * 1.10
    return np.stack([cyan, magenta, yellow, black])
