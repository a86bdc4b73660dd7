"""How screens are judged, on patterns whose answer is known."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.separation.halftone.judging import granularity, low_power, radial_spectrum


def test_white_noise_has_power_one_at_every_frequency() -> None:
    noise = np.random.default_rng(1).standard_normal((512, 512))
    frequency, power = radial_spectrum(noise)
    assert frequency[0] == 1 / 512 and np.abs(power[24:] - 1.0).max() < 0.3
    assert abs(low_power((noise > 1.0).astype(float), 0.16) - 1.0) < 0.1


@pytest.mark.parametrize("cycles_a_mm", [0.25, 1.0, 4.0])
def test_a_wave_is_seen_as_the_eye_s_own_curve_says(cycles_a_mm: float) -> None:
    """A weak wave of ink about a half, its lightness by the derivative of L*."""
    side, resolution = 1016, 508.0
    x = np.arange(side) * 25.4 / resolution
    wave = np.tile(0.5 + 0.01 * np.sin(2 * np.pi * cycles_a_mm * x), (side, 1))
    degree = cycles_a_mm * np.pi * 300.0 / 180.0
    eye = 5.05 * np.exp(-0.138 * degree) * (1.0 - np.exp(-0.1 * degree)) if degree > 5.5 else 1.0
    lightness = 0.01 / np.sqrt(2.0) * 116.0 / 3.0 * 0.5 ** (-2.0 / 3.0)
    assert abs(granularity(wave, resolution) / (eye * lightness) - 1.0) < 0.02
    assert granularity(wave, resolution, 600.0) <= granularity(wave, resolution) + 1e-9


def test_finer_dots_are_seen_less() -> None:
    checks = np.indices((256, 256)).sum(axis=0) % 2
    assert granularity(checks, 150.0) > granularity(checks, 300.0) > granularity(checks, 600.0)
