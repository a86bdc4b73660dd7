"""Separation controls for further inks, sums of some inks, and charts that go where separations go."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest

from greyanchor.core.calibration.consequences import gamut_added
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.totalink import find_total_ink
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileSettings, build_profile, random_inks
from greyanchor.core.profiling.preview import preview
from greyanchor.core.profiling.rebuild import settings_inside, with_settings
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from tests import lcms

SEVEN = tuple("CMYKOGV")
PRESS = press_by_name("gannet-64/kelp-synthetic-190/basalt-uv-seven")


def raw(device: Array) -> Array:
    return PRESS.as_raw(0.72 * device, SEVEN)


def read(purpose: str, count: int | None = None) -> ReadingSet:
    chart, _ = lay_out(patches.design(purpose, SEVEN, count), SEVEN, shuffle_seed=3)
    return print_and_read(chart, PRESS, 5, pipeline=raw)


@lru_cache(maxsize=1)
def model() -> ForwardModel:
    return characterize(read("profile", 700))


def test_a_chart_of_seven_inks_goes_where_separations_go() -> None:
    device = patches.design("profile", SEVEN, 1500, 3.0)
    assert device.shape == (1500, 7) and device.sum(axis=1).max() <= 3.0 + 1e-9
    further = (device[:, 4:] > 0).sum(axis=1)
    shares = np.bincount(further, minlength=4) / len(further)
    assert shares[0] > 0.25 and shares[1] > 0.35 and shares[3] < 0.1
    overprints = device[(device > 0).sum(axis=1) == 2]
    pairs = {tuple(np.flatnonzero(row)) for row in overprints}
    orange, cyan = SEVEN.index("O"), SEVEN.index("C")
    assert (1, orange) in pairs and (2, orange) in pairs, "orange with magenta and with yellow"
    full = device[(device.max(axis=1) == 1.0) & ((device > 0).sum(axis=1) == 2)]
    assert not any(set(np.flatnonzero(row)) == {orange, cyan} for row in full), "and not with cyan"


def test_seven_hundred_patches_of_seven_inks_are_a_model() -> None:
    inks = random_inks(7, 3.0, 1500)
    error = delta_e_2000(model().lab(inks), spectra_to_lab(PRESS.spectra(raw(inks))))
    assert error.mean() < 0.45


def test_total_ink_of_seven_is_that_of_four_with_neighbours_beside() -> None:
    found = find_total_ink(read("total-ink"))
    assert found.whole.channels == tuple("CMYK") and found.whole.sums[-1] == pytest.approx(4.0)
    assert "M+O" in found.overprints and "Y+K+O" in found.overprints
    assert not {"C+O", "O+G", "M+G"} & set(found.overprints)


def test_what_a_further_ink_adds_to_the_gamut() -> None:
    ramps = find_ramps(read("ink-limit"))
    limits = dict.fromkeys(SEVEN, 1.0)
    added = {c: gamut_added(ramps, limits, c) for c in "OGV"}
    assert all(0.5 < v < 40.0 for v in added.values())
    assert gamut_added(ramps, {**limits, "O": 0.4}, "O") < added["O"], "less ink, less gamut"
    with pytest.raises(BadInput, match="no ramp of B"):
        gamut_added(ramps, limits, "B")


def test_each_further_ink_takes_over_as_readily_as_asked_and_smoothly() -> None:
    usual = preview(model(), Separation(total_ink=3.0))
    asked = preview(model(), Separation(total_ink=3.0, handovers=(("O", 0.95), ("V", 0.05))))
    paths = {p.title: i for i, p in enumerate(usual.paths)}
    orange, violet = paths["Towards O"], paths["Towards V"]
    assert asked.paths[orange].inks[:, 4].mean() > 1.05 * usual.paths[orange].inks[:, 4].mean()
    assert asked.paths[violet].inks[:, 6].mean() < 0.95 * usual.paths[violet].inks[:, 6].mean()
    assert max(usual.roughness, asked.roughness) < 4.0, "no kink above 4 %"
    late = preview(model(), Separation(total_ink=3.0, from_chroma=40.0))
    light = slice(0, 12)
    assert late.paths[orange].inks[light, 4].mean() < usual.paths[orange].inks[light, 4].mean()


def test_sums_of_some_inks_are_held_in_every_table() -> None:
    press, channels = press_by_name("petrel-44"), tuple("CMYK")
    chart, _ = lay_out(patches.design("profile", channels, 320), channels, shuffle_seed=3)
    readings = print_and_read(chart, press, 5, pipeline=lambda v: press.as_raw(0.75 * v, channels))
    separation = Separation(total_ink=3.0, overprints=((("C", "M"), 1.5), (("M", "Y"), 1.6)))
    data = build_profile(readings, ProfileSettings(separation, sizes=TableSizes(9, 9, 41, 31, 10))).data
    axis_l, axis_ab = np.linspace(0, 100, 21), np.linspace(-128, 127, 25)
    lab = np.stack(np.meshgrid(axis_l, axis_ab, axis_ab, indexing="ij"), axis=-1).reshape(-1, 3)
    for intent in ("relative", "perceptual", "saturation"):
        inks = lcms.lab_to_device(data, lab, intent)
        assert inks[:, :2].sum(axis=1).max() <= 1.5 and inks[:, 1:3].sum(axis=1).max() <= 1.6
    assert settings_inside(with_settings(readings, separation, "D50")) == (separation, "D50")


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"overprints": ((("C", "O"), 1.5),)}, r"a limit for C\+O, but the inks are C M Y K"),
        ({"overprints": ((("C", "M"), 2.5),)}, "print together up to 100 to 200 %"),
        ({"handovers": (("O", 1.5),)}, "the handover to O, 150 %"),
        ({"from_chroma": 99.0}, "from a chroma of 0 to 60 on"),
    ],
)
def test_controls_that_make_no_sense_are_refused(changes: dict, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        Separation(**changes).sums(tuple("CMYK"))
