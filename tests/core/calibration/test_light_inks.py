"""Ink channels split into a full and a light ink."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.calibration import light_split, lightinks
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK


@pytest.fixture(scope="module")
def light_press() -> SimulatedPress:
    return press_for(
        PrintEnvironment("Petrel 44", "Tarn pigment light", "Harbour Proof Semimatt 235", heat=36)
    )


@pytest.fixture(scope="module")
def split(light_press: SimulatedPress) -> light_split.LightSplit:
    chart, _ = lay_out(patches.design("ink-limit", light_press.channels), light_press.channels)
    ramps = find_ramps(print_and_read(chart, light_press, 1))
    assert set(ramps) == {"C", "M", "Y", "K", "LC", "LM"}
    return lightinks.find_split(ramps["C"], ramps["LC"], 0.9, 0.8)


def test_the_split_finds_the_strength_of_the_light_ink(split: light_split.LightSplit) -> None:
    assert split.reach == pytest.approx(0.34 * 0.9, abs=0.02), (
        "the stand-in's light cyan is 0.34 of its parent"
    )


def test_a_split_channel_prints_the_same_tone_without_a_corner(
    light_press: SimulatedPress, split: light_split.LightSplit
) -> None:
    value = np.linspace(0.0, 0.8, 161)
    light, full = split.apply(value)
    assert full[value <= split.start].max() == 0 and np.abs(light[value >= split.end]).max() < 1e-12
    assert light.max() <= 0.9 + 1e-9 and light.max() > 0.85, "the light ink is used to its limit"
    assert (np.diff(full) >= -1e-12).all()
    device = np.zeros((len(value), 4))
    device[:, 0] = value
    both = light_split.split_channels(device, CMYK, [split])
    both = np.hstack([both, np.zeros((len(value), 1))])
    plain = spectra_to_lab(light_press.spectra(device))
    assert delta_e_2000(spectra_to_lab(light_press.spectra(both)), plain).max() < 1.0
    for inks in (light, full):
        curvature = np.abs(np.diff(inks, 3)).max()
        assert curvature < 0.02, "no corner where one ink takes over"


def test_a_split_that_the_light_ink_cannot_carry_is_refused(split: light_split.LightSplit) -> None:
    with pytest.raises(BadInput, match="end it earlier"):
        replace(split, end=1.0, start=split.reach)
    with pytest.raises(BadInput, match="start the crossover there"):
        replace(split, start=split.reach + 0.1, end=1.0)
    with pytest.raises(BadInput, match="rise"):
        replace(split, start=0.2, end=0.1)
