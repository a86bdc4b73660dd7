"""Grey balance: published anchors, weights, levels, and curves that bring presses nobody has seen to the
aim.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.calibration import g7
from greyanchor.core.calibration.greybalance import balance, on_top
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import grey_scales, linearization_ramps, near_neutral
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.colour.colorimetry import lab_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.shipped import SHIPPED
from tests.conftest import CMYK, PrintRoom, make_room

PAPER = np.array([95.0, 1.0, -4.0])


def on_the_aim(strip: ReadingSet) -> np.ndarray:
    """The strip as a press prints it that is grey by the letter: densities of the anchors, cast of the paper
    fading.
    """
    lab = aims.load("generic-coated").lab_for(strip)
    device = strip.values()
    paper = device.max(axis=1) == 0
    lab[paper] = PAPER
    aim = g7.GreyAim(PAPER, 1.45, 1.7)
    cmy, k = g7.is_cmy_step(device), g7.is_k_step(device)
    lab[cmy] = aim.cmy(device[cmy, 0])
    lab[k, 0] = aim.k(device[k, 3])
    return lab


@pytest.fixture(scope="module")
def strip() -> ReadingSet:
    return lay_out(STRIPS["full"].patches(), CMYK)[0]


def test_the_tone_aim_goes_through_the_published_anchors_and_the_printed_maximum() -> None:
    at = [0.0, 0.25, 0.5, 0.75, 1.0]
    np.testing.assert_allclose(g7.tone_aim(at, 1.5), [0, 0.25, 0.54, 0.92, 1.5], atol=1e-9)
    np.testing.assert_allclose(g7.tone_aim(at, 1.7, black=True), [0, 0.22, 0.50, 0.90, 1.7], atol=1e-9)


@pytest.mark.parametrize("maximum", [0.4, 0.7, 0.9, 1.1, 1.29, 1.31, 1.8])
def test_the_tone_aim_never_reverses_and_low_maxima_leave_the_highlights_alone(maximum: float) -> None:
    tones = np.linspace(0, 1, 401)
    for black in (False, True):
        density = g7.tone_aim(tones, maximum, black)
        assert (np.diff(density) > 0).all() and density[-1] == pytest.approx(maximum)
        if maximum > 0.8:
            assert density[100] == pytest.approx(0.22 if black else 0.25, abs=1e-9)


def test_weights_fall_from_half_tone_to_a_quarter() -> None:
    np.testing.assert_allclose(g7.weight([0, 0.5, 0.75, 1.0]), [1, 1, 0.625, 0.25])


def test_the_grey_aim_keeps_the_cast_of_the_paper_and_lets_it_fade() -> None:
    lab = g7.GreyAim(PAPER, 1.5, 1.7).cmy([0.25, 0.5, 1.0])
    np.testing.assert_allclose(lab[:, 1:], [[0.75, -3.0], [0.5, -2.0], [0.0, 0.0]], atol=1e-9)
    density = -np.log10(lab_to_xyz(lab)[:, 1] / lab_to_xyz(PAPER)[1])
    np.testing.assert_allclose(density, [0.25, 0.54, 1.5], atol=2e-3)


@pytest.mark.parametrize("level", ["g7-grayscale", "g7-targeted", "g7-colorspace"])
def test_every_level_passes_a_print_on_its_aim_and_fails_one_that_is_off(
    strip: ReadingSet, level: str
) -> None:
    good = on_the_aim(strip)
    aim = aims.from_data(replace(strip, measured_lab=good), "own data")
    passed = check(replace(strip, measured_lab=good), aim, SHIPPED[level])
    assert passed.verdict == "pass" and max(f.value for f in passed.findings) < 0.02
    off = good + np.array([0.0, 4.0, 0.0]) * g7.is_cmy_step(strip.values())[:, None]
    failed = check(replace(strip, measured_lab=off), aim, SHIPPED[level])
    assert failed.verdict == "fail"
    assert {f.criterion.id for f in failed.findings if f.verdict == "fail"} >= {
        "grey_wdch_mean",
        "grey_wdch_max",
    }


@pytest.mark.parametrize(
    ("device", "shift", "failing"),
    [
        ((0, 0, 0, 1), (8, 0, 0), "k_solid"),
        ((1, 0, 0, 0), (6, 0, 0), "cmy_max"),
        ((1, 1, 0, 0), (7, 0, 0), "rgb_max"),
    ],
)
def test_targeted_holds_solids_too(
    strip: ReadingSet, device: tuple[float, ...], shift: tuple[float, ...], failing: str
) -> None:
    good = on_the_aim(strip)
    aim = aims.from_data(replace(strip, measured_lab=good), "own data")
    off = good.copy()
    off[(strip.values() == device).all(axis=1)] += shift
    result = check(replace(strip, measured_lab=off), aim, SHIPPED["g7-targeted"])
    assert failing in {f.criterion.id for f in result.findings if f.verdict == "fail"}


def test_data_that_are_not_grey_do_not_stand_in_for_the_anchors(strip: ReadingSet) -> None:
    """Held to itself a cast print would pass everything; the published anchors see the cast, and a note says
    so.
    """
    cast = on_the_aim(strip) + np.array([0.0, 5.0, 5.0]) * g7.is_cmy_step(strip.values())[:, None]
    aim = aims.from_data(replace(strip, measured_lab=cast), "cast data")
    result = check(replace(strip, measured_lab=cast), aim, SHIPPED["g7-grayscale"])
    assert result.verdict == "fail" and not result.exact_greys
    assert any("published anchors" in note for note in result.notes)


def test_a_strip_without_paper_or_full_tone_is_not_tested_and_does_not_pass(strip: ReadingSet) -> None:
    readings = replace(strip, measured_lab=on_the_aim(strip))
    aim = aims.load("generic-coated")
    for missing in (strip.values().max(axis=1) > 0, strip.values().min(axis=1) < 1):
        keep = missing & ~(
            (strip.values()[:, 0] == 1) & (strip.values()[:, 1] == 1) & (strip.values()[:, 2] == 1)
        )
        part = readings.select(keep)
        result = check(part, aim, SHIPPED["g7-grayscale"])
        assert [f.verdict for f in result.findings] == ["not tested"] * 6 and result.verdict == "fail"


ROOMS = ("petrel-44", "petrel-44/saltmarsh-cotton-310", "gannet-64/kelp-synthetic-190")


@pytest.mark.parametrize("name", ROOMS)
def test_curves_bring_a_press_to_the_aim_on_a_second_print(name: str, room: PrintRoom) -> None:
    """The solver sees readings of the grey chart alone; the verification is another print of another
    strip.
    """
    shop = room if name == "petrel-44" else make_room(name)
    readings = shop.read(grey_scales(), seed=11)
    assert 150 <= len(readings) <= 250
    made = balance(readings)
    curves = on_top(made.curves, shop.curves)
    chart, _ = lay_out(STRIPS["grey"].patches(), CMYK)
    before = print_and_read(chart, shop.press, 70, pipeline=shop.curves.apply)
    after = print_and_read(chart, shop.press, 71, pipeline=curves.apply)
    anchors = np.isin(np.round(chart.values()[:, 0], 3), [0.25, 0.5, 0.75]) & g7.is_cmy_step(chart.values())
    dl, dch = g7.weighted(chart.values(), g7.aim_lab(chart.values(), after.lab()), after.lab())
    assert dch[anchors].mean() <= 0.6 and dl[anchors].mean() <= 0.8
    black = g7.is_k_step(chart.values())
    assert dl[black].mean() <= 0.8
    aim = aims.grey_anchors(after)
    assert check(after, aim, SHIPPED["g7-grayscale"]).verdict == "pass"
    assert check(before, aims.grey_anchors(before), SHIPPED["g7-grayscale"]).verdict == "fail"
    for i in range(4):
        assert curves.outputs[i, -1] == pytest.approx(shop.curves.outputs[i, -1], abs=1e-4)
        assert (np.diff(curves.outputs[i]) >= 0).all() and curves.outputs[i, 0] == 0


def test_raw_charts_are_balanced_under_their_limits(room: PrintRoom) -> None:
    chart, _ = lay_out(grey_scales(), CMYK, shuffle_seed=3)
    made = balance(print_and_read(chart, room.press, 12), room.limits)
    assert {c: round(v, 3) for c, v in made.curves.limits.items()} == {
        c: round(v, 3) for c, v in room.limits.items()
    }
    strip, _ = lay_out(STRIPS["grey"].patches(), CMYK)
    printed = print_and_read(strip, room.press, 72, pipeline=made.curves.apply)
    assert check(printed, aims.grey_anchors(printed), SHIPPED["g7-grayscale"]).verdict == "pass"


@pytest.mark.parametrize("name", ["petrel-44", "petrel-44/thrift-bond-90", "gannet-64/kelp-synthetic-190"])
def test_curves_of_grey_balance_do_not_wobble(name: str) -> None:
    """Contours in dark reds come from slopes of .6 beside 3.3: within 5 % they change by 1.5 at most."""
    made = balance(make_room(name).read(grey_scales(), seed=31))
    x = np.linspace(0.0, 1.0, 201)
    for curve in made.curves.outputs[:3]:
        slopes = np.diff(np.interp(x, np.linspace(0.0, 1.0, len(curve)), curve)) * 200
        assert slopes.min() > 0.3, "and never dip"
        within = [slopes[i : i + 10].max() / slopes[i : i + 10].min() for i in range(191)]
        assert max(within) < 1.5
    tone, grey, _ = made.weighted()
    anchors = np.isin(np.round(made.tones, 3), (0.25, 0.5, 0.75))
    assert grey[anchors].max() < 0.35 and tone[anchors].max() < 0.35


def test_ramps_alone_are_refused_with_what_is_missing(room: PrintRoom) -> None:
    ramps = room.read(linearization_ramps(np.ones(4)))
    with pytest.raises(BadInput, match=r"near-neutral scale .* grey chart"):
        balance(ramps)
    full = room.read(grey_scales(), seed=13)
    with pytest.raises(BadInput, match="unprinted patch"):
        balance(full.select(full.values().max(axis=1) > 0))
    with pytest.raises(BadInput, match="limit for O"):
        balance(full, {"O": 0.9})
    with pytest.raises(BadInput, match="C, M, Y and K"):
        balance(replace(full, channels=tuple("CMYO")))


def test_the_near_neutral_scale_is_recognised_within_one_percent() -> None:
    c = np.array([0.3, 0.3, 0.3])
    device = np.hstack([near_neutral(c), np.zeros((3, 1))])
    device[1, 1] += 0.0099
    device[2, 1] += 0.012
    assert g7.is_cmy_step(device).tolist() == [True, True, False]
