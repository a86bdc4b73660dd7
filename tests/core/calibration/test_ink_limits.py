"""Ink limits on any press: what a lower one costs, and drying."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.calibration import consequences
from greyanchor.core.calibration.inklimit import find_limits, moved
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import chroma, spectra_to_lab, spectra_to_xyz
from greyanchor.core.colour.density import visual_density
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK
from tests.core.calibration.conftest import any_press


@pytest.mark.parametrize("block", range(8))
def test_limits_keep_what_the_ink_can_do_and_stop_where_it_hooks(block: int) -> None:
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    x = np.linspace(0.0, 1.0, 501)
    for seed in range(25 * block, 25 * block + 25):
        press = any_press(seed)
        limits = find_limits(
            print_and_read(chart, press, seed + 1, reader=StripReader(noise=1.0 + block % 2))
        )
        for i, channel in enumerate("CMYK"):
            ramp = np.zeros((len(x), 4))
            ramp[:, i] = x
            spectra = press.spectra(ramp)
            work = (
                visual_density(spectra_to_xyz(spectra)) if channel == "K" else chroma(spectra_to_lab(spectra))
            )
            found = limits[channel]
            assert found.limit <= x[work.argmax()] + 0.04, (seed, channel)
            kept = np.interp(found.limit, x, work) / work.max()
            assert kept >= 0.97 or found.rule == "hue", (seed, channel, kept, found.reason)


@pytest.fixture(scope="module")
def limit_ramps() -> ReadingSet:
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    return print_and_read(chart, press_by_name("petrel-44"), 1)


def test_a_lower_limit_costs_gamut_and_saves_ink(limit_ramps: ReadingSet) -> None:
    ramps = find_ramps(limit_ramps)
    found = {c: f.limit for c, f in find_limits(limit_ramps).items()}
    kept = [consequences.limit_cost(ramps, {c: v * f for c, v in found.items()}) for f in (1.0, 0.8, 0.5)]
    assert kept[0].gamut_kept > 95 and kept[0].gamut_kept > kept[1].gamut_kept > kept[2].gamut_kept
    assert kept[2].gamut_kept < 70 and kept[0].ink_saved < kept[1].ink_saved < kept[2].ink_saved
    halves = consequences.limit_cost(ramps, dict.fromkeys("CMYK", 0.5))
    assert halves.ink_saved == pytest.approx(50.0)
    with pytest.raises(BadInput, match="no such channel"):
        consequences.limit_cost(ramps, {"O": 0.5})


def test_a_moved_limit_says_what_it_keeps(limit_ramps: ReadingSet) -> None:
    ramp = find_ramps(limit_ramps)["C"]
    half = moved(ramp, 0.5)
    assert half.rule == "moved" and half.saves == pytest.approx(50.0)
    assert half.keeps == pytest.approx(
        100 * np.interp(0.5, ramp.inputs, chroma(ramp.lab)) / chroma(ramp.lab).max(), abs=1.5
    )


def test_drying_takes_time_with_the_square_of_the_film() -> None:
    assert consequences.drying_minutes(3.0, 30) == pytest.approx(30)
    assert consequences.drying_minutes(1.5, 30) == pytest.approx(7.5)
    assert consequences.ink_load(np.array([1.0, 0.5, 0, 0])) == pytest.approx(13.5)
