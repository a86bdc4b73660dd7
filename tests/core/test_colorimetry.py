"""Colorimetry against published vectors and an independent library."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.colour import colorimetry as cm
from greyanchor.core.colour.illuminants import FIXED_LIGHTS, cie_table, light
from greyanchor.core.errors import BadInput

# Sharma, Wu and Dalal, "The CIEDE2000 color-difference formula" (2005), Table 1.
SHARMA = np.array(
    [
        (50.0000, 2.6772, -79.7751, 50.0000, 0.0000, -82.7485, 2.0425),
        (50.0000, 3.1571, -77.2803, 50.0000, 0.0000, -82.7485, 2.8615),
        (50.0000, 2.8361, -74.0200, 50.0000, 0.0000, -82.7485, 3.4412),
        (50.0000, -1.3802, -84.2814, 50.0000, 0.0000, -82.7485, 1.0000),
        (50.0000, -1.1848, -84.8006, 50.0000, 0.0000, -82.7485, 1.0000),
        (50.0000, -0.9009, -85.5211, 50.0000, 0.0000, -82.7485, 1.0000),
        (50.0000, 0.0000, 0.0000, 50.0000, -1.0000, 2.0000, 2.3669),
        (50.0000, -1.0000, 2.0000, 50.0000, 0.0000, 0.0000, 2.3669),
        (50.0000, 2.4900, -0.0010, 50.0000, -2.4900, 0.0009, 7.1792),
        (50.0000, 2.4900, -0.0010, 50.0000, -2.4900, 0.0010, 7.1792),
        (50.0000, 2.4900, -0.0010, 50.0000, -2.4900, 0.0011, 7.2195),
        (50.0000, 2.4900, -0.0010, 50.0000, -2.4900, 0.0012, 7.2195),
        (50.0000, -0.0010, 2.4900, 50.0000, 0.0009, -2.4900, 4.8045),
        (50.0000, -0.0010, 2.4900, 50.0000, 0.0010, -2.4900, 4.8045),
        (50.0000, -0.0010, 2.4900, 50.0000, 0.0011, -2.4900, 4.7461),
        (50.0000, 2.5000, 0.0000, 50.0000, 0.0000, -2.5000, 4.3065),
        (50.0000, 2.5000, 0.0000, 73.0000, 25.0000, -18.0000, 27.1492),
        (50.0000, 2.5000, 0.0000, 61.0000, -5.0000, 29.0000, 22.8977),
        (50.0000, 2.5000, 0.0000, 56.0000, -27.0000, -3.0000, 31.9030),
        (50.0000, 2.5000, 0.0000, 58.0000, 24.0000, 15.0000, 19.4535),
        (50.0000, 2.5000, 0.0000, 50.0000, 3.1736, 0.5854, 1.0000),
        (50.0000, 2.5000, 0.0000, 50.0000, 3.2972, 0.0000, 1.0000),
        (50.0000, 2.5000, 0.0000, 50.0000, 1.8634, 0.5757, 1.0000),
        (50.0000, 2.5000, 0.0000, 50.0000, 3.2592, 0.3350, 1.0000),
        (60.2574, -34.0099, 36.2677, 60.4626, -34.1751, 39.4387, 1.2644),
        (63.0109, -31.0961, -5.8663, 62.8187, -29.7946, -4.0864, 1.2630),
        (61.2901, 3.7196, -5.3901, 61.4292, 2.2480, -4.9620, 1.8731),
        (35.0831, -44.1164, 3.7933, 35.0232, -40.0716, 1.5901, 1.8645),
        (22.7233, 20.0904, -46.6940, 23.0331, 14.9730, -42.5619, 2.0373),
        (36.4612, 47.8580, 18.3852, 36.2715, 50.5065, 21.2231, 1.4146),
        (90.8027, -2.0831, 1.4410, 91.1528, -1.6435, 0.0447, 1.4441),
        (90.9257, -0.5406, -0.9208, 88.6381, -0.8985, -0.7239, 1.5381),
        (6.7747, -0.2908, -2.4247, 5.8714, -0.0985, -2.2286, 0.6377),
        (2.0776, 0.0795, -1.1350, 0.9033, -0.0636, -0.5514, 0.9082),
    ]
)
lab_values = st.tuples(st.floats(0, 100), st.floats(-100, 100), st.floats(-100, 100))


def test_ciede2000_gives_the_34_published_values() -> None:
    assert len(SHARMA) == 34
    np.testing.assert_allclose(cm.delta_e_2000(SHARMA[:, :3], SHARMA[:, 3:6]), SHARMA[:, 6], atol=5e-5)


def test_ciede2000_is_symmetric_on_the_published_pairs() -> None:
    np.testing.assert_allclose(cm.delta_e_2000(SHARMA[:, 3:6], SHARMA[:, :3]), SHARMA[:, 6], atol=5e-5)


def test_the_white_point_of_d50_is_that_of_iso_13655() -> None:
    np.testing.assert_allclose(cm.white_point("D50"), [96.422, 100.0, 82.521], atol=1e-9)
    np.testing.assert_allclose(cm.spectra_to_lab(np.ones(36)), [100.0, 0.0, 0.0], atol=1e-9)


def test_spectra_to_xyz_agrees_with_an_independent_library() -> None:
    warnings.simplefilter("ignore")
    colour = pytest.importorskip("colour")
    random = np.random.default_rng(1)
    spectra = np.clip(np.cumsum(random.normal(0, 0.05, (6, 36)), axis=1) + 0.5, 0.02, 1.0)
    shape = colour.SpectralShape(380, 730, 10)
    for name in ("D50", "A", "D65", "F11"):
        illuminant = colour.SDS_ILLUMINANTS["FL11" if name == "F11" else name]
        theirs = np.array(
            [
                colour.sd_to_XYZ(
                    colour.SpectralDistribution(s, shape.wavelengths),
                    illuminant=illuminant,
                    method="ASTM E308",
                )
                for s in spectra
            ]
        )
        difference = cm.delta_e_2000(
            cm.xyz_to_lab(cm.spectra_to_xyz(spectra, name), cm.white_point(name)),
            cm.xyz_to_lab(theirs, cm.white_point(name)),
        )
        # a fluorescent line between two 10 nm bands is weighted differently by different interpolations
        assert difference.max() < (0.3 if name == "F11" else 0.05), name


def test_the_tables_are_those_of_the_library_they_came_from() -> None:
    warnings.simplefilter("ignore")
    colour = pytest.importorskip("colour")
    theirs = (
        colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"]
        .copy()
        .align(colour.SpectralShape(360, 780, 1))
    )
    table = cie_table()
    np.testing.assert_allclose(
        np.column_stack([table["x"], table["y"], table["z"]]), theirs.values, rtol=1e-6, atol=1e-9
    )


@pytest.mark.parametrize("name", [*FIXED_LIGHTS, "D50", "D65", "5600K"])
def test_every_light_has_power_everywhere_that_counts(name: str) -> None:
    power = light(name)
    assert power.shape == (421,) and power.min() >= 0 and power[100:300].min() > 0


@pytest.mark.parametrize("name", ["D51", "lamp", "", "3000K", "xK"])
def test_an_unknown_light_is_refused_with_what_there_is(name: str) -> None:
    with pytest.raises(BadInput, match="use one of|outside"):
        light(name)


@given(lab_values)
@settings(max_examples=200, deadline=None)
def test_lab_goes_to_xyz_and_back(lab: tuple[float, float, float]) -> None:
    np.testing.assert_allclose(cm.xyz_to_lab(cm.lab_to_xyz(lab)), lab, atol=1e-8)


@given(lab_values, lab_values)
@settings(max_examples=200, deadline=None)
def test_the_parts_of_a_difference_make_up_the_whole(
    a: tuple[float, float, float], b: tuple[float, float, float]
) -> None:
    d = cm.lab_difference(a, b)
    assert float(d.dl**2 + d.dc**2 + d.dh**2) == pytest.approx(float(d.de76**2), abs=1e-6)
    assert float(d.dch) == pytest.approx(float(np.hypot(d.dc, d.dh)), abs=1e-6)


def test_the_sign_of_a_hue_difference_is_that_of_the_turn() -> None:
    assert cm.lab_difference([50, 40, 0], [50, 39.9, 3]).dh > 0
    assert cm.lab_difference([50, 40, 0], [50, 39.9, -3]).dh < 0


def test_adaptation_carries_white_to_white() -> None:
    a, d50 = cm.white_point("A"), cm.white_point("D50")
    np.testing.assert_allclose(cm.adapt_bradford(a, a, d50), d50, atol=1e-9)


def test_substrate_correction_moves_paper_and_keeps_the_darkest() -> None:
    aim = cm.lab_to_xyz(np.array([[95.0, 1.5, -6.0], [60.0, 20.0, 10.0], [16.0, 0.0, 0.0]]))
    paper = cm.lab_to_xyz([92.0, 0.0, 2.0])
    corrected = cm.correct_substrate(aim, aim[0], paper, aim.min(axis=0))
    np.testing.assert_allclose(corrected[0], paper, atol=1e-9)
    np.testing.assert_allclose(corrected[2], aim[2], atol=1e-9)
    assert corrected[1, 1] < aim[1, 1]


@pytest.mark.parametrize(
    ("start", "stop", "step"), [(380, 730, 5), (380, 730, 20), (400, 700, 10), (360, 750, 10)]
)
def test_other_ranges_and_steps_give_nearly_the_same_colour(start: int, stop: int, step: int) -> None:
    nm = np.arange(start, stop + 1, step, dtype=float)
    smooth = 0.2 + 0.6 / (1 + np.exp(-(nm - 560) / 25))
    fine = 0.2 + 0.6 / (1 + np.exp(-(cm.WAVELENGTHS - 560) / 25))
    resampled = cm.resample_spectra(smooth[None], nm)
    assert cm.delta_e_2000(cm.spectra_to_lab(resampled[0]), cm.spectra_to_lab(fine)) < 0.3


def test_display_colours_keep_the_order_of_lightness() -> None:
    greys = cm.lab_to_srgb(np.column_stack([np.linspace(0, 100, 21), np.zeros(21), np.zeros(21)]))
    assert (np.diff(greys[:, 1]) > 0).all() and greys.min() >= 0 and greys.max() <= 1
    np.testing.assert_allclose(greys[-1], 1.0, atol=2e-3)
