"""Curves moved by hand, and under noise."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import PchipInterpolator
from scipy.optimize import isotonic_regression

from greyanchor.core.calibration import restore
from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import STEEP, confirm, linearize, scale_end, touch_up
from greyanchor.core.calibration.ramps import monotone
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000, spectra_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK, PrintRoom


@settings(max_examples=60, deadline=None)
@given(
    moves=st.dictionaries(st.sampled_from([0.1, 0.2, 0.3, 0.5, 0.7, 0.9]), st.floats(0.0, 1.0), max_size=6),
    bend=st.floats(0.4, 2.5),
)
def test_a_touched_curve_never_reverses_and_keeps_its_ends(moves: dict[float, float], bend: float) -> None:
    curve = 0.8 * np.linspace(0.0, 1.0, INPUTS) ** bend
    made = touch_up(curve, moves)
    assert (np.diff(made) >= 0).all() and made[0] == 0.0 and made[-1] == pytest.approx(0.8)
    CurveSet(("C",), made[None])


def test_a_single_handle_moves_the_curve_there_and_leaves_the_rest() -> None:
    curve = 0.8 * np.linspace(0.0, 1.0, INPUTS)
    made = touch_up(curve, {0.5: 0.44})
    grid = np.linspace(0.0, 1.0, INPUTS)
    assert np.interp(0.5, grid, made) == pytest.approx(0.44, abs=1e-3)
    assert np.interp(0.3, grid, made) == pytest.approx(0.24, abs=1e-3)
    assert touch_up(curve, {}) == pytest.approx(curve)
    with pytest.raises(BadInput, match="no handle"):
        touch_up(curve, {0.33: 0.2})


@pytest.mark.parametrize("name", ["petrel-44", "petrel-44/thrift-bond-90", "gannet-64/kelp-synthetic-190"])
def test_with_noisy_readings_curves_do_not_reverse_and_the_reread_is_even(name: str) -> None:
    press, noisy = press_by_name(name), StripReader(noise=1.4)
    off = []
    for sheet in (10, 20, 30):
        chart, _ = lay_out(patches.design("ink-limit"), CMYK)
        first, second = (print_and_read(chart, press, sheet, n, reader=noisy) for n in (1, 2))
        again = delta_e_2000(first.lab(), second.lab()).mean()
        assert 0.2 < again < 0.5, "0.3 dE00 of noise in each reading"
        limits = {c: f.limit for c, f in find_limits(average([first, second])).items()}
        chart, _ = lay_out(patches.design("linearization", limits=limits), CMYK)
        ramps = average([print_and_read(chart, press, sheet + 1, n, reader=noisy) for n in (1, 2)])
        curves = linearize(ramps, limits).curves
        assert (np.diff(curves.outputs, axis=1) >= 0).all()
        short, _ = lay_out(restore.short_chart(), CMYK, shuffle_seed=3)
        passes = [print_and_read(short, press, sheet + 2, n, pipeline=curves.apply) for n in (1, 2)]
        off.append([s.deviation_after for s in confirm(average(passes)).values()])
    assert max(o[0] for print_ in off for o in print_) <= 1.0
    assert np.mean([max(o[0] for o in print_) for print_ in off]) <= 0.8
    assert np.mean([max(o[1] for o in print_) for print_ in off]) <= 2.5


def plain(inputs: np.ndarray, values: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Isotonic regression joined by PCHIP, as anybody would do it."""
    rising = np.asarray(isotonic_regression(values).x)
    return np.maximum.accumulate(PchipInterpolator(inputs, rising)(at))


@pytest.mark.parametrize("steps", [5, 7, 9, 13, 18, 26, 40])
@pytest.mark.parametrize("noise", [0.0, 0.15, 0.5])
def test_curves_from_few_steps_are_no_worse_than_plain_ones(steps: int, noise: float) -> None:
    """Ramps up to a limit: the smoothed tone scale against the one that isotonic PCHIP makes."""
    ours, theirs = [], []
    fine = np.linspace(0.0, 1.0, 401)
    for name in ("petrel-44", "petrel-44/thrift-bond-90", "gannet-64/kelp-synthetic-190"):
        press = press_by_name(name)
        for ink in range(4):

            def tone(x: np.ndarray, press: SimulatedPress = press, ink: int = ink) -> np.ndarray:
                device = np.zeros((len(x), 4))
                device[:, ink] = x
                xyz = spectra_to_xyz(press.spectra(device))
                return sctv(xyz, xyz[0], xyz[-1])

            x = np.linspace(0.0, 0.7, steps + 1)
            random = np.random.default_rng([steps, ink, int(100 * noise)])
            read = tone(x) + noise * np.append(random.standard_normal(steps), 0.0)
            read[0] = 0.0
            for made, kept in ((monotone, ours), (plain, theirs)):
                curve = made(x, read / read[-1], np.linspace(0.0, 0.7, 401))
                off = np.abs(100 * curve - tone(0.7 * fine))
                kept.append((off.mean(), off.max()))
    mine, other = np.mean(ours, axis=0), np.mean(theirs, axis=0)
    assert (mine <= other + [0.04, 0.12] + 0.1 * noise).all(), (steps, noise, mine, other)


def test_a_curve_that_ends_steeply_says_what_a_lower_limit_gives_up(room: PrintRoom) -> None:
    x = np.linspace(0.0, 1.0, 1024)
    assert scale_end(0.8 * x).slope == pytest.approx(1.0, abs=0.01)
    assert scale_end(0.8 * x).lower == pytest.approx(0.8)
    for curve in room.curves.outputs:
        end = scale_end(curve)
        assert end.slope > STEEP and 0.0 < end.loses < 6.0 and end.lower < curve[-1]
        cut = np.interp(np.linspace(0.0, 1.0 - end.loses / 100.0, 1024), x, curve)
        assert scale_end(cut).slope <= STEEP + 0.1, "cut there it ends evenly"


def test_curves_go_through_json_and_broken_ones_are_refused(room: PrintRoom) -> None:
    back = CurveSet.from_json(room.curves.to_json())
    np.testing.assert_allclose(back.outputs, room.curves.outputs, atol=1e-5)
    for text, words in (
        ("{", "not JSON"),
        ('{"curves": 3}', "expected"),
        ('{"curves": {"C": {"input": [0, 1], "output": [0, 130]}}}', "leaves"),
        ('{"curves": {"C": {"input": [0], "output": [0]}}}', "two points"),
    ):
        with pytest.raises(BadInput, match=words):
            CurveSet.from_json(text, "c.json")
