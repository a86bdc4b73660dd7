"""Baselines, and restoring a press to them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.calibration import restore
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.simulation.inks import ink_absorption
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests.conftest import CMYK, PrintRoom


def short_reading(room: PrintRoom, seed: int, curves: CurveSet, state: Condition = Condition()) -> ReadingSet:
    chart, _ = lay_out(restore.short_chart(), CMYK, shuffle_seed=3)
    return average([print_and_read(chart, room.press, seed, n, state, curves.apply) for n in (1, 2)])


@pytest.mark.parametrize(("channel", "gain"), [("C", 1.1), ("M", 0.9), ("Y", 1.1), ("K", 0.9)])
def test_restore_brings_a_drifted_press_back_to_its_baseline(
    room: PrintRoom, channel: str, gain: float
) -> None:
    drifted = Condition(drift=((channel, gain),))
    baseline, now = short_reading(room, 1, room.curves), short_reading(room, 2, room.curves, drifted)
    drift = restore.compare_to_baseline(baseline, now, room.curves)
    assert drift.channels[channel].volume == pytest.approx(gain, abs=0.025)
    assert len(drift.words) == 1 and drift.words[0].startswith(f"{channel} prints")
    assert ("heavier" if gain > 1 else "lighter") in drift.words[0] and drift.not_enough == []
    made = restore.restore(baseline, now, room.curves)
    assert not made.lost
    after = restore.compare_to_baseline(baseline, short_reading(room, 3, made.curves, drifted), made.curves)
    assert after.mean <= 0.5 < drift.mean
    assert after.words == ["nothing drifted beyond the noise of a reading"]


def test_other_paper_and_a_lost_limit_are_text(room: PrintRoom) -> None:
    baseline = short_reading(room, 1, room.curves)
    other = short_reading(room, 2, room.curves, Condition(paper=(-1.0, 0.0, 3.0)))
    drift = restore.compare_to_baseline(baseline, other, room.curves)
    assert drift.paper > 1.5 and any("paper changed" in r for r in drift.not_enough)
    assert any("the paper is" in w for w in drift.words)
    weak = short_reading(room, 2, room.curves, Condition(drift=(("C", 0.55),)))
    lost = restore.restore(baseline, weak, room.curves)
    assert set(lost.lost) == {"C"} and lost.lost["C"] > 1.0 and lost.limits["C"] <= 1.0


def test_another_ink_is_reported_as_another_hue(room: PrintRoom) -> None:
    baseline = short_reading(room, 1, room.curves)
    alpha = ink_absorption("Tarn pigment").copy()
    alpha[1] = np.roll(alpha[1], 2)
    foreign = replace(room, press=replace(room.press, absorption=alpha))
    drift = restore.compare_to_baseline(baseline, short_reading(foreign, 2, room.curves), room.curves)
    assert any(r.startswith("M has another hue") for r in drift.not_enough)
    assert not any(r.startswith(("C", "Y", "K")) for r in drift.not_enough)


def test_a_baseline_can_be_predicted_from_the_raw_ramps(room: PrintRoom) -> None:
    chart, _ = lay_out(patches.design("linearization", limits=room.limits), CMYK)
    ramps = print_and_read(chart, room.press, 2)
    short, _ = lay_out(restore.short_chart(), CMYK)
    found = restore.baseline_from_ramps(ramps, room.curves, short)
    truth = room.truth(found.device)
    assert (found.device > 0).sum(axis=1).max() == 1
    assert delta_e_2000(found.lab(), truth).mean() < 0.5


def test_readings_of_another_chart_are_not_compared_with_the_baseline(room: PrintRoom) -> None:
    baseline = short_reading(room, 1, room.curves)
    with pytest.raises(BadInput, match="not of the chart"):
        restore.compare_to_baseline(baseline, baseline.select(np.arange(20)), room.curves)
