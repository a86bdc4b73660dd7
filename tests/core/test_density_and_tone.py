"""Densities and tone values."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.colour import density
from greyanchor.core.colour.colorimetry import lab_to_xyz


def test_visual_density_of_ten_percent_is_one() -> None:
    assert density.visual_density([9.6, 10.0, 8.2]) == pytest.approx(1.0)


def test_sctv_is_zero_on_paper_and_hundred_on_the_solid() -> None:
    paper, solid = lab_to_xyz([95, 0, -2]), lab_to_xyz([55, -37, -50])
    assert density.sctv(paper, paper, solid) == pytest.approx(0.0)
    assert density.sctv(solid, paper, solid) == pytest.approx(100.0)


def test_sctv_of_equal_steps_in_the_tone_coordinate_is_even() -> None:
    # ISO 20654 is linear in 116 f(T/Tn) - 16: a colour halfway in every coordinate has 50 %
    paper, solid = np.array([95.0, 0.0, 0.0]), np.array([20.0, 0.0, 0.0])
    half = lab_to_xyz((paper + solid) / 2)
    assert density.sctv(half, lab_to_xyz(paper), lab_to_xyz(solid)) == pytest.approx(50.0, abs=1e-6)


def test_the_peak_band_of_a_cyan_lies_in_the_red() -> None:
    nm = np.arange(380, 731, 10)
    paper = np.full(36, 0.85)
    solid = paper * 10 ** (-1.4 * np.exp(-0.5 * ((nm - 640) / 50) ** 2))
    assert nm[density.peak_band(solid, paper)] == 640
    assert density.status_i_density(solid[None], "C")[0] > density.status_i_density(solid[None], "Y")[0] + 1.0
