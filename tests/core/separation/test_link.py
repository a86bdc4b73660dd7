"""Device links held to lcms2, a colour engine that somebody else wrote."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.light_split import LightSplit
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.profiling.build import ProfileSettings, build_profile
from greyanchor.core.separation.conversion import Conversion
from greyanchor.core.separation.default_sources import default_source
from greyanchor.core.separation.folding import Folding
from greyanchor.core.separation.link import (
    INTENTS,
    DeviceLink,
    LinkSettings,
    ModeInks,
    Nudge,
    limit_total,
)
from greyanchor.core.separation.profiles import ProfileColour
from tests import lcms
from tests.conftest import make_room
from tests.core.separation.conftest import hostile
from tests.core.test_engine_kinds import seven

#: the contract, percent of full scale: at most, and in the mean
MOST, MEAN = 0.4, 0.05


def off(got: np.ndarray, asked: np.ndarray) -> tuple[float, float]:
    """Largest and mean difference of 16-bit amounts, percent of full scale."""
    found = np.abs(got.astype(float) - asked.astype(float)) / 655.35
    return float(found.max()), float(found.mean())


@pytest.fixture(scope="module")
def version_2(profile_readings) -> bytes:
    return build_profile(profile_readings, ProfileSettings(version=2)).data


@pytest.mark.parametrize("intent", INTENTS)
@pytest.mark.parametrize("compensated", [True, False])
def test_rgb_is_printed_as_a_colour_engine_prints_it(printer_profile, mode, intent, compensated) -> None:
    pixels = hostile(3)
    link = DeviceLink(default_source("rgb"), mode, LinkSettings(intent, compensated))
    asked = lcms.Link(None, printer_profile, (3, 4), intent, compensated)(pixels)
    largest, mean = off(Conversion(link).convert(pixels), asked)
    assert largest <= MOST and mean <= MEAN


@pytest.mark.parametrize("intent", ["perceptual", "relative"])
def test_version_2_has_its_own_black(version_2, intent) -> None:
    pixels = hostile(3)
    link = DeviceLink(default_source("rgb"), ModeInks(icc.loads(version_2)), LinkSettings(intent))
    asked = lcms.Link(None, version_2, (3, 4), intent, True)(pixels)
    largest, mean = off(Conversion(link).convert(pixels), asked)
    assert largest <= MOST and mean <= MEAN


@pytest.mark.parametrize("intent", ["relative", "perceptual", "absolute"])
def test_cmyk_to_cmyk_is_printed_as_a_colour_engine_prints_it(
    version_2, printer_profile, mode, intent
) -> None:
    pixels = hostile(4)
    link = DeviceLink(ProfileColour(icc.loads(version_2)), mode, LinkSettings(intent))
    asked = lcms.Link(version_2, printer_profile, (4, 4), intent, True)(pixels)
    largest, mean = off(Conversion(link).convert(pixels), asked)
    assert largest <= MOST and mean <= MEAN


def test_eight_bits_come_out_as_the_same_colours_of_sixteen(mode) -> None:
    pixels = (hostile(3) >> 8).astype(np.uint8)
    made = Conversion(DeviceLink(default_source("rgb"), mode))
    largest, _ = off(made.convert(pixels), made.convert(pixels.astype(np.uint16) * 257))
    assert largest <= MOST


def test_curves_limits_and_light_inks_follow_the_profile(printer_profile, curves: CurveSet) -> None:
    split = LightSplit("C", "LC", reach=0.40, limit=0.75, start=0.20, end=0.55)
    mode = ModeInks(icc.loads(printer_profile), curves, (split,), total=2.6)
    pixels = hostile(3)
    got = Conversion(DeviceLink(default_source("rgb"), mode)).convert(pixels)
    device = lcms.Link(None, printer_profile, (3, 4))(pixels) / 65535.0
    raw = curves.apply(limit_total(device, tuple("CMYK"), 2.6))
    light, full = split.apply(raw[:, 0])
    asked = np.column_stack([full, raw[:, 1:], light]) * 65535.0
    assert mode.inks == ("C", "M", "Y", "K", "LC")
    largest, mean = off(got, asked)
    assert largest <= 2 * MOST and mean <= MEAN  # the light ink's limit and reach stretch it twofold
    for i, limit in enumerate(curves.limits.values()):
        assert got[:, i].max() <= round(limit * 65535) + 1


def test_a_total_is_kept_by_what_a_nudge_adds(printer_profile) -> None:
    nudge = Nudge(inks={"C": 0.2, "M": 0.2, "Y": 0.2})
    mode = ModeInks(icc.loads(printer_profile), total=2.4)
    link = DeviceLink(default_source("rgb"), mode, LinkSettings(nudge=nudge))
    got = Conversion(link).convert(hostile(3)) / 65535.0
    assert got.sum(axis=1).max() <= 2.4 + 1e-3
    assert np.abs(got - link.exact(hostile(3) / 65535.0)).max() <= MOST / 100.0


def test_black_stays_when_a_sum_is_too_large() -> None:
    limited = limit_total(np.array([[0.9, 0.8, 0.7, 0.6], [0.1, 0.1, 0.1, 0.1]]), tuple("CMYK"), 2.0)
    assert limited[0, 3] == 0.6 and limited[0].sum() == pytest.approx(2.0)
    assert np.allclose(limited[0, :3] / np.array([0.9, 0.8, 0.7]), 1.4 / 2.4)
    assert (limited[1] == 0.1).all()


def test_seven_inks_are_printed_as_a_colour_engine_prints_them() -> None:
    data = seven().result.data
    pixels = hostile(3)
    got = Conversion(DeviceLink(default_source("rgb"), ModeInks(icc.loads(data)))).convert(pixels)
    largest, mean = off(got, lcms.Link(None, data, (3, 7))(pixels))
    assert largest <= MOST and mean <= MEAN


def test_grey_goes_through_the_same_chain(mode) -> None:
    steps = np.linspace(0, 255, 256).astype(np.uint8)[:, None]
    grey = Conversion(DeviceLink(default_source("grey"), mode)).convert(steps)
    as_rgb = Conversion(DeviceLink(default_source("rgb"), mode)).convert(steps.repeat(3, axis=1))
    assert off(grey, as_rgb)[0] <= MOST
    assert (grey[-1] == 0).all(), "white is paper"


def test_white_prints_no_ink_and_black_no_more_than_the_total(mode) -> None:
    ends = np.array([[255, 255, 255], [0, 0, 0]], dtype=np.uint8)
    for intent in ("perceptual", "relative", "saturation"):
        got = Conversion(DeviceLink(default_source("rgb"), mode, LinkSettings(intent))).convert(ends)
        assert (got[0] == 0).all() and got[1, 3] > 40000


def test_black_ink_and_pure_inks_are_kept_where_asked(printer_profile, mode) -> None:
    source = ProfileColour(icc.loads(printer_profile))
    t = np.linspace(0, 65535, 64).astype(np.uint16)
    ramps = np.zeros((4, 64, 4), dtype=np.uint16)
    for i in range(4):
        ramps[i, :, i] = t
    plain = Conversion(DeviceLink(source, mode)).convert(ramps)
    kept = Conversion(DeviceLink(source, mode, LinkSettings(keep_black=True, keep_pure=True))).convert(ramps)
    for i in range(4):
        others = [j for j in range(4) if j != i]
        assert kept[i][:, others].max() == 0, "nothing but that ink"
        assert (np.diff(kept[i][:, i].astype(int)) >= 0).all() and kept[i][0, i] == 0
    assert plain[3][:, :3].max() > 0, "which the plain conversion does not do"
    # an own ramp comes back as itself
    assert np.abs(kept[0][:, 0].astype(int) - t.astype(int)).max() < 0.02 * 65535


def test_pure_black_of_rgb_is_black_ink_where_asked(mode) -> None:
    settings = LinkSettings(keep_black=True)
    pixels = np.array([[0, 0, 0], [1, 0, 0]], dtype=np.uint8)
    got = Conversion(DeviceLink(default_source("rgb"), mode, settings)).convert(pixels)
    assert got[0].tolist() == [0, 0, 0, 65535] and got[1, :3].min() > 0
    grey = Conversion(DeviceLink(default_source("grey"), mode, settings)).convert(pixels[:, :1])
    assert grey[0].tolist() == [0, 0, 0, 65535]


def test_a_job_is_printed_as_on_another_press(printer_profile, mode) -> None:
    """As on the press that the mode is of: what that prints, and nothing more happens to it."""
    press = icc.loads(printer_profile)
    link = DeviceLink(default_source("rgb"), mode, LinkSettings(press=press))
    pixels = hostile(3)[:4000]
    through = Conversion(link).convert(pixels) / 65535.0
    assert np.abs(through - link.exact(pixels / 65535.0)).mean() <= 0.002
    device = lcms.Link(None, printer_profile, (3, 4))(pixels)
    asked = lcms.device_to_lab(printer_profile, device / 65535.0, "relative")
    got = lcms.device_to_lab(printer_profile, through, "relative")
    assert np.abs(got - asked).mean() < 0.6
    with_paper = DeviceLink(default_source("rgb"), mode, LinkSettings(press=press, press_paper=True))
    white = np.full((1, 3), 255, dtype=np.uint8)
    assert Conversion(with_paper).convert(white).max() <= 400, "its own paper costs no ink"


def test_a_nudge_moves_the_middle_and_holds_the_ends(mode) -> None:
    greys = np.array([[255] * 3, [128] * 3, [0] * 3], dtype=np.uint8)
    plain = DeviceLink(default_source("rgb"), mode)
    lighter = DeviceLink(default_source("rgb"), mode, LinkSettings(nudge=Nudge(lightness=8.0)))
    before, after = (
        plain.asked_lab(greys / 255.0),
        lighter.settings.nudge.of_lab(plain.asked_lab(greys / 255.0)),
    )
    assert after[1, 0] - before[1, 0] == pytest.approx(8.0, abs=0.3)
    assert np.abs(after[[0, 2], 0] - before[[0, 2], 0]).max() < 0.05 * 8.0 + 2.0
    ramp = np.zeros((101, 3))
    ramp[:, 0] = np.linspace(0, 100, 101)
    for nudge in (Nudge(20.0), Nudge(-20.0), Nudge(contrast=60.0), Nudge(contrast=-60.0)):
        assert (np.diff(nudge.of_lab(ramp)[:, 0]) > 0).all(), "no tone scale turns round"
    assert (Conversion(lighter).convert(greys)[1] < Conversion(plain).convert(greys)[1]).any()


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: Nudge(lightness=50.0), "lightness"),
        (lambda: Nudge(inks={"C": 0.5}), "ink C"),
        (lambda: LinkSettings("vivid"), "rendering intent"),
        (lambda: Nudge(inks={"X": 0.1}).of_inks(np.zeros((1, 4)), "CMYK"), "ink X"),
    ],
)
def test_what_cannot_be_is_refused(make, says) -> None:
    with pytest.raises(BadInput, match=says):
        make()


def test_curves_of_other_inks_and_pictures_of_other_channels_are_refused(printer_profile, mode) -> None:
    with pytest.raises(BadInput, match="curves are of"):
        ModeInks(icc.loads(printer_profile), CurveSet.straight({"C": 0.9, "M": 0.9}))
    made = Conversion(DeviceLink(default_source("rgb"), mode))
    with pytest.raises(BadInput, match="go in"):
        made.convert(np.zeros((4, 4), dtype=np.uint8))
    with pytest.raises(BadInput, match="go in"):
        made.convert(np.zeros((4, 3), dtype=np.float32))


def test_a_profile_without_tables_is_no_printer(mode) -> None:
    rgb = default_source("rgb").profile
    with pytest.raises(BadInput, match="no table from colour to inks"):
        DeviceLink(default_source("rgb"), ModeInks(rgb)).exact(np.zeros((1, 3)))
    broken = replace(mode.profile, tags={**mode.profile.tags, "B2A1": b"mft2" + b"\0" * 40})
    with pytest.raises(BadInput, match="damaged"):
        DeviceLink(default_source("rgb"), ModeInks(broken)).exact(np.zeros((1, 3)))


def test_cells_that_bend_get_a_table_once_they_are_used(mode) -> None:
    link = DeviceLink(default_source("rgb"), mode)
    made = Conversion(link)
    pixels = np.full((3000, 3), 250, dtype=np.uint8)
    pixels[:, 1] = np.random.default_rng(1).integers(0, 255, 3000)
    first = made.convert(pixels)
    for _ in range(12):
        again = made.convert(pixels)
    fold = made._fold
    assert isinstance(fold, Folding) and 0.0 < fold.bent < 0.6 and fold._filled > 0
    asked = link.exact(pixels / 255.0) * 65535
    assert off(first, asked)[0] <= MOST and off(again, asked)[0] <= MOST


def test_cold_and_bright_rooms_read_alike() -> None:
    """Another stand-in's profile, on uncoated paper, whose shadows bend early."""
    from greyanchor.core.charts import patches

    room = make_room("petrel-44/thrift-bond-90")
    data = build_profile(room.read(patches.profile_patches(400, 3.0)), ProfileSettings()).data
    pixels = hostile(3)
    link = DeviceLink(default_source("rgb"), ModeInks(icc.loads(data)))
    largest, mean = off(Conversion(link).convert(pixels), lcms.Link(None, data, (3, 4))(pixels))
    assert largest <= MOST and mean <= MEAN
