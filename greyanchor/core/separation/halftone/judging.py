"""How a screen looks: its spectrum, and its grain as the eye sees it from a distance."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array

Pattern = np.ndarray[Any, Any]
#: from where prints are judged, mm
USUAL_DISTANCE = 300.0


def radial_spectrum(pattern: Pattern) -> tuple[Array, Array]:
    """Radially averaged power of a pattern (n, n), white noise of its own variance being 1.

    Frequencies (m,) are in cycles a dot, in rings one step of the transform wide; the mean is left out
    (Ulichney, Dithering with blue noise, 1988).
    """
    side = len(pattern)
    power = np.abs(np.fft.fft2(pattern - pattern.mean())) ** 2 / pattern.size
    steps = np.fft.fftfreq(side) * side
    ring = np.round(np.hypot(steps[:, None], steps[None])).astype(int)
    count = np.bincount(ring.reshape(-1))
    total = np.bincount(ring.reshape(-1), power.reshape(-1))
    rings = np.arange(1, side // 2)
    return rings / side, total[rings] / count[rings] / max(float(pattern.var()), 1e-12)


def low_power(pattern: Pattern, tone: float) -> float:
    """Power below a quarter of the principal frequency, as a share of white noise's.

    `tone` is the share of places that are inked; the principal frequency is its root, at most a half
    (Ulichney).
    """
    rare = min(tone, 1.0 - tone)
    principal = np.sqrt(rare) if rare <= 0.25 else 0.5
    power = np.abs(np.fft.fft2(pattern - pattern.mean())) ** 2 / pattern.size
    steps = np.fft.fftfreq(len(pattern))
    frequency = np.hypot(steps[:, None], steps[None])
    return float(power[(frequency > 0) & (frequency < principal / 4)].mean() / pattern.var())


def granularity(pattern: Pattern, resolution: float, distance: float = USUAL_DISTANCE) -> float:
    """What of a flat field's grain the eye sees: the standard deviation of its lightness, L*, after the eye.

    `pattern` (n, n) is ink, 0 to 1, at `resolution` dots an inch, black on white; `distance` is in mm. Its
    reflectance passes the visual transfer function of Dooley and Shaw (J. Appl. Photogr. Eng. 5, 1979),
    held at its peak below it, and is turned into L* about its mean.
    """
    light = 1.0 - np.asarray(pattern, dtype=float)
    mean = float(light.mean())
    steps = np.fft.fftfreq(len(light), 25.4 / resolution)
    cycles_a_mm = np.hypot(steps[:, None], steps[None])
    cycles_a_degree = cycles_a_mm * distance * np.pi / 180.0
    eye = 5.05 * np.exp(-0.138 * cycles_a_degree) * (1.0 - np.exp(-0.1 * cycles_a_degree))
    peak = np.log(1.0 + 0.1 / 0.138) / 0.1
    eye[cycles_a_degree < peak] = 5.05 * np.exp(-0.138 * peak) * (1.0 - np.exp(-0.1 * peak))
    seen = np.fft.ifft2(np.fft.fft2(light - mean) * eye).real
    slope = 116.0 / 3.0 * max(mean, 0.01) ** (-2.0 / 3.0)
    return float(slope * seen.std())
