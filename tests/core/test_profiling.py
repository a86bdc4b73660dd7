"""The profile engine, read through lcms2 and held against the press itself, whose truth it never sees."""

from __future__ import annotations

import io
import struct
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image, ImageCms

from greyanchor.core.characterization.compact import compact
from greyanchor.core.characterization.model import characterize
from greyanchor.core.colour.colorimetry import (
    D50_WHITE,
    adapt_bradford,
    delta_e_2000,
    spectra_to_xyz,
    white_point,
    xyz_to_lab,
)
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.formats.icc_tables import encode_lab
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile
from greyanchor.core.profiling.compression import PERCEPTUAL, SATURATION
from greyanchor.core.profiling.gamut import gamut_from_lab
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from tests import lcms
from tests.conftest import PrintRoom

TABLES = ("A2B0", "A2B1", "A2B2", "B2A0", "B2A1", "B2A2")


@pytest.fixture(scope="module")
def unseen() -> np.ndarray:
    device = np.random.default_rng(11).random((3000, 4))
    return device[device.sum(axis=1) < 2.7]


def test_the_model_predicts_patches_it_never_saw(
    room: PrintRoom, profile_readings: ReadingSet, unseen: np.ndarray
) -> None:
    model = characterize(profile_readings)
    error = delta_e_2000(model.lab(unseen), room.truth(unseen))
    prior = delta_e_2000(characterize(profile_readings, with_residual=False).lab(unseen), room.truth(unseen))
    assert error.mean() < 0.35 and np.percentile(error, 95) < 0.9
    assert error.mean() < 0.7 * prior.mean()
    assert model.held_out.mean == pytest.approx(error.mean(), abs=0.2)


def test_the_compact_model_stays_close_and_its_gradient_is_its_slope(
    profile_readings: ReadingSet, unseen: np.ndarray
) -> None:
    model = characterize(profile_readings)
    quick = compact(model, 3.0)
    even = model.to_even(unseen)
    value, gradient = quick.lab_with_gradient(even)
    assert np.sqrt(((value - model.lab(unseen)) ** 2).sum(axis=1).mean()) < 0.15
    for channel in range(4):
        step = np.zeros(4)
        step[channel] = 0.01
        slope = (quick.lab(even + step) - quick.lab(even - step)) / 0.02
        np.testing.assert_allclose(gradient[:, channel], slope, atol=0.05)


def test_even_coordinates_go_there_and_back(profile_readings: ReadingSet, unseen: np.ndarray) -> None:
    model = characterize(profile_readings)
    np.testing.assert_allclose(model.to_device(model.to_even(unseen)), unseen, atol=1e-9)


def test_lcms2_reads_device_to_lab_close_to_the_press(
    room: PrintRoom, built: ProfileResult, unseen: np.ndarray
) -> None:
    error = delta_e_2000(lcms.device_to_lab(built.data, unseen), room.truth(unseen))
    assert error.mean() < 0.4 and np.percentile(error, 95) < 1.0


def test_lcms2_reads_lab_to_device_and_the_press_prints_that_colour(
    room: PrintRoom, built: ProfileResult, unseen: np.ndarray
) -> None:
    lab = room.truth(unseen)
    error = delta_e_2000(room.truth(lcms.lab_to_device(built.data, lab)), lab)
    assert error.mean() < 0.6 and np.percentile(error, 95) < 1.8


@pytest.fixture(scope="module")
def built_v2(profile_readings: ReadingSet) -> bytes:
    settings = ProfileSettings(Separation(3.0), 2, title="Quay 2", sizes=TableSizes(13, 13, 17, 17, 9))
    return build_profile(profile_readings, settings).data


@pytest.mark.parametrize("intent", list(lcms.INTENTS))
def test_our_own_reader_and_lcms2_agree(
    built: ProfileResult, built_v2: bytes, unseen: np.ndarray, intent: str
) -> None:
    # lcms2 always compensates the black point in perceptual and saturation of version 4; version 2 is read
    # plain
    data = built.data if intent in ("relative", "absolute") else built_v2
    profile = icc.loads(data)
    ours = profile.device_to_lab(unseen[:500], intent)
    error = delta_e_2000(ours, lcms.device_to_lab(data, unseen[:500], intent))
    # multilinear against tetrahedral interpolation, which differ most where chroma is expanded
    assert error.mean() < (0.12 if data is built.data else 0.6) and np.percentile(error, 95) < 1.5
    back = profile.lab_to_device(ours, intent)
    assert np.abs(back - lcms.lab_to_device(data, ours, intent)).mean() < 0.01


def test_no_table_prints_more_than_the_total_ink_limit(built: ProfileResult) -> None:
    lab = np.random.default_rng(2).uniform([0, -128, -128], [100, 127, 127], (9000, 3))
    for intent in ("relative", "perceptual", "saturation"):
        assert lcms.lab_to_device(built.data, lab, intent).sum(axis=1).max() <= 3.0 * 1.01


def test_white_prints_no_ink_and_paper_is_the_media_white(
    built: ProfileResult, profile_readings: ReadingSet
) -> None:
    for intent in ("relative", "perceptual", "saturation"):
        assert lcms.lab_to_device(built.data, np.array([[100.0, 0, 0]]), intent).max() < 0.004
    paper = profile_readings.xyz()[profile_readings.device.sum(axis=1) == 0].mean(axis=0)
    seen = lcms.device_to_lab(built.data, np.zeros((1, 4)), "absolute")
    assert delta_e_2000(seen[0], xyz_to_lab(paper)) < 0.15


def test_the_neutral_axis_is_grey_even_and_never_turns_back(built: ProfileResult) -> None:
    darkest = built.report["black_l"]
    lightness = np.linspace(100, darkest + 4, 80)
    device = lcms.lab_to_device(
        built.data, np.column_stack([lightness, 0 * lightness, 0 * lightness]), "relative"
    )
    seen = lcms.device_to_lab(built.data, device, "relative")
    assert np.hypot(seen[:, 1], seen[:, 2]).max() < 0.8
    assert (np.diff(device[:, 3]) > -0.004).all(), "black must not reverse"
    assert np.abs(np.diff(device, 2, axis=0)).max() < 0.04, "no kink in any ink"


def test_black_starts_where_it_is_reported_and_obeys_its_maximum(profile_readings: ReadingSet) -> None:
    sizes = TableSizes(9, 9, 17, 9, 9)

    def black(start: float, strength: float, most: float) -> np.ndarray:
        separation = Separation(3.0, start, strength, most)
        profile = icc.loads(build_profile(profile_readings, ProfileSettings(separation, sizes=sizes)).data)
        lab = np.column_stack([np.linspace(100, 15, 40), np.zeros(40), np.zeros(40)])
        return profile.lab_to_device(lab, "relative")[:, 3]

    early, late = black(0.1, 0.5, 1.0), black(0.5, 0.5, 0.6)
    assert np.argmax(early > 0.02) < np.argmax(late > 0.02)
    assert late.max() <= 0.61 and early.mean() > late.mean()
    assert black(0.1, 0.9, 1.0).mean() > early.mean()


def test_perceptual_keeps_ends_and_order(built: ProfileResult) -> None:
    lightness = np.linspace(100, 4, 60)
    profile = icc.loads(built.data)
    device = profile.lab_to_device(np.column_stack([lightness, 0 * lightness, 0 * lightness]), "perceptual")
    seen = profile.device_to_lab(device, "relative")[:, 0]
    assert (np.diff(seen) < 0.05).all(), "darker must stay darker"
    darkest = profile.device_to_lab(profile.lab_to_device(np.zeros((1, 3)), "relative"), "relative")[0, 0]
    assert seen[0] > 99.8 and seen[-1] < darkest + 2.5


@pytest.mark.parametrize("knee", [PERCEPTUAL, SATURATION])
def test_chroma_compression_is_smooth_rising_and_can_be_undone(knee: object) -> None:
    for reach in (0.7, 1.0, 1.2, 1.6):
        ratio = np.linspace(0, reach if knee.expands else max(reach, 1.0), 400)
        bent = knee.compress(ratio, np.full(400, reach))
        assert (np.diff(bent) > 0).all() and bent[-1] == pytest.approx(1.0)
        assert np.abs(np.diff(bent, 2)).max() < 3e-3
        np.testing.assert_allclose(knee.expand(bent, np.full(400, reach)), ratio, atol=1e-6)


@pytest.mark.parametrize("version", [2, 4])
def test_a_profile_is_complete_for_its_version(profile_readings: ReadingSet, version: int) -> None:
    settings = ProfileSettings(Separation(3.0), version, title="Quay № 1", sizes=TableSizes(7, 7, 9, 9, 7))
    data = build_profile(profile_readings, settings).data
    profile = icc.loads(data)
    assert (
        profile.version[0] == version
        and profile.device_class == "prtr"
        and profile.space == "CMYK"
        and profile.pcs == "Lab"
    )
    assert set(TABLES) | {"gamt", "targ", "wtpt", "desc", "cprt"} <= set(profile.tags)
    assert struct.unpack(">I", data[:4])[0] == len(data)
    assert ("chad" in profile.tags) == (version == 4) and bool(profile.profile_id) == (version == 4)
    opened = ImageCms.getOpenProfile(io.BytesIO(data))
    assert "Quay" in ImageCms.getProfileDescription(opened)
    if version == 4:
        assert profile.description == "Quay № 1"
    for intent in lcms.INTENTS:
        assert lcms.device_to_lab(data, np.array([[0.2, 0.4, 0.1, 0.0]]), intent).shape == (1, 3)


def test_the_characterization_data_inside_are_the_readings(
    built: ProfileResult, profile_readings: ReadingSet
) -> None:
    inside = cgats.loads(icc.tag_text(icc.loads(built.data).tags["targ"]))
    np.testing.assert_allclose(inside.spectra, profile_readings.spectra, atol=1e-6)
    np.testing.assert_allclose(inside.device, profile_readings.device, atol=1e-6)


def test_the_gamut_tag_says_in_from_out(built: ProfileResult, room: PrintRoom, unseen: np.ndarray) -> None:
    lut, legacy = icc.loads(built.data).lut("gamt")
    white = icc.loads(built.data).white
    from greyanchor.core.colour.colorimetry import lab_to_xyz

    inside = xyz_to_lab(lab_to_xyz(room.truth(unseen * 0.6)) * (icc.PCS_WHITE / white))
    outside = np.array([[50, 110, 0], [50, -100, 0], [30, 0, -110], [95, 60, 60], [50.0, 0, 120]])
    assert np.median(lut.evaluate(encode_lab(inside, legacy))) == 0
    assert lut.evaluate(encode_lab(outside, legacy)).min() > 0.5


def test_a_picture_goes_through_the_profile_with_pillow(built: ProfileResult) -> None:
    picture = Image.linear_gradient("L").convert("RGB")
    transform = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"), ImageCms.getOpenProfile(io.BytesIO(built.data)), "RGB", "CMYK"
    )
    out = np.asarray(ImageCms.applyTransform(picture, transform)).astype(int)
    ink = out.sum(axis=2).mean(axis=1)
    assert out.shape == (256, 256, 4) and ink[0] > 500 and ink[-1] < 8
    assert (np.diff(ink) < 6).all()


def test_readings_of_lab_alone_make_a_profile_too(
    room: PrintRoom, profile_readings: ReadingSet, unseen: np.ndarray
) -> None:
    readings = replace(profile_readings, spectra=None, measured_lab=profile_readings.lab())
    model = characterize(readings)
    assert delta_e_2000(model.lab(unseen), room.truth(unseen)).mean() < 0.45
    with pytest.raises(BadInput, match="no spectra"):
        characterize(readings, light="A")


def test_another_viewing_light_adapts_white_to_white(profile_readings: ReadingSet) -> None:
    model = characterize(profile_readings, light="A")
    paper = model.lab(np.zeros((1, 4)))[0]
    assert paper[0] > 90 and np.hypot(paper[1], paper[2]) < 8
    truth = adapt_bradford(spectra_to_xyz(profile_readings.spectra, "A"), white_point("A"), D50_WHITE)
    assert delta_e_2000(model.lab(profile_readings.device), xyz_to_lab(truth)).mean() < 0.4
    assert delta_e_2000(model.lab(profile_readings.device), profile_readings.lab()).mean() > 1.0


def _as_light(readings: ReadingSet) -> ReadingSet:
    return replace(readings, channels=tuple("RGB"), device=readings.device[:, :3])


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda r: r.select(np.arange(20)), "too few"),
        (lambda r: r.select(r.device.sum(axis=1) > 0.01), "unprinted"),
        (lambda r: r.select(r.device[:, 1] < 0.9), "channel M reaches only"),
        (lambda r: replace(r, spectra=None), "no measured values"),
        (
            lambda r: _as_light(r.select(r.device[:, :3].min(axis=1) < 0.9)),
            "unprinted patch .all channels 100 %",
        ),
    ],
)
def test_readings_that_cannot_carry_a_profile_are_refused(
    profile_readings: ReadingSet, spoil: object, words: str
) -> None:
    with pytest.raises(BadInput, match=words):
        build_profile(spoil(profile_readings), ProfileSettings())


@pytest.mark.parametrize(
    "settings",
    [{"total_ink": 8.5}, {"black_start": -0.1}, {"black_strength": 2.0}, {"max_black": 1.2}, {"width": 0.0}],
)
def test_impossible_separations_are_refused(settings: dict) -> None:
    with pytest.raises(BadInput, match="outside"):
        Separation(**settings)


def test_progress_is_reported_and_can_stop_the_work(profile_readings: ReadingSet) -> None:
    class Stop(Exception):
        pass

    items: list[float] = []

    def report(share: float, text: str) -> None:
        assert text
        items.append(share)
        if share > 0.2:
            raise Stop

    with pytest.raises(Stop):
        build_profile(profile_readings, ProfileSettings(), report)
    assert items == sorted(items)


def test_the_gamut_of_a_known_solid_has_its_volume() -> None:
    random = np.random.default_rng(4)
    lightness, hue = random.uniform(10, 90, 9000), random.uniform(0, 2 * np.pi, 9000)
    chroma = np.full(9000, 40.0)
    lightness[:3000] = np.where(random.random(3000) < 0.5, 10.0, 90.0)  # lid and bottom
    chroma[:3000] = 40.0 * np.sqrt(random.random(3000))
    cylinder = np.column_stack([lightness, chroma * np.cos(hue), chroma * np.sin(hue)])
    gamut = gamut_from_lab(cylinder)
    assert gamut.volume == pytest.approx(np.pi * 40**2 * 80, rel=0.04)
    np.testing.assert_allclose(gamut.chroma_at(np.full(9, 50.0), np.linspace(0, 359, 9)), 40.0, rtol=0.02)
    assert gamut.area(50.0) == pytest.approx(np.pi * 40**2, rel=0.03)
    assert gamut.reach(30.0) == pytest.approx(40, rel=0.03)
    leaf = gamut.leaf(30.0)
    assert leaf[:, 0].max() == pytest.approx(40, rel=0.03) and leaf[:, 0].min() == pytest.approx(
        -40, rel=0.03
    )


@pytest.mark.parametrize("cut", [0, 10, 131, 500, 100_000])
def test_a_damaged_profile_is_refused(built: ProfileResult, cut: int) -> None:
    with pytest.raises(BadInput):
        icc.loads(built.data[:cut], "cut.icc")
    broken = bytearray(built.data)
    broken[140:144] = b"\xff\xff\xff\xff"
    with pytest.raises(BadInput, match="lies outside"):
        icc.loads(bytes(broken))
