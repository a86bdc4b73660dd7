"""Ink limits, linearization and total ink, held against presses whose behaviour is known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.ramps import find_ramps, monotone, smooth
from greyanchor.core.calibration.totalink import find_total_ink
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import chroma, spectra_to_lab
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK, PrintRoom, make_room

PRESSES = ["petrel-44", "petrel-44/thrift-bond-90", "gannet-64/kelp-synthetic-190"]


def ramps(name: str, seed: int = 1, **design: object) -> ReadingSet:
    chart, _ = lay_out(patches.design("ink-limit", **design), CMYK)
    return print_and_read(chart, press_by_name(name), seed)


@pytest.mark.parametrize("name", PRESSES)
def test_a_limit_keeps_nearly_all_chroma_and_saves_ink(name: str) -> None:
    press = press_by_name(name)
    for i, (channel, found) in enumerate(find_limits(ramps(name)).items()):
        device = np.zeros((101, 4))
        device[:, i] = np.linspace(0, 1, 101)
        lab = spectra_to_lab(press.spectra(device))
        work = lab[0, 0] - lab[:, 0] if channel == "K" else chroma(lab - lab[0])
        at = round(100 * found.limit)
        assert work[at] >= 0.95 * work.max(), channel
        assert 0.4 <= found.limit < 0.95 and found.saves > 5 and found.reason, channel


def test_more_ink_capacity_means_a_higher_limit() -> None:
    coated, bond = (
        find_limits(ramps("petrel-44/fathom-satin-260")),
        find_limits(ramps("petrel-44/thrift-bond-90")),
    )
    assert all(coated[c].limit > bond[c].limit for c in "CMYK")


def test_two_prints_give_nearly_the_same_limits() -> None:
    first, second = find_limits(ramps("petrel-44", 1)), find_limits(ramps("petrel-44", 2))
    assert max(abs(first[c].limit - second[c].limit) for c in "CMYK") <= 0.10


def test_a_channel_whose_ramp_is_straight_has_no_limit() -> None:
    steps = np.linspace(0, 1, 12)
    device = np.zeros((12, 4))
    device[:, 3] = steps
    lab = np.column_stack([95 - 80 * steps, np.zeros(12), np.zeros(12)])
    others = np.zeros((36, 4))
    for i in range(3):
        others[12 * i : 12 * i + 12, i] = steps
    hue = np.radians([230, 350, 95])
    other_lab = np.vstack(
        [np.column_stack([95 - 30 * steps, 60 * steps * np.cos(h), 60 * steps * np.sin(h)]) for h in hue]
    )
    keep = others.sum(axis=1) > 0
    readings = ReadingSet(
        ids=tuple(map(str, range(12 + keep.sum()))),
        channels=CMYK,
        device=np.vstack([device, others[keep]]),
        measured_lab=np.vstack([lab, other_lab[keep]]),
    )
    assert {f.rule for f in find_limits(readings).values()} == {"none"}


def test_a_hook_in_hue_is_found_and_named() -> None:
    base = ramps("petrel-44")
    lab = base.lab().copy()
    cyan = (base.device[:, 0] > 0.7) & (base.device[:, 1:].max(axis=1) == 0)
    turn = np.radians(60 * np.clip(base.device[cyan, 0] - 0.7, 0, None))
    rotated = np.column_stack(
        [
            lab[cyan, 1] * np.cos(turn) - lab[cyan, 2] * np.sin(turn),
            lab[cyan, 1] * np.sin(turn) + lab[cyan, 2] * np.cos(turn),
        ]
    )
    lab[cyan, 1:] = rotated * (1 + base.device[cyan, 0:1] - 0.7)
    hooked = replace(base, spectra=None, measured_lab=lab)
    found = find_limits(hooked)["C"]
    assert found.rule == "hue" and 0.72 < found.limit < 0.9


def test_missing_ramps_and_paper_are_text() -> None:
    readings = ramps("petrel-44")
    with pytest.raises(BadInput, match="unprinted"):
        find_limits(readings.select(readings.device.sum(axis=1) > 0))
    with pytest.raises(BadInput, match="channel M has 0 steps"):
        find_limits(readings.select(readings.device[:, 1] == 0))


@pytest.mark.parametrize("name", PRESSES)
def test_a_linearized_ramp_reads_straight_again(name: str) -> None:
    room = make_room(name)
    again = room.read(patches.linearization_ramps([1, 1, 1, 1]), seed=71, shuffle=None)
    for ramp in find_ramps(again).values():
        off = np.abs(sctv(ramp.xyz, ramp.xyz[0], ramp.xyz[-1]) - 100 * ramp.inputs)
        assert off.mean() <= 1.0 and off.max() <= 2.5, ramp.channel


@pytest.mark.parametrize("aim", ["sctv", "tvi:16", "lstar", "density"])
def test_every_aim_is_met_by_its_own_measure(room: PrintRoom, aim: str) -> None:
    chart, _ = lay_out(patches.design("linearization", limits=room.limits), CMYK)
    result = linearize(print_and_read(chart, room.press, 2), room.limits, aim)
    for scale in result.scales.values():
        # yellow has six steps of L* from paper to solid, so its noise is a larger share of them
        bound = 4.0 if aim == "lstar" and scale.channel == "Y" else 1.0
        assert scale.deviation_after[0] < bound, scale.channel
        assert scale.deviation_after[0] < scale.deviation_before[0]
    if aim == "tvi:16":
        scale = result.scales["C"]
        assert np.interp(50.0, scale.inputs, scale.aim) == pytest.approx(66, abs=0.5)


@given(st.integers(0, 10_000), st.floats(0.0, 0.3))
@settings(max_examples=40, deadline=None)
def test_a_curve_never_reverses_whatever_the_noise(seed: int, noise: float) -> None:
    random = np.random.default_rng(seed)
    inputs = np.linspace(0, 1, 18)
    fine = monotone(
        inputs, inputs**0.6 + noise * random.standard_normal(18) * (inputs > 0), np.linspace(0, 1, 500)
    )
    assert (np.diff(fine) >= 0).all() and np.isfinite(fine).all()


def test_curves_run_from_nothing_to_the_limit_in_1024_steps(room: PrintRoom) -> None:
    assert room.curves.outputs.shape == (4, INPUTS)
    assert (room.curves.outputs[:, 0] == 0).all()
    np.testing.assert_allclose(room.curves.outputs[:, -1], [room.limits[c] for c in "CMYK"], atol=1e-9)
    again = CurveSet.from_csv(room.curves.to_csv())
    np.testing.assert_allclose(again.outputs, room.curves.outputs, atol=5e-4)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no curve"),
        ("channel,input,output\nC,0\n", "line 2"),
        ("channel,input,output\nC,0,0\nC,50,x\n", "line 3"),
        ("channel,input,output\nC,0,0\nC,50,60\nC,100,40\n", "reverses"),
        ("channel,input,output\nC,0,0\nC,50,160\n", "outside"),
        ("channel,input,output\nC,0,nan\nC,50,1\n", "outside"),
    ],
)
def test_a_damaged_curve_file_is_refused(text: str, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        CurveSet.from_csv(text, "curves.csv")


def test_limits_and_aims_that_make_no_sense_are_refused(room: PrintRoom) -> None:
    chart, _ = lay_out(patches.design("linearization", limits=room.limits), CMYK)
    readings = print_and_read(chart, room.press, 2)
    with pytest.raises(BadInput, match="beyond its ramp"):
        linearize(readings, {"C": 0.99})
    with pytest.raises(BadInput, match="no such channel"):
        linearize(readings, {"O": 0.5})
    for aim in ("tvi", "tvi:x", "tvi:99", "straight", "g7"):
        with pytest.raises(BadInput):
            linearize(readings, None, aim)


def test_smoothing_takes_noise_away_and_keeps_the_shape() -> None:
    x = np.linspace(0, 1, 25)
    truth = 60 * (1 - np.exp(-3 * x))
    noisy = truth + np.random.default_rng(1).normal(0, 0.6, 25)
    fitted = smooth(x, noisy, x)
    assert np.sqrt(np.mean((fitted - truth) ** 2)) < 0.7 * np.sqrt(np.mean((noisy - truth) ** 2))


@pytest.mark.parametrize("name", PRESSES)
def test_total_ink_is_where_the_press_stops_getting_darker(name: str) -> None:
    room = make_room(name)
    found = find_total_ink(room.read(patches.total_ink_steps()))
    sums = np.arange(1.0, 4.001, 0.01)
    truth = room.truth(np.repeat(sums[:, None] / 4, 4, axis=1))[:, 0]
    assert truth[np.argmin(np.abs(sums - found.limit))] - truth.min() < 2.5
    past = sums > found.limit + 0.3
    assert (truth[sums <= found.limit].min() - truth[past].min()) < 1.5
    assert "L*" in found.reason or "darkness" in found.reason


def test_total_ink_needs_its_chart() -> None:
    with pytest.raises(BadInput, match="total-ink chart"):
        find_total_ink(ramps("petrel-44"))
