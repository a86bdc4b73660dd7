"""What a check will say before anything is printed, held against the check of a real print."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import control_strip
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.verification.aims import from_data, load, strip_through_profile
from greyanchor.core.verification.check import check
from greyanchor.core.verification.predict import OUT_OF_REACH, Prediction, predict
from greyanchor.core.verification.shipped import SHIPPED
from tests.conftest import CMYK, PrintRoom

SET = SHIPPED["iso12647-7:2016"]


@pytest.fixture(scope="module")
def profile(built: ProfileResult) -> icc.IccProfile:
    return icc.loads(built.data)


@pytest.fixture(scope="module")
def predicted(profile: icc.IccProfile) -> Prediction:
    return predict(profile, load("generic-coated"), SET, corrected=True)


def test_a_prediction_is_what_a_print_on_the_press_then_measures(
    room: PrintRoom, profile: icc.IccProfile, predicted: Prediction
) -> None:
    strip, _ = lay_out(control_strip(4.0), CMYK)
    aim = load("generic-coated")
    sent = strip_through_profile(strip, aim, profile, True)
    printed = replace(strip, measured_lab=room.truth(sent.values()))
    real = check(printed, aim, SET, True)
    assert delta_e_2000(real.measured, predicted.result.measured).mean() < 0.5
    for wanted, parts in zip(real.findings, predicted.result.findings):
        if wanted.value is not None:
            assert parts.value == pytest.approx(wanted.value, abs=0.8), wanted.criterion.id
    assert predicted.result.verdict == real.verdict


def test_what_is_out_of_reach_is_what_the_press_cannot_print(room: PrintRoom, predicted: Prediction) -> None:
    names = {name for name, _ in predicted.out_of_reach}
    differences = dict(zip(predicted.result.ids, predicted.result.differences))
    assert all(de > OUT_OF_REACH for _, de in predicted.out_of_reach)
    assert [de for _, de in predicted.out_of_reach] == sorted(
        (de for _, de in predicted.out_of_reach), reverse=True
    )
    grid = np.stack(np.meshgrid(*[np.linspace(0, 1, 9)] * 4, indexing="ij"), axis=-1).reshape(-1, 4)
    reach = room.truth(grid[grid.sum(axis=1) <= 3.0])
    for name, aim in zip(predicted.result.ids, predicted.result.aim):
        nearest = float(delta_e_2000(np.repeat(aim[None], len(reach), axis=0), reach).min())
        if differences[name] > 3.0:
            assert nearest > 1.0, f"{name} is called out of reach, but the press prints it"
    assert names == {n for n, d in differences.items() if d > OUT_OF_REACH}


def test_an_aim_that_the_printer_prints_itself_is_wholly_within_reach(
    room: PrintRoom, profile: icc.IccProfile
) -> None:
    strip, _ = lay_out(control_strip(4.0), CMYK)
    soft = strip.values() * np.minimum(1.0, 2.6 / np.maximum(strip.values().sum(axis=1, keepdims=True), 1e-9))
    own = from_data(replace(strip, measured_lab=room.truth(0.9 * soft)), "own")
    found = predict(profile, own, SET)
    assert found.within_reach
    assert found.result.differences.mean() < 0.6


def test_profiles_and_aims_that_do_not_fit_are_refused(profile: icc.IccProfile) -> None:
    one_way = {tag: data for tag, data in profile.tags.items() if not tag.startswith("B2A")}
    with pytest.raises(BadInput, match="B2A|from colour to"):
        predict(replace(profile, tags=one_way), load("generic-coated"), SET)
    strip, _ = lay_out(np.array([[0.11, 0, 0, 0], [0, 0, 0, 0]]), CMYK)
    foreign = from_data(replace(strip, measured_lab=np.array([[80.0, 0, 0], [95.0, 0, 0]])), "two patches")
    with pytest.raises(BadInput, match="holds no value for"):
        predict(profile, foreign, SET)
