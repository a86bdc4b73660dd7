"""The aims that a shop begins with, and aims that lack patches."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.charts.patches import control_strip, profile_patches
from greyanchor.core.colour.colorimetry import delta_e_2000, lab_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.generic_aims import COATED, GENERIC_AIMS, UNCOATED, GenericAim, aim_data
from greyanchor.core.verification.interpolation import interpolated, lacking, strip_patches
from greyanchor.core.verification.shipped import SHIPPED


@pytest.mark.parametrize("aim", GENERIC_AIMS.values(), ids=lambda a: a.key)
def test_paper_and_solids_are_those_of_the_standard(aim: GenericAim) -> None:
    inks = np.array([(0, 0, 0, 0), (0, 0, 0, 1), *((*s, 0) for s in aim.solids)], dtype=float)
    assert np.abs(aim.lab(inks) - [aim.paper, aim.black, *aim.solids.values()]).max() < 1e-6


@pytest.mark.parametrize("aim", GENERIC_AIMS.values(), ids=lambda a: a.key)
@pytest.mark.parametrize("channel", range(4))
def test_the_tone_value_increase_is_that_of_the_standards_curve(aim: GenericAim, channel: int) -> None:
    device = np.zeros((3, 4))
    device[1:, channel] = 0.5, 1.0
    paper, half, solid = lab_to_xyz(aim.lab(device))[:, (0, 1, 2, 1)[channel]]
    murray_davies = 100 * (paper - half) / (paper - solid)
    assert murray_davies - 50 == pytest.approx(aim.increase, abs=0.1)


def test_uncoated_is_paler_and_gains_more() -> None:
    device = np.array([[0.5, 0.0, 0.0, 0.0], [0.0, 0.0, 0.0, 1.0]])
    coated, uncoated = COATED.lab(device), UNCOATED.lab(device)
    assert uncoated[1, 0] > coated[1, 0] + 10 and uncoated[0, 0] < coated[0, 0]


def _data(count: int, noise: float, seed: int = 3) -> ReadingSet:
    device = profile_patches(count, 3.5)
    scatter = np.random.default_rng(seed).normal(0, noise, (len(device), 3))
    return ReadingSet(
        ids=tuple(map(str, range(len(device)))),
        channels=tuple("CMYK"),
        device=device,
        measured_lab=UNCOATED.lab(device) + scatter,
        condition="M1",
    )


def test_what_data_lack_is_interpolated_near_the_truth_and_marked() -> None:
    data = _data(500, 0.15)
    missing = lacking(data, strip_patches())
    assert 20 < len(missing) < 100
    filled = interpolated(data, missing)
    off = delta_e_2000(filled.lab(), UNCOATED.lab(missing))
    assert off.mean() < 0.15 and off.max() < 0.5
    aim = aims.Aim("own", data=data, filled=filled)
    strip = control_strip()
    printed = ReadingSet(
        tuple(map(str, range(len(strip)))), tuple("CMYK"), strip, measured_lab=UNCOATED.lab(strip)
    )
    assert aim.interpolated(printed).sum() > 10 and not np.isnan(aim.lab_for(printed)).any()
    found = check(printed, aim, SHIPPED["iso12647-7:2016"])
    assert found.verdict == "pass"
    assert any("interpolated from its own data" in note for note in found.notes)
    with pytest.raises(BadInput, match="holds no value"):
        aims.Aim("own", data=data).lab_for(printed)


def test_data_that_are_few_or_wild_are_not_interpolated() -> None:
    with pytest.raises(BadInput, match="too few"):
        interpolated(aim_data().select(np.arange(40)), np.eye(4))
    with pytest.raises(BadInput, match="off by"):
        interpolated(_data(400, 4.0), np.eye(4))
