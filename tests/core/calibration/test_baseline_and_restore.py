"""Baselines, and restoring a press to them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize import minimize

from greyanchor.core.calibration import restore
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000, spectra_to_lab
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


def changed(room: PrintRoom, ink: int, how: str) -> PrintRoom:
    """The same room with another film of one ink, or with dots that spread more."""
    if how == "gain":
        return replace(room, press=replace(room.press, media=replace(room.press.media, spread=1.08)))
    alpha = ink_absorption("Tarn pigment").copy()
    alpha[ink] *= 1.15
    return replace(room, press=replace(room.press, absorption=alpha))


def two_parameters(room: PrintRoom, now: PrintRoom, ink: int, curve: np.ndarray | None = None) -> float:
    """Mean dE00 that is left of a ramp on the true press: with `curve`, or with the best line there is."""
    device = np.zeros((21, 4))
    device[:, ink] = np.linspace(0.0, 1.0, 21)
    aim = spectra_to_lab(room.press.spectra(room.curves.apply(device)))
    was = room.curves.apply(device)[:, ink]

    def left(raw: np.ndarray) -> float:
        sent = np.zeros((21, 4))
        sent[:, ink] = np.clip(raw, 0.0, 1.0)
        return float(delta_e_2000(aim, spectra_to_lab(now.press.spectra(sent))).mean())

    if curve is not None:
        return left(np.interp(device[:, ink], np.linspace(0.0, 1.0, len(curve)), curve))
    starts = [(q, 0.0) for q in (0.85, 1.0, 1.15)]
    return min(
        minimize(lambda p: left(was * (p[0] + p[1] * was)), s, method="Nelder-Mead").fun for s in starts
    )


@pytest.mark.parametrize("how", ["film", "gain"])
@pytest.mark.parametrize("ink", range(4))
def test_restore_leaves_no_more_than_the_best_line_by_colour(room: PrintRoom, ink: int, how: str) -> None:
    now = changed(room, ink, how)
    baseline, read = short_reading(room, 1, room.curves), short_reading(now, 2, room.curves)
    made = restore.restore(baseline, read, room.curves)
    ours = two_parameters(room, now, ink, made.curves.outputs[ink])
    best = two_parameters(room, now, ink)
    assert ours <= best + 0.06, (ours, best)


@pytest.mark.parametrize("ink", range(3))
def test_film_and_dot_gain_are_distinguished(room: PrintRoom, ink: int) -> None:
    baseline = short_reading(room, 1, room.curves)
    found = {}
    for how in ("film", "gain"):
        read = short_reading(changed(room, ink, how), 2, room.curves)
        found[how] = restore.compare_to_baseline(baseline, read, room.curves)
    channel = CMYK[ink]
    thicker, wider = (found[how].channels[channel] for how in ("film", "gain"))
    assert thicker.film == pytest.approx(1.15, abs=0.02), "15 % more, and not 3"
    assert wider.film == pytest.approx(1.0, abs=0.02) and wider.gain > 0.5
    assert any(w.startswith(channel) and "film +1" in w and "dot gain" in w for w in found["film"].words)


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
