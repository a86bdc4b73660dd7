"""Readings that cannot carry a profile are refused; those that barely do are warned about."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.characterization import trust
from greyanchor.core.characterization.model import characterize
from greyanchor.core.charts import patches
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile
from greyanchor.core.profiling.separation import Separation
from tests.conftest import PrintRoom

SETTINGS = ProfileSettings(Separation(total_ink=3.0))


def test_good_readings_are_taken_without_a_word(profile_readings: ReadingSet, built: ProfileResult) -> None:
    trust.check_colours(profile_readings)
    assert built.report["warnings"] == []
    assert 0.05 < trust.repeat_noise(profile_readings) < 0.6


def alike(readings: ReadingSet) -> ReadingSet:
    return replace(readings, spectra=np.repeat(readings.spectra[:1], len(readings), axis=0))


def without_cyan(readings: ReadingSet) -> ReadingSet:
    """What is read when the nozzles of one ink are blocked: the same patches without it."""
    spectra = readings.spectra.copy()
    alone = (readings.device[:, 0] > 0.98) & (readings.device[:, 1:].max(axis=1) < 0.005)
    spectra[alone] = spectra[readings.device.max(axis=1) < 0.005][0]
    return replace(readings, spectra=spectra)


def mixed_up(readings: ReadingSet) -> ReadingSet:
    other = np.random.default_rng(1).permutation(len(readings))
    half = (np.arange(len(readings)) % 2 == 0)[:, None]
    return replace(readings, spectra=np.where(half, readings.spectra, readings.spectra[other]))


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (alike, "all patches read alike"),
        (without_cyan, "full C reads only 0 from paper.*check the nozzles"),
        (mixed_up, "predict one another only"),
        (lambda r: r.select(np.arange(20)), "too few"),
        (lambda r: r.select(r.device.max(axis=1) > 0), "no unprinted patch"),
        (lambda r: r.select(r.device.max(axis=1) < 0.9), "must go to 100 %"),
    ],
)
def test_readings_that_cannot_carry_a_profile_are_refused(
    profile_readings: ReadingSet, spoil, words: str
) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(BadInput, match=words):
        build_profile(spoil(profile_readings), SETTINGS)


def test_noise_is_warned_about_with_what_to_do(profile_readings: ReadingSet) -> None:
    random = np.random.default_rng(2)
    factor = 1.0 + 0.09 * random.standard_normal((len(profile_readings), 1))
    noisy = replace(profile_readings, spectra=np.clip(profile_readings.spectra * factor, 0.0, 1.3))
    found = trust.warnings(noisy, characterize(noisy))
    assert any("repeated patches lie" in t and "once more" in t for t in found)
    assert any("unseen patches are predicted only" in t for t in found)


def test_a_chart_with_a_hole_names_the_place(room: PrintRoom) -> None:
    device = patches.profile_patches(400, 3.0)
    middle = (np.abs(device - 0.5) < 0.45).all(axis=1)
    holed = room.read(device[~middle])
    assert middle.sum() > 20
    place, distance = trust.emptiest(holed.values())
    assert distance > 0.15 and (np.abs(place - 0.5) < 0.42).all()
    assert any("the chart is thin around" in t for t in trust.warnings(holed, characterize(holed)))


def test_charts_of_every_size_we_lay_out_have_no_hole() -> None:
    for count in (200, 320, 1000):
        assert trust.emptiest(patches.profile_patches(count, 3.0))[1] < 0.15
