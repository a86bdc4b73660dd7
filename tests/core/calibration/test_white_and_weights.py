"""White ink, second blacks, three weights of one ink, and which sets of inks a build can serve."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.calibration import white
from greyanchor.core.calibration.inklimit import find_limit
from greyanchor.core.calibration.light_split import (
    LightSplit,
    SecondBlack,
    Split,
    split_channels,
    split_from,
    strengths,
)
from greyanchor.core.calibration.lightinks import find_splits
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import spectra_to_lab, spectra_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.inks import PLANES, check_inks, inks_of, separates
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.core.verification import own_inks

SEVEN = press_by_name("gannet-64/kelp-synthetic-190/basalt-uv-seven")
WEIGHTS = press_by_name("petrel-44/fathom-satin-260/tarn-pigment-three-weights")


@pytest.fixture(scope="module")
def found() -> white.White:
    device, channels = white.white_chart("W", dark=0.8)
    chart, _ = lay_out(device, channels)
    return white.find_white(print_and_read(chart, SEVEN, 4), "W")


def test_white_is_limited_where_it_hides_hardly_more(found: white.White) -> None:
    at, more = found.opacity_at(found.limit), found.opacity_at(min(found.limit + 0.05, 1.0))
    assert at > white.OPAQUE and more - at < white.LEAST_GAIN
    before = found.opacity_at(found.limit - 0.05)
    assert at - before >= white.LEAST_GAIN - 0.05
    assert found.lab[0] > 85 and "hides less" in found.reason


def test_its_curve_makes_opacity_even_on_another_print(found: white.White) -> None:
    curve = found.curve(found.limit)
    tones = np.linspace(0.0, 1.0, 11)
    amounts = np.interp(tones, np.linspace(0.0, 1.0, len(curve)), curve)
    over = replace(SEVEN, white_over=True)
    light = [
        over.spectra(over.as_raw(np.column_stack([np.full(11, k), amounts]), ("K", "W"))) for k in (0.8, 0.0)
    ]
    ratio = spectra_to_xyz(light[0])[:, 1] / spectra_to_xyz(light[1])[:, 1]
    opacity = (ratio - ratio[0]) / (ratio[-1] - ratio[0])
    assert np.abs(opacity - tones).max() < 0.03


def test_white_without_a_backing_is_refused() -> None:
    chart, _ = lay_out(np.column_stack([np.zeros(21), np.linspace(0, 1, 21)]), ("K", "W"))
    with pytest.raises(BadInput, match="over a dark backing and over paper"):
        white.find_white(print_and_read(chart, SEVEN, 4), "W")


def test_a_white_that_hides_less_does_not_hold(found: white.White) -> None:
    names = own_inks.names_of(tuple("CMYKOGV"), "W")
    mine = [n for n in names if n.startswith("W ")]

    def strip(share: float) -> own_inks.OwnResult:
        device = np.array([own_inks.device_of(n, ("K", "W")) for n in mine])
        device *= [0.8, share * found.limit]
        chart, _ = lay_out(device, ("K", "W"))
        readings = replace(print_and_read(chart, SEVEN, 9), names=tuple(mine))
        opacity = float(found.opacity_at(found.limit))
        return own_inks.check_own(readings, np.full(3, 90.0), {}, ("W", opacity, found.lab))

    assert strip(1.0).holds
    thin = strip(0.6)
    assert not thin.holds and "W hides" in thin.failed[0]


def test_names_of_single_inks_say_what_is_printed() -> None:
    names = own_inks.names_of(tuple("CMYKOV"))
    assert names[:5] == ["O 25 % alone", "O 50 % alone", "O 75 % alone", "O 100 % alone", "V 25 % alone"]
    assert own_inks.device_of("V 75 % alone", tuple("CMYKOV")).tolist() == [0, 0, 0, 0, 0, 0.75]
    assert not own_inks.is_own("Orange 021")
    with pytest.raises(BadInput, match="no patch of one ink"):
        own_inks.device_of("G 50 % alone", tuple("CMYK"))


# --- weights of one ink ----------------------------------------------------------------------


@pytest.fixture(scope="module")
def splits() -> list[Split]:
    channels = WEIGHTS.channels
    chart, _ = lay_out(design("ink-limit", channels), channels)
    ramps = find_ramps(print_and_read(chart, WEIGHTS, 6))
    limits = {c: find_limit(r).limit for c, r in ramps.items()}
    return find_splits(ramps, limits, {"LC": "MC", "MC": "C", "LM": "MM", "MM": "M"})


def test_three_weights_go_over_smoothly_and_print_what_the_full_ink_did(splits: list[Split]) -> None:
    steps = np.linspace(0.0, 0.8, 161)
    raw = np.zeros((161, 4))
    raw[:, 0] = steps
    shared = split_channels(raw, tuple("CMYK"), splits)
    order = ["C", "M", "Y", "K", *(s.light for s in splits)]
    full, medium, light = (shared[:, order.index(c)] for c in ("C", "MC", "LC"))
    assert light[10] > 0.1 and medium[10] == full[10] == 0.0, "light tones are the lightest ink alone"
    assert full[-1] > 0.5 and light[-1] < 0.02
    assert np.abs(np.diff(shared, 2, axis=0)).max() < 0.008, "no corner in any of the three"
    columns = [WEIGHTS.channels.index(c) for c in order]
    sent = np.zeros_like(shared)
    sent[:, columns] = shared
    plain = spectra_to_lab(WEIGHTS.spectra(raw))
    assert np.abs(plain - spectra_to_lab(WEIGHTS.spectra(sent)))[:, 0].max() < 1.6


def test_lighter_inks_are_less_grainy_on_the_stand_in(splits: list[Split]) -> None:
    sky = np.tile([0.16, 0.05, 0.0, 0.0], (3000, 1))
    order = [WEIGHTS.channels.index(c) for c in ("C", "M", "Y", "K", *(s.light for s in splits))]
    sent = np.zeros((3000, 8))
    sent[:, order] = split_channels(sky, tuple("CMYK"), splits)
    grain = [float(spectra_to_lab(WEIGHTS.spectra(v, seed=5))[:, 0].std()) for v in (sky, sent)]
    assert grain[1] < 0.6 * grain[0]


def test_strengths_follow_a_chain_of_weights() -> None:
    chain = [LightSplit("C", "MC", 0.5, 0.8, 0.3, 0.62), LightSplit("MC", "LC", 0.4, 0.9, 0.24, 0.52)]
    assert strengths(chain)["MC"] == ("C", 0.5)
    parent, share = strengths(chain)["LC"]
    assert parent == "C" and share == pytest.approx(0.4 * 0.5 / 0.8)
    assert split_from(chain[0].as_dict()) == chain[0]


def test_a_second_black_joins_in_the_dark_and_prints_darker() -> None:
    press = press_by_name("petrel-44/fathom-satin-260/tarn-pigment-two-blacks")
    second = SecondBlack("K", "MK", 0.35, 0.3, 0.5)
    assert split_from(second.as_dict()) == second
    raw = np.zeros((71, 4))
    raw[:, 3] = np.linspace(0.0, 0.35, 71)
    shared = split_channels(raw, tuple("CMYK"), [second])
    assert shared[:36, 4].max() == 0.0 and shared[-1, 4] == pytest.approx(0.3)
    assert np.diff(shared[:, 4]).min() >= 0.0 and np.abs(np.diff(shared[:, 4], 2)).max() < 0.01
    one, two = (spectra_to_lab(press.spectra(v))[-1, 0] for v in (raw, shared))
    assert two < one - 2.0
    with pytest.raises(BadInput, match="joins K at 0 to 90 %"):
        SecondBlack("K", "MK", 0.7, 0.6, 0.95)


def test_a_split_of_an_ink_that_is_not_there_is_refused() -> None:
    with pytest.raises(BadInput, match="LO shares with O, which is not printed here"):
        split_channels(np.zeros((2, 4)), tuple("CMYK"), [LightSplit("O", "LO", 0.4, 0.8, 0.2, 0.5)])


# --- sets of inks ----------------------------------------------------------------------------


@pytest.mark.parametrize("channels", ["K", "CMY", "CMYK", "RGB", "CMYKO", "CMYKOG", "CMYKRGB", "CMYKOGVB"])
def test_sets_from_one_to_eight_inks_are_served(channels: str) -> None:
    assert separates(list(channels)) == ""


@pytest.mark.parametrize(
    ("channels", "light", "facts", "words"),
    [
        ("CMYOG", {}, {}, "K is missing"),
        ("OCMYK", {}, {}, "C, M, Y and K come first"),
        ("CMYKCV", {}, {}, "C is there twice"),
        ("CMYKOGVBR", {}, {}, "1 to 8 inks, not 9"),
        ("CMYK", {"LO": "O"}, {}, "LO belongs to O, which is not among the inks"),
        ("CMYK", {"LC": "C", "PC": "C"}, {}, "both belong to C"),
        ("CMYK", {"MC": "C", "LC": "MC", "PC": "LC"}, {}, "fourth weight"),
        ("RGB", {"LR": "R"}, {}, "takes R G B shares R with LR itself"),
        ("CMYK", {}, {"W": {"role": "glitter"}}, "W cannot be a 'glitter'"),
        ("CMYK", {}, {"C": {"density": 9.0}}, "the density of C, 9, lies outside"),
    ],
)
def test_sets_that_cannot_be_served_are_refused_by_name(
    channels: str, light: dict, facts: dict, words: str
) -> None:
    with pytest.raises(BadInput, match=words):
        check_inks(list(channels), light, facts)


def test_white_and_varnish_are_planes_and_no_part_of_the_separation() -> None:
    inks = inks_of(list("CMYK"), {"LC": "C"}, {"W": {"role": "white"}, "V": {"role": "varnish"}})
    assert [i.channel for i in inks] == ["C", "M", "Y", "K", "LC", "W", "V"]
    assert [(i.channel, i.place) for i in inks if i.role in PLANES] == [("W", "under"), ("V", "over")]
    assert inks[4].words == "light ink of C"
