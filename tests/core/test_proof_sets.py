"""Tolerance sets of one's own, queries, statistics against colour-science, spot colours, strips, aims in
part.
"""

from __future__ import annotations

import json
from dataclasses import replace

import colour
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.charts import strips
from greyanchor.core.charts.layout import lay_out, layout_of
from greyanchor.core.colour.colorimetry import delta_e_2000, lab_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import average_repeats, check
from greyanchor.core.verification.query import Query
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.core.verification.spot_files import from_csv, from_file
from greyanchor.core.verification.spots import SpotColour, tint_of
from greyanchor.core.verification.tolerances import ToleranceSet, from_dict, from_json
from tests.conftest import CMYK

FULL, _ = lay_out(strips.STRIPS["full"].patches(), CMYK)


def own(**criterion: object) -> ToleranceSet:
    base = {"id": "c", "group": "all", "measure": "de00", "statistic": "mean", "limit": 2.0}
    return from_dict({"id": "own", "criteria": [{**base, **criterion}]})


def figures(
    lab: np.ndarray, aim: aims.Aim, tolerances: ToleranceSet, strip: ReadingSet = FULL
) -> list[float | None]:
    return [f.value for f in check(replace(strip, measured_lab=lab), aim, tolerances).findings]


# --- every figure against an independent working -----------------------------------------------


def differences(aim: np.ndarray, lab: np.ndarray) -> dict[str, np.ndarray]:
    """All differences by colour-science and by their definitions."""
    c1, c2 = (np.hypot(v[:, 1], v[:, 2]) for v in (aim, lab))
    de76 = colour.delta_E(aim, lab, method="CIE 1976")
    dl, dc = lab[:, 0] - aim[:, 0], c2 - c1
    return {
        "de00": colour.delta_E(aim, lab, method="CIE 2000"),
        "de76": de76,
        "dl": np.abs(dl),
        "dc": np.abs(dc),
        "dh": np.sqrt(np.maximum(de76**2 - dl**2 - dc**2, 0)),
        "dch": np.hypot(lab[:, 1] - aim[:, 1], lab[:, 2] - aim[:, 2]),
    }


def reference_mask(group: str, d: np.ndarray) -> np.ndarray:
    """Groups by the words of the standard, on percent."""
    c, m, y, k = d.T
    inked = (d[:, :3] > 0).sum(axis=1)
    neutral = 0.747 * c - 4.1e-4 * c**2 + 2.94e-5 * c**3
    return {
        "all": np.ones(len(d), bool),
        "substrate": d.sum(axis=1) == 0,
        "primaries": (d.max(axis=1) == 100) & (d.sum(axis=1) == 100),
        "chromatic_primaries": (d[:, :3].max(axis=1) == 100) & (d.sum(axis=1) == 100),
        "k_solid": (k == 100) & (d.sum(axis=1) == 100),
        "secondaries": (k == 0) & (inked == 2) & ((d[:, :3] == 100).sum(axis=1) == 2),
        "greys": (k == 0) & (c > 0) & (np.abs(m - neutral) <= 1) & (np.abs(y - neutral) <= 1),
        "outer_gamut": (k == 0) & (d[:, :3].max(axis=1) == 100) & (inked <= 2),
    }[group]


REFERENCE = {
    "mean": np.mean,
    "max": np.max,
    "p95": lambda v: np.percentile(v, 95, method="linear"),
    "sd": lambda v: np.std(v, ddof=1) if len(v) > 1 else 0.0,
    "best90_max": lambda v: np.sort(v)[int(np.ceil(0.9 * len(v))) - 1],
    "worst10_mean": lambda v: np.mean(np.sort(v)[::-1][: max(1, int(np.ceil(0.1 * len(v))))]),
}


@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 2**32 - 1), size=st.floats(0.1, 6.0), edition=st.sampled_from(["2016", "2013"]))
def test_every_criterion_agrees_with_an_independent_working(seed: int, size: float, edition: str) -> None:
    random = np.random.default_rng(seed)
    target = np.column_stack([random.uniform(10, 98, len(FULL)), random.uniform(-80, 80, (len(FULL), 2))])
    lab = target + size * random.standard_normal(target.shape)
    aim = aims.from_data(replace(FULL, measured_lab=target), "random")
    result = check(replace(FULL, measured_lab=lab), aim, SHIPPED[f"iso12647-7:{edition}"])
    parts = differences(target, lab)
    for found in result.findings:
        criterion = found.criterion
        if criterion.group == "spots":
            assert found.value is None
            continue
        chosen = parts[criterion.measure][reference_mask(criterion.group, 100 * FULL.values())]
        assert found.value == pytest.approx(REFERENCE[criterion.statistic](chosen), abs=0.02), criterion.id


@pytest.mark.parametrize("edition", ["iso12647-7:2016", "iso12647-7:2013"])
def test_both_editions_pass_a_good_print_and_fail_a_bad_one(edition: str) -> None:
    aim = aims.load("generic-coated")
    lab = aim.lab_for(FULL)
    random = np.random.default_rng(4).standard_normal(lab.shape)
    assert check(replace(FULL, measured_lab=lab + 0.3 * random), aim, SHIPPED[edition]).verdict == "pass"
    assert check(replace(FULL, measured_lab=lab + 4.0 * random), aim, SHIPPED[edition]).verdict == "fail"


# --- own sets ----------------------------------------------------------------------------------


def test_a_query_picks_patches_by_device_values() -> None:
    device = np.array([[0.6, 0, 0, 0], [0.4, 0, 0, 0], [0.6, 0, 0, 0.5], [0.2, 0.2, 0.2, 0]])
    assert Query("C >= 50 and K = 0").mask(device, CMYK).tolist() == [True, False, False, False]
    assert Query("not (C > 50 or K > 0)").mask(device, CMYK).tolist() == [False, True, False, True]
    assert Query("40 <= c <= 60% and total < 100").mask(device, CMYK).tolist() == [True, True, False, False]
    assert Query("C = M and M = Y").mask(device, CMYK).tolist() == [False, False, False, True]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("C >", "lacks a channel or a number"),
        ("C", "does not compare"),
        ("C > 5 and", "lacks"),
        ("(C > 5", "bracket"),
        ("C > 5 K < 3", "should end"),
        ("O > 5", "there are C, M, Y, K, total"),
        ("C ! 5", "cannot be understood"),
        ("(" * 300 + "C>1" + ")" * 50, "brackets"),
        ("C>1 or " * 80 + "C>1", "up to 400"),
    ],
)
def test_a_query_that_makes_no_sense_is_refused_by_name(text: str, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        Query(text).mask(np.zeros((1, 4)), CMYK)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"statistic": "median"}, "statistic 'median'"),
        ({"measure": "de94"}, "de94"),
        ({"group": "blues"}, "group 'blues'"),
        ({"group": "Q > 5"}, "asks for Q"),
        ({"limit": -1}, "limit"),
        ({"limit": float("nan")}, "limit"),
        ({"warning": 3.0}, "warning"),
        ({"weight": -1}, "weight"),
        ({"measure": "wdl"}, "grey scales"),
        ({"statistic": "p999"}, "p999"),
    ],
)
def test_a_criterion_that_cannot_be_is_named_and_refused(change: dict[str, object], words: str) -> None:
    with pytest.raises(BadInput, match=words) as error:
        own(**change)
    assert "criterion c" in str(error.value)


def test_a_tolerance_file_with_an_unknown_statistic_names_file_and_statistic() -> None:
    text = json.dumps(
        {
            "id": "x",
            "criteria": [{"id": "m", "group": "all", "measure": "de00", "statistic": "mode", "limit": 1}],
        }
    )
    with pytest.raises(BadInput, match=r"house\.json.*statistic 'mode'"):
        from_json(text, "house.json")


def test_shipped_sets_survive_their_own_json_and_state_source_and_edition() -> None:
    for shipped in SHIPPED.values():
        assert from_json(shipped.to_json(), "x") == shipped
        assert shipped.source and shipped.edition


def test_a_warning_is_reported_and_percentiles_of_any_rank_are_linear() -> None:
    aim = aims.load("generic-coated")
    lab = aim.lab_for(FULL) + [1.5, 0, 0]
    result = check(replace(FULL, measured_lab=lab), aim, own(measure="dl", warning=1.0, statistic="p37"))
    assert result.verdict == "pass" and result.findings[0].near
    assert result.findings[0].value == pytest.approx(1.5)
    assert not check(replace(FULL, measured_lab=lab), aim, own(measure="dl", warning=1.9)).findings[0].near


def test_grades_follow_the_weighted_share_of_the_limits_and_fail_has_none() -> None:
    facts = {
        "id": "g",
        "grades": [
            {"name": "harbour", "up_to": 40},
            {"name": "coast", "up_to": 80},
            {"name": "sea", "up_to": 100},
        ],
        "criteria": [
            {"id": "a", "group": "all", "measure": "dl", "statistic": "mean", "limit": 2.0, "weight": 3},
            {"id": "b", "group": "substrate", "measure": "dl", "statistic": "mean", "limit": 4.0},
        ],
    }
    aim, graded = aims.load("generic-coated"), from_dict(facts)

    def graded_at(shift: float) -> tuple[float | None, str]:
        result = check(replace(FULL, measured_lab=aim.lab_for(FULL) + [shift, 0, 0]), aim, graded)
        return result.score, result.grade

    score, grade = graded_at(1.0)
    assert score == pytest.approx((3 * 50 + 25) / 4, abs=0.01) and grade == "coast"
    assert graded_at(0.5)[1] == "harbour" and graded_at(1.9)[1] == "sea" and graded_at(2.1)[1] == ""


# --- aims in part, conditions, repeats ---------------------------------------------------------


def test_patches_without_an_aim_are_refused_or_left_out_and_their_groups_not_tested() -> None:
    aim = aims.load("generic-coated")
    lab = aim.lab_for(FULL)
    cyan = int(np.flatnonzero((FULL.values() == [1, 0, 0, 0]).all(axis=1))[0])
    thin = aims.from_data(replace(FULL, measured_lab=lab).select(np.arange(len(FULL)) != cyan), "thin")
    readings = replace(FULL, measured_lab=lab)
    with pytest.raises(BadInput, match=f"1 of 54 patches; the first is {FULL.ids[cyan]}"):
        check(readings, thin, SHIPPED["iso12647-7:2016"])
    result = check(readings, thin, SHIPPED["iso12647-7:2016"], leave_out=True)
    verdicts = {f.criterion.id: f.verdict for f in result.findings}
    assert (
        verdicts["primaries_max"] == verdicts["outer_gamut_mean"] == "not tested"
        and verdicts["mean"] == "pass"
    )
    assert len(result.ids) == 53 and FULL.ids[cyan] in result.notes[0]


def test_an_rgb_aim_is_refused_for_a_cmyk_strip_and_m0_against_m1_is_text() -> None:
    lab = aims.load("generic-coated").lab_for(FULL)
    rgb = ReadingSet(
        ("1", "2"),
        tuple("RGB"),
        np.array([[0.0, 0, 0], [1, 1, 1]]),
        measured_lab=np.array([[10.0, 0, 0], [95, 0, 0]]),
    )
    with pytest.raises(BadInput, match=r"R\+G\+B, the readings are of C\+M\+Y\+K"):
        check(replace(FULL, measured_lab=lab), aims.from_data(rgb, "rgb"), SHIPPED["iso12647-7:2016"])
    result = check(
        replace(FULL, measured_lab=lab, condition="M0"),
        aims.load("generic-coated"),
        SHIPPED["iso12647-7:2016"],
    )
    assert any("M0" in n and "M1" in n for n in result.notes)


def test_repeats_that_disagree_are_named_and_averaging_is_of_light() -> None:
    twice = strips.of_kind("averaged")
    aim = aims.load("generic-coated")
    lab = aim.lab_for(twice)
    lab[10] += [12.0, 0, 0]
    readings = replace(twice, measured_lab=lab)
    result = check(readings, aim, SHIPPED["iso12647-7:2016"])
    assert len(result.ids) == 54 and any("disagree" in n and twice.ids[10] in n for n in result.notes)
    merged = average_repeats(readings)
    pair = np.flatnonzero((twice.values() == twice.values()[10]).all(axis=1))
    place = merged.ids.index(twice.ids[10])
    np.testing.assert_allclose(merged.xyz()[place], lab_to_xyz(lab[pair]).mean(axis=0), rtol=1e-9)
    plain = replace(readings, meta={})
    assert len(check(plain, aim, SHIPPED["iso12647-7:2016"]).ids) == 108


# --- spot colours ------------------------------------------------------------------------------


def test_tints_follow_sctv_between_paper_and_solid() -> None:
    paper, spot = (
        np.array([94.0, 0.5, -3.0]),
        SpotColour("Buoy red", (46.0, 62.0, 38.0), {50.0: (68.0, 30.0, 12.0)}),
    )
    xyz = lab_to_xyz(np.array([spot.aim(30, paper), paper, spot.lab]))
    assert sctv(xyz[:1], xyz[1], xyz[2])[0] == pytest.approx(30.0, abs=1e-6)
    np.testing.assert_array_equal(spot.aim(50, paper), (68.0, 30.0, 12.0))
    assert tint_of("Buoy red 50 %") == ("Buoy red", 50.0) and tint_of("Route 66") == ("Route 66", 100.0)


def test_spot_solids_are_judged_as_a_group_and_tints_apart() -> None:
    spots = {
        n: SpotColour(n, lab)
        for n, lab in {"Buoy red": (46.0, 62.0, 38.0), "Deep water": (38.0, -8.0, -34.0)}.items()
    }
    aim = aims.with_spots(aims.load("generic-coated"), spots)
    named = [
        ("Buoy red", np.array([0.1, 0.95, 0.8, 0])),
        ("Deep water", np.array([0.9, 0.5, 0.2, 0])),
        ("buoy red 40 %", np.array([0, 0.4, 0.3, 0])),
    ]
    chart = strips.of_kind("full", spots=named)
    lab = aim.lab_for(chart)
    np.testing.assert_allclose(lab[-3:-1], [[46, 62, 38], [38, -8, -34]])
    lab[-2] += [0.0, 0.0, 14.0]
    result = check(replace(chart, measured_lab=lab), aim, SHIPPED["iso12647-7:2016"])
    found = {f.criterion.id: f for f in result.findings}
    assert found["spot_max"].count == 2 and found["spot_max"].verdict == "fail"
    assert found["spot_max"].value == pytest.approx(delta_e_2000(aim.lab_for(chart)[-2], lab[-2]))
    assert found["primaries_max"].count == 4
    text = cgats.dumps(replace(chart, measured_lab=lab))
    assert cgats.loads(text).names == chart.names


def test_colours_known_by_name_alone_are_checked_without_device_values() -> None:
    aim = aims.Aim("book", spots={"Land buff": SpotColour("Land buff", (86.0, 3.0, 24.0))})
    seen = ReadingSet(("Land buff",), measured_lab=np.array([[85.0, 3.0, 24.0]]))
    result = check(seen, aim, SHIPPED["iso12647-7:2016"])
    verdicts = {f.criterion.id: f.verdict for f in result.findings}
    assert (
        verdicts["spot_max"] == "pass"
        and verdicts["primaries_max"] == "not tested"
        and result.verdict == "pass"
    )


def test_lists_of_spot_colours_are_read_liberally_and_refused_with_their_line() -> None:
    found = from_csv("Name;L*;a*;b*;Tint\nBuoy red;46,5;62;38;100\nBuoy red;70;30;15;50\n", "book.csv")
    assert found["Buoy red"].lab == (46.5, 62.0, 38.0) and found["Buoy red"].tints == {
        50.0: (70.0, 30.0, 15.0)
    }
    with pytest.raises(BadInput, match=r"book\.csv, line 2"):
        from_csv("name,L,a,b\nBuoy red,forty,1,2\n", "book.csv")
    with pytest.raises(BadInput, match="no solid"):
        from_csv("name,L,a,b,tint\nBuoy red,70,1,2,50\n", "book.csv")
    with pytest.raises(BadInput, match="no column b"):
        from_csv("name,L,a\nx,1,2\n", "book.csv")


X4 = """<?xml version="1.0"?><cc:CxF xmlns:cc="http://colorexchangeformat.com/CxF3-core"><cc:Resources>
<cc:ObjectCollection>
<cc:Object ObjectType="Target" Name="p" Id="o0"><cc:ColorValues><cc:ColorCIELab ColorSpecification="s">
<cc:L>95</cc:L><cc:A>0</cc:A><cc:B>-2</cc:B></cc:ColorCIELab></cc:ColorValues></cc:Object>
<cc:Object ObjectType="Target" Name="half" Id="o1"><cc:ColorValues>
<cc:ColorCIELab ColorSpecification="s"><cc:L>70</cc:L><cc:A>30</cc:A><cc:B>15</cc:B></cc:ColorCIELab>
</cc:ColorValues></cc:Object>
<cc:Object ObjectType="Target" Name="full" Id="o2"><cc:ColorValues>
<cc:ColorCIELab ColorSpecification="s"><cc:L>46</cc:L><cc:A>62</cc:A><cc:B>38</cc:B></cc:ColorCIELab>
</cc:ColorValues></cc:Object>
</cc:ObjectCollection></cc:Resources><cc:CustomResources><sic:SpotInkCharacterisation xmlns:sic="x">
<sic:SpotInkName>Buoy red</sic:SpotInkName>
<sic:MeasurementSet Background="Substrate"><sic:Measurement ObjectRef="o0" TintPercentage="0"/>
<sic:Measurement ObjectRef="o1" TintPercentage="50"/>
<sic:Measurement ObjectRef="{ref}" TintPercentage="100"/></sic:MeasurementSet>
</sic:SpotInkCharacterisation></cc:CustomResources></cc:CxF>"""


def test_a_characterized_spot_ink_comes_with_its_tints() -> None:
    found = from_file(X4.format(ref="o2").encode(), "ink.cxf")
    assert found["Buoy red"].lab == (46.0, 62.0, 38.0) and found["Buoy red"].tints == {
        50.0: (70.0, 30.0, 15.0)
    }
    with pytest.raises(BadInput, match="o9"):
        from_file(X4.format(ref="o9").encode(), "ink.cxf")


# --- strips ------------------------------------------------------------------------------------


def test_strips_hold_what_they_are_for() -> None:
    aim = aims.load("generic-coated")
    for name, limits in (("full", "g7-colorspace"), ("short", "iso12647-7:2016")):
        chart = strips.of_kind(name)
        result = check(replace(chart, measured_lab=aim.lab_for(chart)), aim, SHIPPED[limits])
        assert [t for t in result.not_tested if not t.startswith("Spot")] == [], name
    with pytest.raises(BadInput, match="full, short"):
        strips.of_kind("long")


def test_a_uniformity_strip_stands_in_nine_places_and_shows_an_uneven_sheet() -> None:
    chart = strips.of_kind("even")
    layout = layout_of(chart)
    assert len(chart) == 36 and layout.sheets == 1
    rows = np.unique(chart.rows)
    assert len(rows) == 3 and rows[0] == 1 and rows[-1] == layout.rows_per_sheet
    lab = aims.load("generic-coated").lab_where_known(chart)
    lab = np.where(np.isnan(lab), [60.0, 0.0, 0.0], lab)
    even = replace(chart, measured_lab=lab)
    assert check(even, aims.of_places(even), SHIPPED["uniformity"]).verdict == "pass"
    tilted = replace(
        chart, measured_lab=lab + np.array([8.0, 0, 0]) * (chart.rows[:, None] / layout.rows_per_sheet)
    )
    result = check(tilted, aims.of_places(tilted), SHIPPED["uniformity"])
    assert result.verdict == "fail" and result.findings[0].verdict == "fail"
    with pytest.raises(BadInput, match="three places"):
        aims.of_places(replace(FULL, measured_lab=np.full((54, 3), 50.0)))
