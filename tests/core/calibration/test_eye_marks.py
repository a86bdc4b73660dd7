"""Faults that an eye sees, matches by eye, and total ink."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.calibration import byeye, totalink
from greyanchor.core.calibration.curves import INPUTS
from greyanchor.core.charts import patches
from greyanchor.core.colour.colorimetry import spectra_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.faults import FAULTS, picture, severity
from greyanchor.core.simulation.press import SimulatedPress
from tests.conftest import PrintRoom
from tests.core.calibration.conftest import any_press


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
    good, bad = seen[24:52, 32:160, 2], seen[24:52, 224:352, 2]
    assert seen.shape == (144, 384, 3)
    assert bad.std() > 5.0 * good.std() + 2.0, "mottle is in the picture"
    line = 72
    assert seen[line, 80:120].mean() > seen[line, 272:312].mean(), "the unprinted line closes with bleed"


def test_the_first_fault_sets_the_eye_limit() -> None:
    assert byeye.eye_limit({"bleed": 0.8, "haze": None, "cockling": 0.75}) == byeye.EyeLimit(0.75, "cockling")
    assert byeye.eye_limit({"bleed": None}) is None


def eye_matches(press: SimulatedPress, limit: float, channel: int, unsure: float, seed: int):
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


def test_a_sure_eye_differs_from_an_unsure_one() -> None:
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


def test_nineteen_of_twenty_tones_lie_within_what_is_stated() -> None:
    """Persons of different sureness on media of different gain: how often the truth is inside two sigma."""
    inside = []
    at = np.linspace(0.05, 0.95, 37)
    for name in ("petrel-44/thrift-bond-90", "petrel-44/chandler-canvas-380", "gannet-64/lightbox-film-175"):
        press = press_by_name(name)
        for channel in (0, 1, 3):
            for seed, unsure in ((1, 1.0), (2, 1.5), (3, 2.0), (4, 2.5)):
                matches, widths, paper, solid, xyz = eye_matches(press, 0.7, channel, unsure, seed)
                made = byeye.curve_from_matches("CMYK"[channel], 0.7, matches, widths)
                raw = np.interp(at, np.linspace(0, 1, INPUTS), made.output)
                tone = np.array([float(sctv(xyz(r), paper, solid)) for r in raw])
                inside.append((np.abs(tone - 100 * at) <= made.sure_within).mean())
    assert 0.92 <= np.mean(inside) <= 0.985, np.mean(inside)
