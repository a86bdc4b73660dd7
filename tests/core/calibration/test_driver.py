"""Printers that take R G B: their range, their greys, and curves that bring them back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest

from greyanchor.core.calibration import driver
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import Condition, print_and_read

PRESS = press_by_name("dunlin-24/fathom-satin-260")
Before = Callable[[Array], Array]


def read(
    device: Array, seed: int, before: Before = lambda v: v, state: Condition = Condition()
) -> ReadingSet:
    """Two careful passes over a print of R G B values, through what stands before the driver."""
    chart, _ = lay_out(device, driver.RGB, shuffle_seed=3)
    passes = [
        print_and_read(chart, PRESS, seed, n, state, pipeline=lambda v: PRESS.as_raw(before(v), driver.RGB))
        for n in (1, 2)
    ]
    return replace(passes[0], spectra=np.mean([p.spectra for p in passes], axis=0))


@lru_cache(maxsize=1)
def sound() -> driver.Driver:
    return driver.read_driver(read(driver.driver_chart(), 3))


def truth(device: Array, curves: CurveSet, drift: tuple[tuple[str, float], ...] = ()) -> Array:
    """What the machine prints, free of noise."""
    state = PRESS.sheet(1, 0.0, Condition(drift=drift).volumes())
    return spectra_to_lab(PRESS.spectra(PRESS.as_raw(curves.apply(device), driver.RGB), state))


def test_a_sound_driver_has_no_fault_and_is_not_even_by_itself() -> None:
    found = sound()
    assert found.faults == ()
    assert found.uneven[1] > 5 and found.cast > 8
    assert found.model.held_out.mean < 1.0


@pytest.mark.parametrize("below", [0.15, 0.25])
def test_a_range_that_is_clipped_is_named_with_its_end(below: float) -> None:
    def clipped(v: Array) -> Array:
        return np.maximum(v, below)

    found = driver.read_driver(read(driver.driver_chart(), 3, clipped))
    greys = [f for f in found.faults if f.ramp == "the greys" and f.kind == "clipped"]
    assert greys and greys[0].low == 0.0 and abs(greys[0].high - below) < 0.07
    assert "everything prints alike" in greys[0].words


def test_a_range_that_turns_back_is_named() -> None:
    def turned(v: Array) -> Array:  # above 60 % it asks for less again, then for more
        return np.where((v > 0.6) & (v < 0.8), 0.6 - 0.6 * (v - 0.6), v)

    found = driver.read_driver(read(driver.driver_chart(), 3, turned))
    assert any(f.kind == "turned" and f.ramp == "the greys" for f in found.faults)
    assert "turns back" in driver.names_of(found.faults)


def test_curves_make_greys_even_and_neutral_on_another_print() -> None:
    even = driver.tone_curves(sound(), driver.EVEN)
    again = driver.evenness_of(read(driver.driver_chart(), 5, even.apply))
    assert again[0][0] < 0.6 and again[0][1] < 1.6
    assert np.allclose(even.outputs[0], even.outputs[2]), "the balance is the driver's own"
    neutral = driver.tone_curves(sound(), driver.NEUTRAL)
    again = driver.evenness_of(read(driver.driver_chart(), 6, neutral.apply))
    assert again[0][0] < driver.EVEN_WITHIN and again[1] < 0.25 * sound().cast
    straight = driver.tone_curves(sound())
    assert np.allclose(straight.outputs, np.linspace(0, 1, 1024)[None], atol=1e-9)


@pytest.mark.parametrize(
    "drift", [(("C", 1.08), ("M", 0.92)), (("Y", 1.08), ("K", 0.93)), (("C", 0.93), ("Y", 1.08))]
)
def test_a_drift_behind_the_driver_is_brought_back(drift: tuple[tuple[str, float], ...]) -> None:
    curves = driver.tone_curves(sound(), driver.NEUTRAL)
    chart = driver.short_driver_chart()
    baseline = read(chart, 7, curves.apply)
    now = read(chart, 8, curves.apply, Condition(drift=drift))
    after, _ = driver.restore_driver(baseline, now, curves)
    random = np.random.default_rng(4).random((400, 3))
    was = truth(random, curves)
    before = delta_e_2000(truth(random, curves, drift), was).mean()
    left = delta_e_2000(truth(random, after, drift), was).mean()
    assert before > 1.0 and left < 0.55 and left < 0.45 * before


def test_what_is_lost_beyond_black_is_said() -> None:
    curves = driver.tone_curves(sound())
    chart = driver.short_driver_chart()
    baseline = read(chart, 7, curves.apply)
    now = read(chart, 8, curves.apply, Condition(drift=(("K", 0.7), ("C", 0.8), ("M", 0.8))))
    assert driver.restore_driver(baseline, now, curves)[1]


def test_other_charts_are_refused() -> None:
    four = ReadingSet(ids=("1",), channels=tuple("CMYK"), device=np.zeros((1, 4)), spectra=np.ones((1, 36)))
    with pytest.raises(BadInput, match=r"by R, G and B, not by C\+M\+Y\+K"):
        driver.read_driver(four)
    with pytest.raises(BadInput, match="8 are needed"):
        driver.read_driver(read(np.array([[1.0, 1, 1], [0, 0, 0], [0.5, 0.5, 0.5]]), 3))
    with pytest.raises(BadInput, match="tones are"):
        driver.tone_curves(sound(), "warm")
