"""What a viewing light is worth, against colour-science and by what must hold."""

from __future__ import annotations

import json
import warnings
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from greyanchor.cli import main
from greyanchor.core.colour.lighting import (
    NM,
    LightSpectrum,
    colour_temperature,
    daylight_from_300,
    daylight_seen,
    illuminance,
    planckian,
    uv_1976,
)
from greyanchor.core.colour.metamers import class_of, ultraviolet_index, visible_index
from greyanchor.core.colour.rendering_index import fidelity, special_indices
from greyanchor.core.colour.viewing import CONDITIONS, Condition, in_words, judge
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import light_file

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    import colour
    from colour.quality import colour_fidelity_index_ANSIIESTM3018

_SHAPE = colour.SpectralShape(380, 780, 1)
#: black body, daylight, every sort of lamp
LAMPS = (
    *("A", "D50", "D65", "D75", "ID50", "FL2", "FL4", "FL7", "FL8", "FL10", "FL11", "FL3.5", "FL3.14"),
    *("HP1", "HP4", "LED-B1", "LED-B4", "LED-RGB1", "LED-V2", "LED-BH1"),
)


def lamp(name: str) -> LightSpectrum:
    known = colour.SDS_ILLUMINANTS[name]
    return LightSpectrum.of(name, known.wavelengths, known.values)


@pytest.mark.parametrize("name", LAMPS)
def test_twenty_lights_are_judged_as_colour_science_does(name: str) -> None:
    light = lamp(name)
    same = colour.SpectralDistribution(light.seen, _SHAPE.wavelengths)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        uv = colour.UCS_to_uv(colour.XYZ_to_UCS(colour.sd_to_XYZ(same)))
        kelvin, distance = colour.temperature.uv_to_CCT_Ohno2013(uv)
        cri = colour.colour_rendering_index(same, additional_data=True)
        tm30 = colour_fidelity_index_ANSIIESTM3018(same, additional_data=True)
    here = colour_temperature(light.seen)
    assert here[0] == pytest.approx(kelvin, rel=0.002)
    assert here[1] == pytest.approx(distance, abs=0.0001)
    special = special_indices(light.seen)
    assert special[:8].mean() == pytest.approx(cri.Q_a, abs=0.1)
    assert special[8] == pytest.approx(cri.Q_as[9].Q_a, abs=0.3)
    found = fidelity(light.seen)
    assert found.rf == pytest.approx(tm30.R_f, abs=0.1)
    assert found.rg == pytest.approx(tm30.R_g, abs=0.1)


def test_the_ten_degree_chromaticity_is_that_of_colour_science() -> None:
    observer = colour.MSDS_CMFS["CIE 1964 10 Degree Standard Observer"]
    for name in ("D50", "FL8", "LED-B4"):
        light = lamp(name)
        xyz = colour.sd_to_XYZ(colour.SpectralDistribution(light.seen, _SHAPE.wavelengths), observer)
        assert uv_1976(light.seen) == pytest.approx(_uv(xyz), abs=1e-4)


def _uv(xyz: np.ndarray) -> np.ndarray:
    x, y, z = xyz
    return np.array([4 * x, 9 * y]) / (x + 15 * y + 3 * z)


@pytest.mark.parametrize("kelvin", [1500.0, 2856.0, 5000.0, 9000.0, 20000.0])
def test_a_black_body_has_its_own_temperature(kelvin: float) -> None:
    found, distance = colour_temperature(planckian(kelvin))
    assert found == pytest.approx(kelvin, rel=1e-4)
    assert abs(distance) < 1e-6


def test_illuminance_is_the_published_sum_and_needs_a_scale() -> None:
    known = colour.SDS_ILLUMINANTS["D50"]
    light = LightSpectrum.of("booth", known.wavelengths, 0.01 * known.values, is_absolute=True)
    y = colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"].copy().align(_SHAPE).values[:, 1]
    assert illuminance(light) == pytest.approx(683 * float(y @ light.seen), rel=1e-4)
    assert illuminance(lamp("D50")) is None


def test_pairs_match_in_daylight_and_part_elsewhere() -> None:
    assert visible_index(daylight_seen(5003.0)) < 1e-9
    found = {n: visible_index(lamp(n).seen) for n in ("FL8", "FL7", "FL2", "FL11")}
    assert sorted(found, key=lambda n: found[n]) == ["FL8", "FL7", "FL2", "FL11"]
    assert class_of(0.25) == "A"
    assert class_of(0.7) == "C"
    assert class_of(3.0) == "E"


def test_ultraviolet_is_judged_where_it_was_measured() -> None:
    day = daylight_from_300(5003.0)
    assert ultraviolet_index(LightSpectrum.of("sky", NM, day)) == pytest.approx(0.0, abs=0.01)
    behind_glass = np.where(NM < 400, 0.1 * day, day)
    assert ultraviolet_index(LightSpectrum.of("glass", NM, behind_glass)) > 2.0
    blind = LightSpectrum.of("blind", NM[80:], day[80:])
    assert ultraviolet_index(blind) is None
    verdicts = {c.id: c.verdict for c in judge(blind, CONDITIONS["P1"]).criteria}
    assert verdicts["mi_uv"] == "not tested"


def booth(kelvin: float = 5003.0, lux: float = 2000.0) -> LightSpectrum:
    day = daylight_from_300(kelvin)
    light = LightSpectrum.of("booth", NM, day, is_absolute=True)
    return LightSpectrum.of("booth", NM, day * lux / (illuminance(light) or 1.0), is_absolute=True)


def test_a_booth_passes_or_says_what_it_fails_by() -> None:
    good = judge(booth(), CONDITIONS["P1"], [1700.0, 1800.0, 1650.0])
    assert good.verdict == "pass"
    assert {c.id: c.verdict for c in good.criteria}["evenness"] == "pass"
    assert in_words(good) == ""
    blue = judge(booth(6100.0), CONDITIONS["P1"])
    assert blue.verdict == "fail"
    assert "6101 K is cooler than D50" in in_words(blue)
    dim = judge(booth(lux=700.0), CONDITIONS["P1"])
    assert "700 lx is too dark (at least 1500)" in in_words(dim)
    assert "too bright" in in_words(judge(booth(lux=700.0), CONDITIONS["P2"]))
    uneven = judge(booth(), CONDITIONS["P1"], [900.0])
    assert [c.id for c in uneven.criteria if c.verdict == "fail"] == ["evenness"]


def test_limits_that_cannot_be_are_refused() -> None:
    with pytest.raises(BadInput, match="no criterion"):
        Condition("x", "x", "x", {"glare": 1.0})
    with pytest.raises(BadInput, match="above the most"):
        Condition("x", "x", "x", {"illuminance_min": 900.0, "illuminance_max": 500.0})
    green = np.exp(-(((NM - 530.0) / 25.0) ** 2)) + 0.01
    with pytest.raises(BadInput, match="no white"):
        judge(LightSpectrum.of("green", NM, green), CONDITIONS["P1"])


@pytest.mark.parametrize(
    ("heading", "scale"),
    [("nm,W/m2/nm", 1.0), ("nm;mW m^-2 nm^-1", 1e-3), ("# µW·m⁻²·nm⁻¹", 1e-6), ("nm,W/m²/nm", 1.0)],
)
def test_the_scale_of_a_file_is_what_its_heading_says(heading: str, scale: float) -> None:
    rows = "\n".join(f"{nm};{1 + nm / 1000}" for nm in range(380, 781, 5))
    light = light_file.loads_spectrum(f"{heading}\n{rows}\n".encode(), "booth.csv")
    assert light.is_absolute
    assert light.power[int(560 - NM[0])] == pytest.approx(1.56 * scale)
    assert (light.first, light.step) == (380.0, 5.0)
    plain = light_file.loads_spectrum(f"nm;power\n{rows}\n".encode(), "booth.csv")
    assert not plain.is_absolute


def test_a_light_goes_through_its_file() -> None:
    light = booth()
    again = light_file.loads_spectrum(light_file.dumps(light), "booth.csv")
    assert again.is_absolute
    assert np.allclose(again.power, light.power, rtol=1e-6)


def test_the_command_judges_a_file(tmp_path: Path) -> None:
    path = tmp_path / "booth.csv"
    path.write_bytes(light_file.dumps(booth()))
    done = CliRunner().invoke(main, ["light", str(path), "--json"])
    assert done.exit_code == 0, done.output
    found = json.loads(done.output)
    assert set(found) >= {"cct", "duv", "lux", "ra", "r9", "rf", "rg", "mi_visible", "duv10_prime", "iso3664"}
    assert found["lux"] == pytest.approx(2000.0, abs=0.5)
    assert found["iso3664"]["verdict"] == "pass"
    path.write_text("\n".join(f"{nm},{p}" for nm, p in zip(NM[80:], lamp("A").power[80:])))
    done = CliRunner().invoke(main, ["light", str(path), "--json"])
    assert done.exit_code == 1
    found = json.loads(done.output)
    assert found["lux"] is None
    assert found["ra"] == pytest.approx(100.0, abs=0.05)
    path.write_text("nm,power\n380,1\n390,x\n")
    done = CliRunner().invoke(main, ["light", str(path)])
    assert done.exit_code == 2
    assert "booth.csv" in done.output
