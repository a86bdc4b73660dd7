"""Control limits, zone rules, forecasts, guard bands and recipes, against simulation and definition."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.charts import strips
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.profiling.recipes import find_recipes
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.guard import guard, repeatability_of, scatter_of
from greyanchor.core.verification.trend import Signal, control, zone_signals
from tests.conftest import PrintRoom


def test_control_limits_come_from_the_moving_range() -> None:
    values = np.array([1.0, 1.2, 0.9, 1.1, 1.0, 1.3, 0.8, 1.1, 1.0])
    found = control(np.arange(9), values)
    spread = np.abs(np.diff(values)).mean() / 1.128
    assert found.centre == pytest.approx(values.mean()) and found.reference == 9
    # wider than three deviations, as nine points know neither centre nor spread exactly
    assert found.centre + 3 * spread < found.upper < found.centre + 4 * spread
    assert control(np.arange(7), values[:7]).upper is None and control([], []).signals == ()


def test_limits_come_from_the_reference_period_and_not_from_the_drift() -> None:
    """A rising figure: limits drawn from the rise itself would leave most points outside on both sides."""
    random = np.random.default_rng(8)
    days = np.arange(40.0)
    values = 1.0 + 0.05 * np.maximum(days - 14.0, 0.0) + 0.05 * random.standard_normal(40)
    found = control(days, values, 3.0)
    inside = (values[:15] <= found.upper) & (values[:15] >= found.lower)
    assert inside.all() and found.centre == pytest.approx(values[:15].mean())
    assert (values[-12:] > found.upper).all() and found.recent
    later = control(days, values, 3.0, reference=30)
    assert later.centre > found.centre and later.reference == 30


def followed(n: int, alike: float, random: np.random.Generator) -> np.ndarray:
    """Values of which each keeps `alike` of the one before."""
    fresh = random.standard_normal(n) * np.sqrt(1.0 - alike**2)
    out = np.empty(n)
    out[0] = random.standard_normal()
    for i in range(1, n):
        out[i] = alike * out[i - 1] + fresh[i]
    return out


@pytest.mark.parametrize("alike", [0.3, 0.5, 0.7])
def test_readings_that_follow_one_another_raise_few_false_alarms(alike: float) -> None:
    random = np.random.default_rng(12)
    for n in (25, 60):
        alarms = [control(np.arange(n), 2 + 0.2 * followed(n, alike, random)).recent for _ in range(300)]
        assert np.mean(alarms) < 0.13, (alike, n, np.mean(alarms))


def test_the_forecast_starts_where_the_process_stands_and_from_its_last_change() -> None:
    days = np.arange(30.0)
    values = np.where(days < 22, 1.0, 1.0 + 0.1 * (days - 22)) + 0.01 * np.cos(3.0 * days)
    found = control(days, values, 2.2).forecast
    assert found.level == pytest.approx(values[-1], abs=0.03)
    assert found.day - days[-1] == pytest.approx((2.2 - values[-1]) / 0.1, rel=0.15)


@pytest.mark.parametrize("n", [6, 8, 12])
def test_days_of_short_series_are_early_as_often_as_late(n: int) -> None:
    random = np.random.default_rng(4)
    days, seen = 3.0 * np.arange(n), []
    for _ in range(400):
        values = 1 + 0.015 * days + 0.08 * random.standard_normal(n)
        found = control(days, values, 1 + 0.015 * (days[-1] + 40)).forecast
        if found is not None and found.day is not None:
            seen.append(found.day - days[-1])
            assert found.earliest <= found.day <= found.latest
    assert len(seen) > 150 and np.median(seen) == pytest.approx(40.0, abs=4.0)


@pytest.mark.parametrize(
    ("z", "rules"),
    [
        ([0, 0.5, 3.2, 0], {Signal(1, 2)}),
        ([0, 2.3, 0.1, 2.2, 0], {Signal(2, 3)}),
        ([1.2, 1.1, 0.2, 1.4, 1.3], {Signal(3, 4)}),
        ([0.1, 0.2, 0.3, 0.1, 0.2, 0.4, 0.1, 0.2], {Signal(4, 7)}),
        ([-2.3, 0.1, -2.2], {Signal(2, 2)}),
        ([2.3, 0.1, -2.2, 0.5, -0.5, 0.9, -0.9, 0.2], set()),
    ],
)
def test_zone_rules_fire_where_they_should_and_nowhere_else(z: list[float], rules: set[Signal]) -> None:
    assert set(zone_signals(np.array(z, dtype=float))) == rules


def test_a_steady_process_seldom_signals_and_a_shifted_one_soon_does() -> None:
    random = np.random.default_rng(3)
    quiet = sum(bool(control(np.arange(25), 2 + 0.2 * random.standard_normal(25)).recent) for _ in range(300))
    assert quiet < 45
    caught = 0
    for _ in range(100):
        values = np.concatenate([2 + 0.2 * random.standard_normal(25), 2.5 + 0.2 * random.standard_normal(8)])
        caught += any(s.at >= 25 for s in control(np.arange(33), values).signals)
    assert caught > 80


def test_the_forecast_covers_the_true_crossing_nine_times_of_ten() -> None:
    """Lines of known slope with known scatter: the interval holds the true day about as often as it says."""
    random = np.random.default_rng(8)
    days = np.arange(-56.0, 1.0, 4.0)
    held = result = 0
    for _ in range(400):
        slope, start = random.uniform(0.01, 0.04), random.uniform(0.8, 1.2)
        values = start + slope * (days + 56) + 0.06 * random.standard_normal(len(days))
        truth = (3.0 - start) / slope - 56
        found = control(days, values, 3.0).forecast
        if found is None or found.day is None or truth < 0:
            continue
        result += 1
        held += found.earliest <= truth <= found.latest
    assert result > 300 and 0.85 < held / result < 0.95


def test_flat_falling_and_few_points_have_no_crossing() -> None:
    days = np.arange(10.0)
    assert control(days, np.full(10, 1.0) + 1e-3 * np.cos(days), 3.0).forecast.day is None
    assert control(days, 2 - 0.1 * days, 3.0).forecast.day is None
    assert control(days[:4], days[:4], 3.0).forecast is None


def strip_off_by(size: float) -> tuple[object, object]:
    chart, aim = strips.of_kind("full"), aims.load("generic-coated")
    lab = aim.lab_for(chart)
    return replace(chart, measured_lab=lab + [size, 0, 0]), aim


def test_a_verdict_far_from_its_limits_is_sure_and_one_on_a_limit_is_not() -> None:
    from greyanchor.core.verification.tolerances import from_dict

    own = from_dict(
        {
            "id": "o",
            "criteria": [{"id": "m", "group": "all", "measure": "dl", "statistic": "max", "limit": 2.0}],
        }
    )
    for size, sure in ((0.5, True), (1.97, False), (3.0, True)):
        readings, aim = strip_off_by(size)
        found = guard(check(readings, aim, own), 0.2)
        assert found.sure is sure, size
    readings, aim = strip_off_by(1.8)
    result = check(readings, aim, own)
    assert guard(result, 0.5).share < guard(result, 0.05).share


def test_another_reading_differs_by_the_scatter_of_both_readings() -> None:
    """The mean of nine readings says more of the next one than a single reading does."""
    from greyanchor.core.verification.tolerances import from_dict

    mean = {"id": "m", "group": "all", "measure": "de76", "statistic": "mean", "limit": 1.85}
    readings, aim = strip_off_by(1.8)
    result = check(readings, aim, from_dict({"id": "o", "criteria": [mean]}))
    once, nine = guard(result, 0.6).share, guard(result, 0.6, readings=9).share
    assert 0.5 < once < 1.0 and nine != once
    # noise lengthens differences: the next single reading lies above the mean of nine
    assert nine < once


def test_scatter_is_learned_from_two_passes_and_drawn_as_it_was(room: PrintRoom) -> None:
    """What is drawn scatters as a hundred real readings of the stand-in do, patch by patch."""
    device = strips.STRIPS["full"].patches()
    passes = [room.read(device, seed=9, reading=k, shuffle=None) for k in range(1, 102)]
    true = np.stack([p.lab() for p in passes]).std(axis=0)
    found = scatter_of(passes[:3])
    assert found is not None and found.measured and scatter_of(passes[:1]) is None
    drawn = found.drawn(passes[0].lab(), np.random.default_rng(1), 4000).std(axis=0)
    ratio = drawn.mean(axis=0) / true.mean(axis=0)
    assert (np.abs(ratio - 1.0) < 0.2).all(), ratio
    light, dark = passes[0].lab()[:, 0] > 75, passes[0].lab()[:, 0] < 35
    assert drawn[light, 0].mean() > 1.3 * drawn[dark, 0].mean()


def test_the_guard_band_agrees_with_reading_a_print_again(room: PrintRoom) -> None:
    """Forty real repeats with the stand-in instrument say how often the verdict changes; the guard said so
    before.
    """
    from greyanchor.core.verification.tolerances import from_dict

    device = strips.STRIPS["full"].patches()
    passes = [room.read(device, seed=9, reading=k, shuffle=None) for k in range(1, 42)]
    aim = aims.from_data(room.read(device, seed=10, shuffle=None), "another print")
    mean = np.mean([delta_e_2000(aim.lab_for(p), p.lab()).max() for p in passes])
    own = from_dict(
        {
            "id": "o",
            "criteria": [
                {
                    "id": "m",
                    "group": "all",
                    "measure": "de00",
                    "statistic": "mean",
                    "limit": 0.4 * float(mean),
                }
            ],
        }
    )
    verdicts = [check(p, aim, own).verdict for p in passes]
    seen = max(verdicts.count("pass"), verdicts.count("fail")) / len(verdicts)
    found = guard(check(passes[0], aim, own), repeatability_of(passes[:2]))
    assert (
        abs(found.share - (seen if verdicts[0] == max(set(verdicts), key=verdicts.count) else 1 - seen))
        < 0.25
    )
    assert repeatability_of(passes[:1]) is None


def test_recipes_print_what_they_predict_and_the_nearest_where_they_cannot(
    room: PrintRoom, built: ProfileResult
) -> None:
    wanted = np.array([[46.0, 50.0, 30.0], [86.0, 3.0, 24.0], [50.0, 0.0, 0.0], [60.0, 90.0, 100.0]])
    found = find_recipes(built.model, Separation(total_ink=2.8), wanted)
    printed = room.truth(found.inks)
    assert found.out_of_reach.tolist() == [False, False, False, True]
    assert delta_e_2000(wanted, printed)[:3].max() < 1.0
    assert delta_e_2000(found.lab, printed).max() < 1.5
    assert (found.inks.sum(axis=1) <= 2.8 + 1e-6).all() and len(
        find_recipes(built.model, Separation(), np.zeros((0, 3))).misses
    ) == 0
    random = np.random.default_rng(1)
    other = random.random((4000, 4))
    other = other[other.sum(axis=1) <= 2.8]
    nearest = delta_e_2000(np.broadcast_to(wanted[3], (len(other), 3)), built.model.lab(other)).min()
    assert found.misses[3] <= nearest + 0.01
