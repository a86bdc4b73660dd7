"""Profiles of one, three and seven channels: read by lcms2, held to the press they never saw."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
import pytest
from PIL import Image, ImageCms

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet, as_inks
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile, random_inks
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes, picture_channels
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.predict import predict
from greyanchor.core.verification.shipped import SHIPPED
from tests import lcms

SEVEN = "gannet-64/kelp-synthetic-190/basalt-uv-seven"


@dataclass(frozen=True)
class Kind:
    """A finished profile of some kind of printer, and what its press really prints."""

    channels: tuple[str, ...]
    result: ProfileResult
    truth: Callable[[Array], Array]

    def unseen(self, total: float, count: int = 500) -> tuple[Array, Array]:
        """Device values as the profile counts them, and the Lab that the press prints for them."""
        inks = random_inks(len(self.channels), total, count)
        return as_inks(inks, picture_channels(self.channels)), self.truth(inks)

    def printed(self, device: Array) -> Array:
        return self.truth(as_inks(device, picture_channels(self.channels)))


@lru_cache(maxsize=3)
def record_type_of(name: str, letters: str, count: int, sizes: TableSizes | None = None) -> Kind:
    channels, press = tuple(letters), press_by_name(name)
    share = 1.0 if press.driven else 0.75

    def to_raw(values: Array) -> Array:
        return press.as_raw(share * values, channels)

    chart, _ = lay_out(patches.design("profile", channels, count), channels, shuffle_seed=3)
    readings = print_and_read(chart, press, 5, pipeline=to_raw)
    total = min(3.0, float(len(channels)))
    settings = ProfileSettings(Separation(total_ink=total), title=f"{letters} of the quay", sizes=sizes)
    result = build_profile(readings, settings)
    return Kind(channels, result, lambda inks: spectra_to_lab(press.spectra(to_raw(as_inks(inks, channels)))))


def rgb() -> Kind:
    return record_type_of("dunlin-24", "RGB", 400, TableSizes(17, 17, 25, 13, 9))


def grey() -> Kind:
    return record_type_of("petrel-44", "K", 64)


def seven() -> Kind:
    return record_type_of(SEVEN, "CMYKOGV", 1100, TableSizes(5, 4, 25, 13, 9))


def test_a_printer_driven_by_rgb_is_profiled_both_ways() -> None:
    kind = rgb()
    device, truth = kind.unseen(3.0)
    assert icc.loads(kind.result.data).space == "RGB"
    assert delta_e_2000(lcms.device_to_lab(kind.result.data, device), truth).mean() < 0.35
    back = lcms.lab_to_device(kind.result.data, truth, channels=3)
    error = delta_e_2000(kind.printed(back), truth)
    assert error.mean() < 0.5 and np.percentile(error, 95) < 1.5


def test_white_in_rgb_is_bare_paper_and_stays_it() -> None:
    white = lcms.lab_to_device(rgb().result.data, np.array([[100.0, 0.0, 0.0]]), "relative", channels=3)
    np.testing.assert_allclose(white, 1.0, atol=1e-4)


def test_a_picture_goes_through_an_rgb_profile_in_pillow() -> None:
    picture = Image.fromarray(np.tile(np.linspace(0, 255, 64, dtype=np.uint8)[None, :, None], (8, 1, 3)))
    transform = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"),
        ImageCms.getOpenProfile(io.BytesIO(rgb().result.data)),
        "RGB",
        "RGB",
        0,
    )
    out = np.asarray(ImageCms.applyTransform(picture, transform), dtype=float)
    assert out[0, -1].min() > 253 and out[0, 0].max() < 90
    assert (np.diff(out[0].mean(axis=1)) > -2).all()


def test_black_alone_is_a_profile_in_grey_where_white_is_paper() -> None:
    kind = grey()
    device, truth = kind.unseen(1.0)
    profile = icc.loads(kind.result.data)
    assert profile.space == "GRAY" and profile.channels == 1
    assert delta_e_2000(lcms.device_to_lab(kind.result.data, device), truth).mean() < 0.3
    back = lcms.lab_to_device(kind.result.data, truth, channels=1)
    assert delta_e_2000(kind.printed(back), truth).mean() < 0.3
    ends = lcms.lab_to_device(
        kind.result.data, np.array([[100.0, 0, 0], [0.0, 0, 0]]), "perceptual", channels=1
    )
    assert ends[0, 0] > 0.999 and ends[1, 0] < 0.01


def test_colours_in_a_grey_profile_keep_their_lightness() -> None:
    lab = np.array([[60.0, 0.0, 0.0], [60.0, 50.0, 20.0], [60.0, -40.0, -30.0]])
    back = lcms.lab_to_device(grey().result.data, lab, "relative", channels=1)
    np.testing.assert_allclose(back, back[0, 0], atol=0.01)


def test_seven_inks_are_profiled_both_ways_within_their_total() -> None:
    kind = seven()
    device, truth = kind.unseen(3.0)
    profile = icc.loads(kind.result.data)
    assert profile.space == "7CLR" and profile.inks == kind.channels
    assert delta_e_2000(lcms.device_to_lab(kind.result.data, device), truth).mean() < 1.0
    back = lcms.lab_to_device(kind.result.data, truth, channels=7)
    error = delta_e_2000(kind.printed(back), truth)
    assert error.mean() < 1.0 and np.percentile(error, 95) < 2.6
    lab = np.random.default_rng(3).uniform([0, -100, -100], [100, 100, 100], (20000, 3))
    assert lcms.lab_to_device(kind.result.data, lab, channels=7).sum(axis=1).max() < 3.0 * 1.012


def test_further_inks_take_over_smoothly_from_neighbour_to_neighbour() -> None:
    hue = np.radians(np.linspace(0, 360, 181))
    ring = np.column_stack([np.full(181, 55.0), 45.0 * np.cos(hue), 45.0 * np.sin(hue)])
    inks = lcms.lab_to_device(seven().result.data, ring, "relative", channels=7)
    assert np.abs(np.diff(inks, axis=0)).max() < 0.09, "2 degrees of hue never change an ink by a tenth"
    for first, second in ((4, 0), (5, 1), (6, 2)):  # an ink beside its complement would only make grey
        assert np.minimum(inks[:, first], inks[:, second]).mean() < 0.12


def test_orange_green_and_violet_widen_the_gamut() -> None:
    four = record_type_of(SEVEN, "CMYK", 500, TableSizes.draft())
    assert seven().result.report["gamut_volume"] > 1.08 * four.result.report["gamut_volume"]


@pytest.mark.parametrize("channels", range(1, 9))
def test_files_stay_usable_whatever_the_number_of_channels(channels: int) -> None:
    sizes = TableSizes.usual(channels)
    forward = 3 * (sizes.forward**channels + 2 * sizes.forward_rendered**channels)
    backward = channels * (sizes.backward**3 + 2 * sizes.rendered**3) + sizes.gamut**3
    assert 2 * (forward + backward) < 7e6, "with spectra of 3,000 patches a file stays under 8 MB"
    assert min(sizes.forward, sizes.forward_rendered) >= 4
    for side in (sizes.backward, sizes.rendered, sizes.gamut):
        assert any(65535 * k % (side - 1) == 0 for k in range(1, side - 1)), "neutral is on a node of 16 bits"


@pytest.mark.parametrize(("letters", "count"), [("CMYKO", 420), ("CMYKOG", 520)])
def test_five_and_six_inks_are_profiled_and_read_by_lcms2(letters: str, count: int) -> None:
    kind = record_type_of(SEVEN, letters, count, TableSizes.draft(len(letters)))
    device, truth = kind.unseen(3.0)
    assert icc.loads(kind.result.data).space == f"{len(letters)}CLR"
    assert delta_e_2000(lcms.device_to_lab(kind.result.data, device), truth).mean() < 2.0
    back = lcms.lab_to_device(kind.result.data, truth, channels=len(letters))
    assert delta_e_2000(kind.printed(back), truth).mean() < 1.6


def test_eight_inks_are_profiled_and_read_by_lcms2() -> None:
    """An eighth ink, a blue, that the stand-ins do not have: the engine must not care."""
    letters = tuple("CMYKOGVB")
    seven_inks = press_by_name(SEVEN)
    blue = 0.5 * (seven_inks._alpha[0] + seven_inks._alpha[6])
    press = replace(seven_inks, extras=("O", "G", "V", "B"), absorption=np.vstack([seven_inks._alpha, blue]))
    chart, _ = lay_out(patches.design("profile", letters, 1000), letters, shuffle_seed=3)
    readings = print_and_read(chart, press, 5, pipeline=lambda v: press.as_raw(0.7 * v, letters))
    result = build_profile(readings, ProfileSettings(Separation(total_ink=3.0), sizes=TableSizes.draft(8)))
    assert icc.loads(result.data).space == "8CLR"
    inks = random_inks(8, 3.0, 200)
    truth = spectra_to_lab(press.spectra(press.as_raw(0.7 * inks, letters)))
    back = lcms.lab_to_device(result.data, truth, channels=8)
    printed = spectra_to_lab(press.spectra(press.as_raw(0.7 * back, letters)))
    assert delta_e_2000(printed, truth).mean() < 2.0


def test_channels_that_were_never_printed_are_refused() -> None:
    press = press_by_name("dunlin-24")
    with pytest.raises(BadInput, match="R G B, or C M Y K, not X"):
        press.as_raw(np.zeros((1, 1)), ("X",))
    with pytest.raises(BadInput, match="takes amounts of ink, not R, G and B"):
        press_by_name("petrel-44").as_raw(np.zeros((1, 3)), tuple("RGB"))
    with pytest.raises(BadInput, match="profile chart alone"):
        patches.design("ink-limit", tuple("RGB"))


def test_a_limit_of_an_ink_that_is_not_there_is_refused() -> None:
    with pytest.raises(BadInput, match="limit for O, but the inks are C M Y K"):
        Separation(limits=(("O", 0.9),)).tops(tuple("CMYK"))


def test_single_inks_keep_to_their_limits(built: ProfileResult, profile_readings: object) -> None:
    settings = ProfileSettings(Separation(limits=(("C", 0.7), ("K", 0.9))), sizes=TableSizes.draft())
    data = build_profile(profile_readings, settings).data
    lab = np.random.default_rng(3).uniform([0, -90, -90], [100, 90, 90], (20000, 3))
    for intent in ("relative", "perceptual", "saturation"):
        most = lcms.lab_to_device(data, lab, intent).max(axis=0)
        assert most[0] < 0.705 and most[3] < 0.905 and most[1] > 0.9


def test_limits_that_leave_no_gamut_are_refused(profile_readings: object) -> None:
    tight = tuple((c, 0.05) for c in "CMYK")
    with pytest.raises(BadInput, match="leave no gamut"):
        build_profile(profile_readings, replace(ProfileSettings(), separation=Separation(limits=tight)))


@pytest.mark.parametrize("version", [2, 4])
@pytest.mark.parametrize("intent", ["perceptual", "relative", "saturation"])
@pytest.mark.parametrize("kind", ["grey", "rgb", "cmyk", "six", "seven", "eight"])
def test_white_in_is_no_ink_out_exactly(kind: str, intent: str, version: int) -> None:
    """A share of a percent on paper white is a scum of single dots, seen with engines that do not
    optimise.
    """
    channels, data = whites(kind, version)
    out = lcms.lab_to_device(data, np.array([[100.0, 0.0, 0.0]]), intent, channels=channels)
    np.testing.assert_allclose(out, 1.0 if channels in (1, 3) else 0.0, atol=1e-6)


@lru_cache(maxsize=12)
def whites(kind: str, version: int) -> tuple[int, bytes]:
    """A draft profile of noisy readings, and how many channels it has."""
    names = {
        "grey": ("K",),
        "rgb": tuple("RGB"),
        "cmyk": tuple("CMYK"),
        "six": tuple("CMYKOG"),
        "seven": tuple("CMYKOGV"),
        "eight": (*"CMYKOGV", "LC"),
    }[kind]
    room = {"rgb": "dunlin-24", "cmyk": "petrel-44", "grey": "petrel-44"}.get(
        kind, "gannet-64/kelp-synthetic-190/basalt-uv-seven"
    )
    press = press_by_name(room)
    count = 64 if kind == "grey" else 900
    chart, _ = lay_out(patches.design("profile", names, count), names, shuffle_seed=3)
    lab = spectra_to_lab(press.spectra(_raw(press, chart)))
    noisy = lab + np.random.default_rng(4).normal(0.0, 0.35, lab.shape)
    readings = replace(chart, measured_lab=noisy)
    sizes = TableSizes.draft(len(names))
    settings = ProfileSettings(
        Separation(total_ink=min(3.0, float(len(names)))), version=version, sizes=sizes
    )
    return len(names), build_profile(readings, settings).data


def _raw(press: SimulatedPress, chart: ReadingSet) -> np.ndarray:
    """Raw values of a chart; an eighth ink is printed as a second, lighter cyan."""
    if chart.channels == ("K",):
        return np.hstack([np.zeros((len(chart), 3)), chart.inks()])
    if len(chart.channels) < 8:
        return press.as_raw(chart.values(), chart.channels)
    values = chart.values().copy()
    values[:, 0] = np.clip(values[:, 0] + 0.35 * values[:, 7], 0.0, 1.0)
    return press.as_raw(values[:, :7], tuple("CMYKOGV"))


@pytest.mark.parametrize("kind", [rgb, seven], ids=["rgb", "seven"])
def test_a_strip_of_c_m_y_k_goes_through_any_profile_to_its_aim(kind: Callable[[], Kind]) -> None:
    made, aim = kind(), aims.load("generic-coated")
    strip, _ = lay_out(patches.control_strip(4.0), tuple("CMYK"))
    sent = aims.strip_through_profile(strip, aim, icc.loads(made.result.data), corrected=True)
    assert sent.channels == made.channels and sent.ids == strip.ids
    read = replace(strip, measured_lab=made.printed(sent.values()))
    found = check(read, aim, SHIPPED["iso12647-7:2016"], corrected=True)
    assert np.median(found.differences) < 1.0, "what the printer can reach is printed as the aim has it"
    paper = strip.values().max(axis=1) == 0
    assert found.differences[paper].max() < 0.3, "bare paper stays bare"
    predicted = predict(icc.loads(made.result.data), aim, SHIPPED["iso12647-7:2016"], corrected=True)
    off = delta_e_2000(predicted.strip.lab(), read.lab())
    assert off.mean() < 0.8, "what is predicted is what the press prints"
