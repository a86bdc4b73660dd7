"""Limits on any press, light inks, matches by eye, overprints, touch-up, baseline and restore."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.calibration import byeye, consequences, lightinks, restore, totalink
from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.inklimit import find_limits, moved
from greyanchor.core.calibration.linearization import confirm, linearize, touch_up
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import chroma, delta_e_2000, spectra_to_lab, spectra_to_xyz
from greyanchor.core.colour.density import sctv, visual_density
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_by_name, press_for
from greyanchor.core.simulation.faults import FAULTS, picture, severity
from greyanchor.core.simulation.inks import ink_absorption
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.press import MediaModel, SimulatedPress
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests.conftest import CMYK, PrintRoom


def any_press(seed: int) -> SimulatedPress:
    """A press nobody tuned anything on: other media, inks, heat, passes and overdrive."""
    r = np.random.default_rng(seed)
    media = MediaModel(
        "unknown",
        r.uniform(0.8, 0.92),
        r.uniform(0.03, 0.12),
        r.uniform(0, 0.11),
        r.uniform(0.85, 1.4),
        r.uniform(0.6, 1.25),
        r.uniform(1.6, 3.0),
        r.uniform(0.004, 0.02),
        r.uniform(0.003, 0.012),
        36.0,
    )
    inks = str(r.choice(["Tarn pigment", "Basalt UV"]))
    environment = PrintEnvironment(
        "p", inks, "unknown", passes=int(r.choice([4, 6, 8, 12, 16])), heat=r.uniform(28, 44)
    )
    return SimulatedPress(
        media, environment, r.uniform(1.0, 2.2), ink_absorption(inks) * r.uniform(0.7, 1.4, (4, 1))
    )


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


def test_a_moved_limit_tells_what_it_keeps(limit_ramps: ReadingSet) -> None:
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


# --- light inks ------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def light_press() -> SimulatedPress:
    return press_for(
        PrintEnvironment("Petrel 44", "Tarn pigment light", "Harbour Proof Semimatt 235", heat=36)
    )


@pytest.fixture(scope="module")
def split(light_press: SimulatedPress) -> lightinks.LightSplit:
    chart, _ = lay_out(patches.design("ink-limit", light_press.channels), light_press.channels)
    ramps = find_ramps(print_and_read(chart, light_press, 1))
    assert set(ramps) == {"C", "M", "Y", "K", "LC", "LM"}
    return lightinks.find_split(ramps["C"], ramps["LC"], 0.9, 0.8)


def test_the_split_finds_the_strength_of_the_light_ink(split: lightinks.LightSplit) -> None:
    assert split.reach == pytest.approx(0.34 * 0.9, abs=0.02), (
        "the stand-in's light cyan is 0.34 of its parent"
    )


def test_a_split_channel_prints_the_same_tone_without_a_corner(
    light_press: SimulatedPress, split: lightinks.LightSplit
) -> None:
    value = np.linspace(0.0, 0.8, 161)
    light, full = split.apply(value)
    assert full[value <= split.start].max() == 0 and np.abs(light[value >= split.end]).max() < 1e-12
    assert light.max() <= 0.9 + 1e-9 and light.max() > 0.85, "the light ink is used to its limit"
    assert (np.diff(full) >= -1e-12).all()
    device = np.zeros((len(value), 4))
    device[:, 0] = value
    both = lightinks.split_channels(device, CMYK, [split])
    both = np.hstack([both, np.zeros((len(value), 1))])
    plain = spectra_to_lab(light_press.spectra(device))
    assert delta_e_2000(spectra_to_lab(light_press.spectra(both)), plain).max() < 1.0
    for inks in (light, full):
        curvature = np.abs(np.diff(inks, 3)).max()
        assert curvature < 0.02, "no corner where one ink takes over"


def test_a_split_that_the_light_ink_cannot_carry_is_refused(split: lightinks.LightSplit) -> None:
    with pytest.raises(BadInput, match="end it earlier"):
        replace(split, end=1.0, start=split.reach)
    with pytest.raises(BadInput, match="start the crossover there"):
        replace(split, start=split.reach + 0.1, end=1.0)
    with pytest.raises(BadInput, match="rise"):
        replace(split, start=0.2, end=0.1)


# --- by eye ----------------------------------------------------------------------------------


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000))
def test_faults_grow_with_ink_on_every_press(seed: int) -> None:
    press = any_press(seed)
    device = np.linspace(0.05, 1.0, 20)[:, None] * np.array([[1.0, 1.0, 0, 0]])
    for name, values in severity(press, device).items():
        assert name in FAULTS and (np.diff(values) >= 0).all() and values.min() >= 0 and values.max() <= 1


def test_heat_and_vacuum_change_the_faults() -> None:
    usual = press_by_name("petrel-44")
    device = np.full((1, 4), 0.55)

    def bad(name: str, **changes: float) -> float:
        press = replace(usual, environment=replace(usual.environment, **changes))
        return float(severity(press, device)[name][0])

    assert bad("cockling", vacuum=10) > bad("cockling", vacuum=50)
    assert bad("slow drying", heat=26) > bad("slow drying", heat=44)
    assert bad("haze", heat=48) > bad("haze", heat=36)


def test_the_picture_of_a_sheet_shows_the_fault() -> None:
    press = press_by_name("petrel-44/thrift-bond-90")
    device = np.zeros((2, 4))
    device[:, 0] = (0.4, 1.0)
    seen = picture(press, device).astype(float)
    good, bad = seen[12:26, 16:80, 2], seen[12:26, 112:176, 2]
    assert seen.shape == (72, 192, 3)
    assert bad.std() > 5.0 * good.std() + 2.0, "mottle is in the picture"
    line = 36
    assert seen[line, 40:60].mean() > seen[line, 136:156].mean(), "the unprinted line closes with bleed"


def test_the_first_fault_sets_the_eye_limit() -> None:
    assert byeye.eye_limit({"bleed": 0.8, "haze": None, "cockling": 0.75}) == byeye.EyeLimit(0.75, "cockling")
    assert byeye.eye_limit({"bleed": None}) is None


def eye_matches(press: SimulatedPress, limit: float, channel: int, unsure: float, seed: int):  # type: ignore[no-untyped-def]
    """A person who picks the step that looks most like the dither, with an unsure eye."""
    random = np.random.default_rng(seed)

    def xyz(raw: float) -> np.ndarray:
        device = np.zeros((1, 4))
        device[0, channel] = raw
        return spectra_to_xyz(press.spectra(device))[0]

    paper, solid = xyz(0.0), xyz(limit)
    usual_solid = spectra_to_xyz(press_by_name("petrel-44").spectra(np.eye(4)[[channel]] * 0.75))[0]
    usual_paper = spectra_to_xyz(press_by_name("petrel-44").spectra(np.zeros((1, 4))))[0]
    matches, widths = {}, {}
    for pair in byeye.match_pairs("CMYK"[channel], limit, usual_paper, usual_solid):
        mixed = (1 - pair.coverage) * paper + pair.coverage * solid
        tones = np.array([float(sctv(xyz(s), paper, solid)) for s in pair.steps])
        wanted = float(sctv(mixed, paper, solid)) + unsure * random.standard_normal(2)
        matches[pair.tone] = [pair.steps[int(np.abs(tones - w).argmin())] for w in wanted]
        widths[pair.tone] = float(np.diff(pair.steps).mean())
    return matches, widths, paper, solid, xyz


@pytest.mark.parametrize(
    "name", ["petrel-44/thrift-bond-90", "petrel-44/chandler-canvas-380", "gannet-64/lightbox-film-175"]
)
@pytest.mark.parametrize("channel", [0, 1, 3])
def test_curves_by_eye_even_the_tone_scale_and_say_how_sure_they_are(name: str, channel: int) -> None:
    press = press_by_name(name)
    matches, widths, paper, solid, xyz = eye_matches(press, 0.7, channel, 2.0, 4)
    made = byeye.curve_from_matches("CMYK"[channel], 0.7, matches, widths)
    assert (np.diff(made.output) >= 0).all() and made.output[-1] == 0.7
    at = np.linspace(0.1, 0.9, 17)
    raw = np.interp(at, np.linspace(0, 1, INPUTS), made.output)
    tone = np.array([float(sctv(xyz(r), paper, solid)) for r in raw])
    straight = np.array([float(sctv(xyz(0.7 * a), paper, solid)) for a in at])
    off, before = np.abs(tone - 100 * at).mean(), np.abs(straight - 100 * at).mean()
    assert off < 0.45 * before and off < 5.0
    assert 1.0 < made.sure_within < 15.0


def test_a_sure_eye_is_told_from_an_unsure_one() -> None:
    press = press_by_name("petrel-44")
    sure = [
        byeye.curve_from_matches("C", 0.7, *eye_matches(press, 0.7, 0, s, 3)[:2]).sure_within
        for s in (0.3, 9.0)
    ]
    assert sure[1] > 1.3 * sure[0]


def test_matches_that_make_no_curve_are_refused() -> None:
    with pytest.raises(BadInput, match="at least three"):
        byeye.curve_from_matches("C", 0.8, {0.3: [0.1], 0.5: [0.2]}, {0.3: 0.02, 0.5: 0.02})
    with pytest.raises(BadInput, match="do not rise"):
        byeye.curve_from_matches(
            "C", 0.8, {0.3: [0.4], 0.5: [0.3], 0.7: [0.2]}, dict.fromkeys((0.3, 0.5, 0.7), 0.02)
        )


# --- overprints and total ink ----------------------------------------------------------------


@pytest.fixture(scope="module")
def sums(room: PrintRoom) -> ReadingSet:
    return room.read(patches.design("total-ink"))


def test_overprints_of_pairs_triples_and_all_are_found(sums: ReadingSet, room: PrintRoom) -> None:
    found = totalink.find_total_ink(sums)
    assert {"all", "C+M", "C+Y", "C+K", "M+Y", "M+K", "Y+K", "C+M+Y", "C+M+K", "C+Y+K", "M+Y+K"} <= set(
        found.overprints
    )
    fine = np.arange(1.0, 4.0, 0.02)
    true = room.truth(np.repeat(fine[:, None] / 4.0, 4, axis=1))[:, 0]
    gain = -np.gradient(true, fine) * 0.1
    stalled = fine[np.flatnonzero((gain < totalink.LEAST_GAIN) & (fine > 1.4))[0]]
    assert found.limit == pytest.approx(stalled, abs=0.25)
    assert found.overprints["C+M"].channels == ("C", "M") and found.overprints["C+M"].sums[
        -1
    ] == pytest.approx(2.0)


def test_the_smaller_of_eye_and_reading_is_recommended_with_its_reason(sums: ReadingSet) -> None:
    found = totalink.find_total_ink(sums)
    by_reading = totalink.recommend(found, {"bleed": None})
    assert by_reading.limit == found.limit and by_reading.by == "reading"
    by_eye = totalink.recommend(found, {"bleed": found.limit - 0.4, "slow drying": found.limit + 0.4})
    assert by_eye.by == "bleed" and by_eye.limit == pytest.approx(found.limit - 0.4)
    assert "by reading" in by_eye.reason
    later = totalink.recommend(found, {"cockling": found.limit + 0.3})
    assert later.by == "reading" and "cockling was seen only past" in later.reason


def test_less_total_ink_keeps_less_gamut_and_more_light(sums: ReadingSet) -> None:
    found = totalink.find_total_ink(sums)
    kept = [totalink.gamut_kept(sums, t) for t in (4.0, 2.4, 1.6)]
    assert kept[0] == pytest.approx(100.0) and kept[0] >= kept[1] > kept[2]
    assert totalink.lightness_at(found.whole, 1.6) > totalink.lightness_at(found.whole, 2.4)


# --- touch-up and confirming -----------------------------------------------------------------


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


# --- baseline and restore --------------------------------------------------------------------


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


def test_another_ink_is_told_as_another_hue(room: PrintRoom) -> None:
    baseline = short_reading(room, 1, room.curves)
    alpha = ink_absorption("Tarn pigment").copy()
    alpha[1] = np.roll(alpha[1], 2)
    foreign = replace(room, press=replace(room.press, absorption=alpha))
    drift = restore.compare_to_baseline(baseline, short_reading(foreign, 2, room.curves), room.curves)
    assert any(r.startswith("M has another hue") for r in drift.not_enough)
    assert not any(r.startswith(("C", "Y", "K")) for r in drift.not_enough)


def test_a_baseline_can_be_told_from_the_raw_ramps(room: PrintRoom) -> None:
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
