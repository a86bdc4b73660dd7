"""Where tables end and turn: highlights without black, the gamut's edge, limits, vivid colours."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.characterization import storage
from greyanchor.core.characterization.model import characterize
from greyanchor.core.colour import jzazbz
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling import softproof, tables
from greyanchor.core.profiling.build import ProfileSettings, build_from_model
from greyanchor.core.profiling.compression import PERCEPTUAL, SATURATION, Knee, compression_of
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.shell import shell_of
from greyanchor.core.profiling.sources import source_points
from tests import lcms
from tests.conftest import PrintRoom

LIMITED = Separation(total_ink=2.6, limits=(("C", 0.8), ("Y", 0.9)), max_black=0.9)


@pytest.fixture(scope="module")
def model(profile_readings: ReadingSet):
    return characterize(profile_readings)


@pytest.fixture(scope="module")
def limited(model, profile_readings: ReadingSet) -> bytes:
    sizes = tables.TableSizes(9, 7, 26, 18, 11)
    return build_from_model(model, profile_readings, ProfileSettings(LIMITED, sizes=sizes)).data


@pytest.fixture(scope="module")
def plain(model, profile_readings: ReadingSet) -> bytes:
    sizes = tables.TableSizes(17, 11, 41, 26, 11)
    return build_from_model(
        model, profile_readings, ProfileSettings(Separation(total_ink=3.0), sizes=sizes)
    ).data


@pytest.mark.parametrize("intent", ["relative", "perceptual"])
def test_tones_before_black_begins_are_free_of_it(plain: bytes, intent: str) -> None:
    lightness = np.linspace(100.0, 82.0, 37)
    for a, b in ((0.0, 0.0), (6.0, 10.0), (-8.0, -6.0)):
        tone = np.column_stack([lightness, np.full(37, a), np.full(37, b)])
        assert lcms.lab_to_device(plain, tone, intent)[:, 3].max() < 0.002, "black dots would show"


def test_black_on_the_neutral_axis_is_what_was_asked_for(plain: bytes, model) -> None:
    inverter = Inverter(model, Separation(total_ink=3.0))
    lightness = np.linspace(90.0, 25.0, 40)
    neutral = np.column_stack([lightness, np.zeros(40), np.zeros(40)])
    asked = model.to_device(inverter.aims(icc_absolute(plain, neutral)))[:, 3]
    got = lcms.lab_to_device(plain, neutral, "relative")[:, 3]
    assert np.abs(got - asked).max() < 0.02


def icc_absolute(data: bytes, relative: np.ndarray) -> np.ndarray:
    """Absolute Lab of media-relative Lab, by the profile's white."""
    from greyanchor.core.profiling.rendering import Rendering

    return Rendering(icc.loads(data).white, 0.0, 0.0).absolute(relative)


@pytest.mark.parametrize("intent", ["relative", "perceptual", "saturation", "absolute"])
def test_no_ink_passes_its_limit_whatever_the_nodes_hold(limited: bytes, intent: str) -> None:
    lab = np.random.default_rng(2).uniform([0, -128, -128], [100, 127, 127], (20_000, 3))
    inks = lcms.lab_to_device(limited, lab, intent)
    assert (inks.max(axis=0) <= np.array([0.8, 1.0, 0.9, 0.9]) + 1e-4).all()
    assert inks.sum(axis=1).max() < 2.6 * 1.01 and inks.min() >= 0.0


def test_a_table_stores_room_beyond_the_inks_and_prints_within_them() -> None:
    even = np.linspace(-0.1, 1.1, 25)[:, None]
    np.testing.assert_allclose(tables.unstored(tables.stored(even)), np.clip(even, 0.0, 1.0), atol=1e-12)
    code = 65535.0 * tables.stored(np.array([0.0, 1.0]))
    np.testing.assert_allclose(code, np.round(code), atol=1e-6, err_msg="no ink and all ink are whole codes")


def test_colours_just_inside_the_edge_are_met_as_well_as_others(plain: bytes, model, room: PrintRoom) -> None:
    random = np.random.default_rng(3).random((1500, 4)) * np.array([1, 1, 1, 0.0])
    edge = random.copy()
    edge[np.arange(1500), np.arange(1500) % 3] = 0.02
    edge[np.arange(1500), (np.arange(1500) + 1) % 3] = 0.97
    miss = []
    for inks in (random, edge):
        lab = model.lab(inks)
        miss.append(delta_e_2000(model.lab(lcms.lab_to_device(plain, lab)), lab))
    assert miss[1].mean() < 0.25 and np.percentile(miss[1], 95) < 0.7, [m.mean() for m in miss]


@pytest.mark.parametrize("knee", [PERCEPTUAL, SATURATION, Knee(0.7, 0.5)])
def test_a_compression_is_undone_by_its_inverse(model, knee: Knee) -> None:
    compression = _compression(model, knee)
    printed = 0.8 * (_surface(model) - compression.room.centre) + compression.room.centre
    np.testing.assert_allclose(compression.into(compression.out_of(printed)), printed, atol=2e-3)


@pytest.mark.parametrize("knee", [PERCEPTUAL, SATURATION])
def test_greys_do_not_lean_and_stay_neutral(model, knee: Knee) -> None:
    compression = _compression(model, knee)
    grey = np.column_stack([np.linspace(0.02, 0.2, 20), np.zeros(20), np.zeros(20)])
    np.testing.assert_array_equal(compression.lean.applied(grey, knee.lean), grey)
    np.testing.assert_allclose(compression.into(grey)[:, 1:], 0.0, atol=1e-9)


def test_bright_pure_colours_do_not_print_paler_than_darker_ones(plain: bytes, room: PrintRoom) -> None:
    for pure in ((0, 1, 0), (0, 0, 1), (1, 0, 1), (0, 1, 1), (0.5, 0, 1)):
        source = softproof.source_lab(np.linspace(0.0, 1.0, 60)[:, None] * np.array(pure, dtype=float))
        chroma = np.hypot(*room.truth(lcms.lab_to_device(plain, source, "perceptual"))[:, 1:].T)
        assert (np.maximum.accumulate(chroma) - chroma).max() < 3.5, pure


def test_clipped_colours_keep_their_hue(plain: bytes) -> None:
    asked = softproof.source_lab(np.random.default_rng(4).random((3000, 3)))
    got = lcms.device_to_lab(plain, lcms.lab_to_device(plain, asked, "relative"), "relative")
    clipped = (delta_e_2000(got, asked) > 1.5) & (np.hypot(*got[:, 1:].T) > 10.0)
    first, last = (np.arctan2(*jzazbz.from_lab(x[clipped])[:, :0:-1].T) for x in (asked, got))
    off = np.degrees(np.abs((first - last + np.pi) % (2 * np.pi) - np.pi))
    assert clipped.sum() > 300 and np.percentile(off, 95) < 4.0


def test_a_soft_proof_puts_black_where_a_cmm_does(plain: bytes) -> None:
    profile = icc.loads(plain)
    grey = np.linspace(0.0, 1.0, 30)[:, None].repeat(3, axis=1)
    ours = softproof.proof(profile, grey, "perceptual", on_paper=False)
    theirs = lcms.device_to_lab(
        plain, lcms.lab_to_device(plain, softproof.source_lab(grey), "perceptual"), "relative"
    )
    assert np.abs(ours[:, 0] - theirs[:, 0]).max() < 0.4


def test_a_kept_model_says_the_same_and_one_of_another_form_is_fitted_again(model, monkeypatch) -> None:
    kept = storage.to_bytes(model)
    inks = np.random.default_rng(5).random((50, 4))
    again = storage.from_bytes(kept)
    assert again is not None
    np.testing.assert_allclose(again.lab(inks), model.lab(inks), atol=1e-9)
    monkeypatch.setattr(storage, "FORM", 99)
    assert storage.from_bytes(kept) is None


def test_black_of_a_late_start_stays_out_of_midtones(model, profile_readings: ReadingSet) -> None:
    late = Separation(total_ink=3.0, black_start=0.7, black_strength=0.8)
    settings = ProfileSettings(late, sizes=tables.TableSizes(7, 5, 26, 11, 11))
    data = build_from_model(model, profile_readings, settings).data
    neutral = np.column_stack([np.linspace(98.0, 50.0, 30), np.zeros((30, 2))])
    assert lcms.lab_to_device(data, neutral, "relative")[:, 3].max() < 0.01


def _surface(model) -> np.ndarray:
    inks = np.random.default_rng(7).random((4000, 4)) ** 0.4
    inks[:, 3] = 0.0
    inks[np.arange(4000), np.arange(4000) % 3] = 0.0
    return jzazbz.from_lab(model.lab(inks))


def _compression(model, knee: Knee):
    surface = _surface(model)
    ends = (float(surface[:, 0].min()) * 0.4, float(surface[:, 0].max()) + 1e-4)
    centre = np.array([0.5 * sum(ends), 0.0, 0.0])
    shell = shell_of(surface, centre, ends)
    return compression_of(knee, shell, source_points("srgb"), ends)


def test_colours_just_outside_the_gamut_keep_their_hue(plain: bytes, model) -> None:
    """Up to six units more vivid than the printer is, as the solids of a press often are, through lcms2."""
    random = np.random.default_rng(8)
    inks = np.pad(random.random((900, 3)), ((0, 0), (0, 1)))
    rows = np.arange(len(inks))
    inks[rows, random.integers(0, 3, len(inks))] = 1.0
    inks[rows, inks[:, :3].argmin(axis=1)] = 0.0
    edge = model.lab(inks)
    outward = edge[:, 1:] / np.hypot(edge[:, 1], edge[:, 2])[:, None]
    aims = edge.copy()
    aims[:, 1:] += outward * random.uniform(0.5, 6.0, len(edge))[:, None]
    printed = model.lab(lcms.lab_to_device(plain, aims))
    turned = np.abs(_hue_apart(printed, aims))
    assert turned.mean() < 0.7 and np.percentile(turned, 95) < 1.9, (turned.mean(), np.percentile(turned, 95))
    # and what is printed is about as near as can be
    best = model.lab(Inverter(model, Separation(total_ink=3.0)).solve(aims).device)
    assert delta_e_2000(printed, aims).mean() < 1.15 * delta_e_2000(best, aims).mean()


def _hue_apart(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """dH*ab (n,) between Lab (n, 3) and (n, 3)."""
    along = np.sqrt(np.hypot(one[:, 1], one[:, 2]) * np.hypot(other[:, 1], other[:, 2]))
    turn = np.arctan2(one[:, 2], one[:, 1]) - np.arctan2(other[:, 2], other[:, 1])
    return 2.0 * along * np.sin(turn / 2.0)
