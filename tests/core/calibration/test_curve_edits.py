"""Curves moved by hand, and under noise."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.calibration import restore
from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import confirm, linearize, touch_up
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.instrument import StripReader
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
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    first, second = (print_and_read(chart, press, 1, n, reader=noisy) for n in (1, 2))
    assert 0.2 < delta_e_2000(first.lab(), second.lab()).mean() < 0.5, "0.3 dE00 of noise in each reading"
    limits = {c: f.limit for c, f in find_limits(average([first, second])).items()}
    chart, _ = lay_out(patches.design("linearization", limits=limits), CMYK)
    curves = linearize(
        average([print_and_read(chart, press, 2, n, reader=noisy) for n in (1, 2)]), limits
    ).curves
    assert (np.diff(curves.outputs, axis=1) >= 0).all()
    again, _ = lay_out(restore.short_chart(), CMYK, shuffle_seed=3)
    passes = [print_and_read(again, press, 3, n, pipeline=curves.apply) for n in (1, 2)]
    scales = confirm(average(passes))
    assert max(s.deviation_after[0] for s in scales.values()) <= 0.8
    assert max(s.deviation_after[1] for s in scales.values()) <= 2.5


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
