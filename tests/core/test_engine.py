"""The engine's parts against independent truth: hue space, lights, noise, proposals, refining, rebuilding,
previews.
"""

from __future__ import annotations

import struct
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from greyanchor.core.characterization import storage, trust
from greyanchor.core.characterization.compact import compact
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.characterization.proposals import most_helpful
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour import jzazbz, rgb_spaces
from greyanchor.core.colour.colorimetry import delta_e_2000, lab_to_xyz, spectra_to_lab
from greyanchor.core.colour.illuminants import MeasuredLight, light
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc, light_file
from greyanchor.core.formats.icc_tables import encode_lut16
from greyanchor.core.inspection import inspect_bytes
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling import maps, rebuild, refine, softproof
from greyanchor.core.profiling.attached import examine
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_from_model, build_profile
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.preview import preview
from greyanchor.core.profiling.separation import PRESETS, Separation, preset
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests import lcms
from tests.conftest import CMYK, PrintRoom

DRAFT = TableSizes.draft()


@pytest.fixture(scope="module")
def model(profile_readings: ReadingSet) -> ForwardModel:
    return characterize(profile_readings)


# --- the hue space -----------------------------------------------------------------------------


def _munsell() -> dict[tuple[str, float], list[tuple[float, np.ndarray]]]:
    """Munsell renotation colours under D65 by hue and value: chroma and XYZ."""
    import colour

    observer = "CIE 1931 2 Degree Standard Observer"
    white = {n: colour.xy_to_XYZ(colour.CCS_ILLUMINANTS[observer][n]) for n in ("C", "D65")}
    lines: dict[tuple[str, float], list[tuple[float, np.ndarray]]] = {}
    for (hue, value, chroma), (x, y, big_y) in colour.MUNSELL_COLOURS["Munsell Colours Real"]:
        xyz = colour.xyY_to_XYZ(np.array([x, y, 0.975 * big_y / 100.0]))
        adapted = colour.adaptation.chromatic_adaptation_VonKries(
            xyz, white["C"], white["D65"], transform="CAT16"
        )
        lines.setdefault((hue, value), []).append((chroma, adapted))
    return lines


def _drift(lab_like: np.ndarray) -> np.ndarray:
    """Degrees of hue between the colours of a line, weakest chroma first, and the strongest."""
    hue = np.degrees(np.arctan2(lab_like[:, 2], lab_like[:, 1]))
    return np.abs((hue - hue[-1] + 180.0) % 360.0 - 180.0)


def test_munsell_hues_turn_less_in_the_chosen_space_than_in_cielab_blues_above_all() -> None:
    import colour

    ours: dict[str, list[float]] = {"all": [], "PB": []}
    cielab: dict[str, list[float]] = {"all": [], "PB": []}
    for (hue, value), colours in _munsell().items():
        line = sorted((c, tuple(xyz)) for c, xyz in colours if c >= 2)
        if len(line) < 3 or value < 2:
            continue
        xyz = np.array([x for _, x in line])
        keep = np.array([c for c, _ in line]) >= 4
        for found, values in ((ours, jzazbz.from_xyz(100.0 * xyz)), (cielab, colour.XYZ_to_Lab(xyz))):
            drift = _drift(np.asarray(values))[keep]
            found["all"] += list(drift)
            if hue.endswith("PB"):
                found["PB"] += list(drift)
    assert np.mean(ours["PB"]) < 0.7 * np.mean(cielab["PB"])
    assert np.mean(ours["all"]) < 0.9 * np.mean(cielab["all"])


def test_jzazbz_agrees_with_an_independent_working_and_goes_back() -> None:
    import colour

    rgb = np.random.default_rng(1).random((400, 3))
    xyz = 100.0 * rgb @ colour.RGB_COLOURSPACES["sRGB"].matrix_RGB_to_XYZ.T
    np.testing.assert_allclose(jzazbz.from_xyz(xyz), colour.XYZ_to_Jzazbz(xyz), atol=1e-9)
    np.testing.assert_allclose(jzazbz.to_xyz(jzazbz.from_xyz(xyz)), xyz, atol=1e-6)


@pytest.mark.parametrize("name", rgb_spaces.NAMES)
def test_source_spaces_have_their_standard_primaries(name: str) -> None:
    import colour

    theirs = {"srgb": "sRGB", "oprgb": "Adobe RGB (1998)", "p3": "Display P3", "bt2020": "ITU-R BT.2020"}[
        name
    ]
    space = colour.RGB_COLOURSPACES[theirs]
    wanted = colour.RGB_to_XYZ(
        np.eye(3), space, np.array([0.34567, 0.35850]), chromatic_adaptation_transform="Bradford"
    )
    np.testing.assert_allclose(rgb_spaces.rgb_to_xyz(name).T, wanted, atol=0.002)


def test_blue_keeps_its_hue_when_it_is_clipped_and_compressed(built: ProfileResult) -> None:
    share = np.linspace(0.15, 1.0, 40)[:, None]
    asked = softproof.source_lab((1 - share) * np.array([1.0, 1, 1]) + share * np.array([0.0, 0, 1]))
    profile = icc.loads(built.data)
    for intent in ("relative", "perceptual", "saturation"):
        printed = profile.device_to_lab(profile.lab_to_device(asked, intent), "relative")
        hue = [np.degrees(np.arctan2(v[:, 2], v[:, 1])) for v in map(jzazbz.from_lab, (asked, printed))]
        turned = np.abs((hue[0] - hue[1] + 180.0) % 360.0 - 180.0)
        assert np.percentile(turned, 95) < 6.2, f"{intent} turns blue by {turned.max():.1f} degrees"
        assert turned.max() < 6.5


def test_a_wider_source_is_compressed_more_and_its_ends_are_kept(profile_readings: ReadingSet) -> None:
    green = np.array([[70.0, -60.0, 50.0]])
    chroma = []
    for source in ("srgb", "bt2020"):
        data = build_profile(profile_readings, ProfileSettings(sizes=DRAFT, source=source)).data
        profile = icc.loads(data)
        printed = profile.device_to_lab(profile.lab_to_device(green, "perceptual"), "relative")
        chroma.append(float(np.hypot(*printed[0, 1:])))
        white = profile.lab_to_device(np.array([[100.0, 0.0, 0.0]]), "perceptual")
        assert white.max() < 1e-3
    assert chroma[1] < chroma[0] - 2.0


def test_perceptual_ramps_have_no_plateaus_and_no_jumps(built: ProfileResult) -> None:
    for ramp in softproof.ramps(icc.loads(built.data), "perceptual"):
        assert ramp.flats.sum() == 0, ramp.name
        assert ramp.bands.sum() <= 2, ramp.name


def test_jumps_and_standstills_are_found_where_they_are_put() -> None:
    source = np.column_stack([np.linspace(100, 0, 256), np.zeros(256), np.zeros(256)])
    printed = source.copy()
    printed[100:120] = printed[100]
    printed[180:, 0] -= 3.0
    bands, flats = softproof._faults(source, printed)
    assert flats[101:118].all() and not flats[:98].any()
    assert bands[179] and not bands[:90].any()


def test_black_point_compensation_maps_black_to_the_darkest_print(built: ProfileResult) -> None:
    black = np.array([[0.0, 0.0, 0.0], [20.0, 0.0, 0.0]])
    plain = lcms.lab_to_device(built.data, black, "relative")
    fitted = lcms.lab_to_device(built.data, black, "relative", compensated=True)
    seen = [lcms.device_to_lab(built.data, d, "relative")[:, 0] for d in (plain, fitted)]
    assert abs(seen[0][0] - seen[1][0]) < 2.5, "black itself is about as dark either way"
    assert seen[1][1] > seen[0][1] + 1.5, "what lies above it is lifted with it"


# --- characterization --------------------------------------------------------------------------


def test_noise_is_learned_from_repeats_and_from_double_readings(room: PrintRoom) -> None:
    device = np.repeat(np.random.default_rng(2).random((40, 4)) * 0.6, 6, axis=0)
    lab = np.repeat(np.random.default_rng(3).uniform(20, 80, (40, 3)), 6, axis=0)
    noisy = lab + np.random.default_rng(4).normal(0.0, 0.4, lab.shape)
    ids = tuple(str(i) for i in range(len(lab)))
    readings = ReadingSet(ids=ids, channels=CMYK, device=device, measured_lab=noisy)
    assert trust.repeat_spread(readings) == pytest.approx(0.4, rel=0.12)
    twice = [
        replace(readings, measured_lab=lab + np.random.default_rng(s).normal(0.0, 0.4, lab.shape))
        for s in (5, 6)
    ]
    assert trust.double_spread(twice) == pytest.approx(0.4 / np.sqrt(2), rel=0.12)
    assert trust.double_spread(twice[:1]) == 0.0


def test_known_noise_keeps_a_model_from_learning_it(room: PrintRoom, profile_readings: ReadingSet) -> None:
    readings = replace(profile_readings, spectra=None, measured_lab=profile_readings.lab())
    noisy = replace(
        readings, measured_lab=readings.lab() + np.random.default_rng(8).normal(0.0, 1.0, (len(readings), 3))
    )
    found = characterize(noisy, noise=1.0)
    assert found.remainder is not None
    fit = delta_e_2000(found.lab(noisy.inks()), noisy.lab()).mean()
    unseen = np.random.default_rng(5).random((800, 4)) * 0.7
    truth = delta_e_2000(found.lab(unseen), room.truth(unseen)).mean()
    assert truth < 0.75 * fit, "it is nearer to the press than to its own noisy readings"


def test_a_kept_model_says_the_same(model: ForwardModel) -> None:
    device = np.random.default_rng(4).random((50, 4))
    again = storage.from_bytes(storage.to_bytes(replace(model, corrections=(model.remainder,))))
    np.testing.assert_allclose(
        again.lab(device), replace(model, corrections=(model.remainder,)).lab(device), atol=1e-9
    )
    assert again.held_out == model.held_out and again.channels == CMYK
    with pytest.raises(BadInput, match="damaged"):
        storage.from_bytes(b"PK" + bytes(40))


def test_the_patches_that_help_most_help_more_than_as_many_others(room: PrintRoom) -> None:
    thin = patches.profile_patches(160, 3.0)
    thin = thin[
        (thin[:, 0] < 0.5)
        | (thin[:, 3] < 0.05)
        | (thin.sum(axis=1) < 0.02)
        | (thin[:, 1:].max(axis=1) < 0.01)
    ]
    readings = room.read(thin)
    found = characterize(readings)
    asked, unsure = most_helpful(found, 40, 3.0)
    assert (np.diff(unsure) < 1e-6).mean() > 0.6 and asked.sum(axis=1).max() <= 3.0 + 1e-6
    unseen = np.random.default_rng(9).random((3000, 4))
    unseen = unseen[(unseen.sum(axis=1) < 2.8) & (unseen[:, 0] > 0.5) & (unseen[:, 3] > 0.05)]

    def error(more: np.ndarray) -> float:
        wider = characterize(room.read(np.vstack([thin, more]), seed=6))
        return float(delta_e_2000(wider.lab(unseen), room.truth(unseen)).mean())

    others = np.random.default_rng(1).permutation(thin)[:40] * 0.97
    assert error(asked) < 0.8 * error(others)
    with pytest.raises(BadInput, match="0 patches cannot be proposed"):
        most_helpful(found, 0, 3.0)


# --- lights ------------------------------------------------------------------------------------


def test_a_measured_light_that_is_d50_gives_d50_colours(
    room: PrintRoom, profile_readings: ReadingSet
) -> None:
    nm = np.arange(360, 781, 5)
    same = MeasuredLight.of("table", nm, light("D50")[::5])
    np.testing.assert_allclose(
        characterize(profile_readings, same).lab(np.eye(4)),
        characterize(profile_readings).lab(np.eye(4)),
        atol=0.15,
    )


def test_a_profile_for_another_light_is_right_under_it(room: PrintRoom, profile_readings: ReadingSet) -> None:
    import colour

    device = np.array([[0.6, 0.2, 0.7, 0.0], [0.1, 0.7, 0.4, 0.1], [0.3, 0.3, 0.3, 0.3]])
    spectra = room.press.spectra(room.curves.apply(device))
    for name in ("A", "FL11"):
        power = colour.SDS_ILLUMINANTS[name].copy().align(colour.SpectralShape(380, 730, 5)).values
        cmfs = (
            colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"]
            .copy()
            .align(colour.SpectralShape(380, 730, 5))
        )
        fine = np.array([np.interp(np.arange(380, 731, 5), np.arange(380, 731, 10), s) for s in spectra])
        k = 100.0 / (power @ cmfs.values[:, 1])
        xyz, white = k * (fine * power) @ cmfs.values, k * power @ cmfs.values
        adapted = colour.adaptation.chromatic_adaptation_VonKries(
            xyz, white, np.array([96.422, 100.0, 82.521]), transform="Bradford"
        )
        wanted = colour.XYZ_to_Lab(adapted / 100.0, colour.XYZ_to_xy(np.array([0.96422, 1.0, 0.82521])))
        ours = characterize(profile_readings, "A" if name == "A" else "F11").lab(device)
        assert delta_e_2000(ours, wanted).max() < 1.0, name


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("nm,W\n380,0\n" + "".join(f"{nm},0\n" for nm in range(390, 740, 10)), "no energy"),
        ("380 1\n400 2\n", "at least eight"),
        ("".join(f"{nm};1\n" for nm in range(500, 740, 10)), "400 to 700 nm"),
        ("".join(f"{nm}\t1\n" for nm in range(730, 370, -10)), "do not rise"),
        ("".join(f"{nm} {-1 if nm == 500 else 5}\n" for nm in range(380, 740, 10)), "below zero at 500"),
        ("".join(f"{nm} {9 if nm == 380 else 0}\n" for nm in range(380, 740, 10)), "dark over most"),
        ("380 1\n390 2\nfoo bar\n", "line 3: 'foo bar' is not a wavelength"),
        ("", "file is empty"),
        ("nm,W\n", "no wavelengths"),
    ],
)
def test_a_light_that_is_none_is_refused(text: str, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        light_file.loads(text.encode(), "room.csv")


def test_a_light_is_read_with_decimal_commas_and_headings() -> None:
    text = "wavelength;power\n" + "".join(
        f"{nm};{nm / 100:.2f}".replace(".", ",") + "\n" for nm in range(380, 740, 10)
    )
    found = light_file.loads(text.encode(), "Hall table.csv")
    assert found.name == "Hall table"
    assert found.power[200] / found.power[100] == pytest.approx(560 / 460, rel=1e-3)


# --- separation --------------------------------------------------------------------------------


def test_presets_do_what_they_are_called(model: ForwardModel) -> None:
    quick = compact(model, 4.0)
    seen = {p.name: preview(model, p.apply(Separation()), quick) for p in PRESETS}
    assert seen["thrift"].neutral_mean < 0.85 * seen["even"].neutral_mean
    black_start = {n: float(np.argmax(s.paths[0].inks[:, 3] > 0.02)) for n, s in seen.items()}
    assert black_start["fog"] > black_start["even"] > black_start["thrift"]
    # a cyan that drifts by 5 % tints the grey least where black carries it
    tint = {}
    for name, found in seen.items():
        inks = found.paths[0].inks[8:40]
        moved = model.lab(np.clip(inks * [1.05, 1, 1, 1], 0, 1)) - model.lab(inks)
        tint[name] = float(np.hypot(moved[:, 1], moved[:, 2]).mean())
    assert tint["keel"] == min(tint.values()) and tint["keel"] < 0.75 * tint["fog"]
    with pytest.raises(BadInput, match="no separation preset called 'rich'"):
        preset("rich")


def test_a_preview_prints_what_it_asks_for_and_is_smooth(model: ForwardModel) -> None:
    seen = preview(model, Separation(), compact(model, 4.0))
    assert [p.name for p in seen.paths] == ["neutral", "skin", "deep blue", "dark red"]
    for path in seen.paths:
        inside = path.lab[:, 0] > seen.darkest + 3.0
        assert delta_e_2000(path.printed, path.lab)[inside].mean() < 0.4, path.name
        assert path.roughness < 4.0
    assert seen.largest_total <= 3.0


def test_in_gamut_colours_are_met_whatever_black_is_asked_for(model: ForwardModel) -> None:
    device = np.random.default_rng(12).random((400, 4))
    device = device[device.sum(axis=1) < 2.6]
    aim = model.lab(device)
    for separation in (
        Separation(black_start=0.0, black_strength=1.0),
        Separation(black_start=0.6, black_strength=0.0),
    ):
        solved = Inverter(model, separation).solve(aim)
        error = delta_e_2000(model.lab(solved.device), aim)
        assert error.mean() < 0.08 and np.percentile(error, 95) < 0.3


# --- rebuilding, refining ----------------------------------------------------------------------


def test_a_profile_is_rebuilt_from_itself(built: ProfileResult) -> None:
    old = icc.loads(built.data)
    readings, source = rebuild.characterization_of(old)
    assert "inside the profile" in source and len(readings) == 500
    separation, told_light = rebuild.settings_inside(readings)
    assert separation == Separation(total_ink=3.0) and told_light == "D50"
    again = icc.loads(
        build_profile(readings, ProfileSettings(separation, sizes=TableSizes(13, 13, 25, 17, 13))).data
    )
    device = np.random.default_rng(1).random((500, 4))
    assert delta_e_2000(old.device_to_lab(device), again.device_to_lab(device)).max() < 0.05
    lab = old.device_to_lab(device[device.sum(axis=1) < 2.8])
    assert np.abs(old.lab_to_device(lab) - again.lab_to_device(lab)).mean() < 0.002


def test_a_profile_without_data_is_rebuilt_from_its_table(built: ProfileResult) -> None:
    old = icc.loads(built.data)
    bare = replace(old, tags={k: v for k, v in old.tags.items() if k != "targ"})
    readings, source = rebuild.characterization_of(bare)
    assert "read off the profile's own table" in source
    again = characterize(readings)
    device = np.random.default_rng(1).random((400, 4)) * 0.8
    assert delta_e_2000(old.device_to_lab(device), again.lab(device)).mean() < 0.3


def test_a_measured_light_travels_inside_the_profile(profile_readings: ReadingSet) -> None:
    table = MeasuredLight.of("Ada's table", np.arange(380, 731, 10), np.linspace(20, 90, 36))
    kept = rebuild.with_settings(profile_readings, Separation(limits=(("C", 0.9),)), table)
    from greyanchor.core.formats import cgats

    separation, found = rebuild.settings_inside(cgats.loads(cgats.dumps(kept).encode()))
    assert separation.limits == (("C", 0.9),)
    np.testing.assert_allclose(found.power, table.power, atol=1e-3)
    damaged = replace(kept, meta={rebuild.SETTINGS: "{'separation': 7"})
    with pytest.raises(BadInput, match="settings inside the profile are damaged"):
        rebuild.settings_inside(damaged)


def test_each_round_of_refining_helps_until_noise_is_reached(
    room: PrintRoom, profile_readings: ReadingSet
) -> None:
    """The machine has drifted; truth is what it prints today, which no builder sees."""
    wanted = ProfileSettings(Separation(), sizes=TableSizes(9, 9, 25, 9, 5))
    result = build_profile(profile_readings, wanted)
    state = Condition(drift=(("C", 1.06), ("M", 0.96)))
    today = room.press.sheet(1, drift_by=state.volumes())

    def truth(device: np.ndarray) -> np.ndarray:
        return spectra_to_lab(
            room.press.spectra(room.curves.apply(device), replace(today, slope=0 * today.slope))
        )

    unseen = np.random.default_rng(9).random((1200, 4))
    aim = truth(unseen[unseen.sum(axis=1) < 2.6])
    base, data, prints, off, rounds = result.model, result.data, [], [], []
    for number in range(3):
        profile = icc.loads(data)
        off.append(float(delta_e_2000(truth(profile.lab_to_device(aim)), aim).mean()))
        chart, _ = lay_out(refine.chart(profile, seed=number), CMYK, shuffle_seed=3)
        prints.append(print_and_read(chart, room.press, 40 + number, pipeline=room.curves.apply, state=state))
        corrected, found = refine.learn(base, profile, prints)
        rounds.append(found)
        data = build_from_model(corrected, profile_readings, wanted).data
    assert off[0] > 1.0 and off[1] < 0.4 * off[0] and off[2] < off[1] + 0.03
    assert rounds[0].helps and rounds[0].expected.mean == pytest.approx(rounds[1].off.mean, rel=0.4)
    assert rounds[-1].off.mean < 2.2 * rounds[-1].noise


def test_refining_refuses_another_print(model: ForwardModel, built: ProfileResult, room: PrintRoom) -> None:
    profile = icc.loads(built.data)
    chart, _ = lay_out(refine.chart(profile, 100), CMYK)
    raw = print_and_read(chart, room.press, 9)
    with pytest.raises(BadInput, match="another mode or paper"):
        refine.learn(model, profile, [replace(raw, measured_lab=raw.lab() + [20.0, 5, 5], spectra=None)])
    with pytest.raises(BadInput, match="at least 40"):
        refine.learn(model, profile, [raw.select(np.arange(20))])
    with pytest.raises(BadInput, match="ask for 40 to 3000"):
        refine.chart(profile, 10)


def test_what_is_left_at_the_noise_is_called_so() -> None:
    from greyanchor.core.characterization.model import FitReport

    near, far = FitReport(0.21, 0.4, 0.6), FitReport(0.9, 2.0, 3.0)
    assert refine.Round(200, near, near, 0.2).at_noise and not refine.Round(200, near, near, 0.2).helps
    assert refine.Round(200, far, near, 0.2).helps and not refine.Round(200, far, far, 0.2).helps


# --- looking -----------------------------------------------------------------------------------


def test_the_fit_map_finds_a_spoiled_patch(built: ProfileResult, profile_readings: ReadingSet) -> None:
    read = profile_readings.lab().copy()
    read[77] += [6.0, 0.0, 0.0]
    found = maps.fit_map(icc.loads(built.data), profile_readings, read)
    assert found.worst(3)[0] == 77 and found.differences[77] > 3.0
    assert np.delete(found.differences, 77).mean() < 0.4


def test_round_trip_planes_know_what_cannot_be_printed(built: ProfileResult) -> None:
    axis, errors = maps.round_trip_plane(icc.loads(built.data), 50.0)
    middle = len(axis) // 2
    assert errors[middle, middle] < 0.3 and np.isnan(errors[0, 0])
    assert 0.05 < np.isfinite(errors).mean() < 0.7


# --- the file ----------------------------------------------------------------------------------


def test_reading_and_writing_again_changes_no_byte(built: ProfileResult) -> None:
    profile = icc.loads(built.data)
    assert icc.dumps(profile) == built.data
    for name in ("A2B0", "A2B1", "A2B2", "B2A0", "B2A1", "B2A2", "gamt"):
        lut, _ = profile.lut(name)
        assert encode_lut16(lut) == profile.tags[name], name


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_damaged_profiles_are_refused_or_read(built: ProfileResult, data: st.DataObject) -> None:
    raw = bytearray(built.data[: data.draw(st.sampled_from([132, 4000, 200_000, len(built.data)]))])
    for _ in range(data.draw(st.integers(1, 6))):
        place = data.draw(st.one_of(st.integers(0, 600), st.integers(0, len(raw) - 5)))
        if place < len(raw) - 4:
            raw[place : place + 4] = struct.pack(
                ">I", data.draw(st.sampled_from([0, 1, 255, 2**16, 2**31, 2**32 - 1]))
            )
    for look in (lambda: inspect_bytes(bytes(raw), "x.icc"), lambda: examine(bytes(raw), "x.icc", 3.0)):
        try:
            look()
        except BadInput as error:
            assert str(error)


@pytest.mark.parametrize("channels", [9, 15, 255])
def test_a_table_of_more_channels_than_a_printer_has_is_refused(channels: int) -> None:
    body = (
        struct.pack(">4s4xBBBx", b"mft2", channels, 3, 2)
        + bytes(9 * 4)
        + struct.pack(">HH", 2, 2)
        + bytes(200_000)
    )
    with pytest.raises(BadInput, match="no printer has these"):
        icc.decode_lut(body, "A2B0")


def test_a_curve_that_claims_four_billion_points_is_refused() -> None:
    head = struct.pack(">4s4xBB2x5I", b"mAB ", 1, 3, 32, 0, 0, 200, 120)
    curve = struct.pack(">4s4xI", b"curv", 2**32 - 1)
    body = (
        head
        + curve.ljust(88, b"\0")
        + curve.ljust(80, b"\0")
        + bytes([2] * 16)
        + bytes([2, 0, 0, 0])
        + bytes(64)
    )
    with pytest.raises(BadInput, match="points"):
        icc.decode_lut(body, "A2B0")


def test_lab_and_xyz_alone_carry_a_profile_too(room: PrintRoom, profile_readings: ReadingSet) -> None:
    unseen = np.random.default_rng(21).random((900, 4))
    unseen = unseen[unseen.sum(axis=1) < 2.7]
    truth = room.truth(unseen)
    lab_only = replace(profile_readings, spectra=None, measured_lab=profile_readings.lab())
    xyz_only = replace(profile_readings, spectra=None, measured_xyz=lab_to_xyz(profile_readings.lab()))
    for readings in (lab_only, xyz_only):
        assert delta_e_2000(characterize(readings).lab(unseen), truth).mean() < 0.35
