"""Checks: criteria recomputed by hand, groups, aims, and verdicts that are never given for nothing."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour import colorimetry as cm
from greyanchor.core.colour.colorimetry import delta_e_76, delta_e_2000, lab_difference
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.verification import aims, generic_aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.groups import groups
from greyanchor.core.verification.shipped import SHIPPED, load
from greyanchor.core.verification.statistics import STATISTICS
from greyanchor.core.verification.tolerances import from_json
from tests.conftest import CMYK, PrintRoom


@pytest.fixture(scope="module")
def aim() -> aims.Aim:
    return aims.load("generic-coated")


@pytest.fixture(scope="module")
def strip() -> ReadingSet:
    chart, _ = lay_out(patches.control_strip(), CMYK)
    return chart


def measured(strip: ReadingSet, lab: np.ndarray) -> ReadingSet:
    return replace(strip, measured_lab=lab)


def value(result: object, name: str) -> float | None:
    return next(f.value for f in result.findings if f.criterion.id == name)


def test_the_aim_has_the_published_solids() -> None:
    lab = generic_aims.aim_lab(
        np.array(
            [
                [0, 0, 0, 0],
                [1, 0, 0, 0],
                [0, 1, 0, 0],
                [0, 0, 1, 0],
                [0, 0, 0, 1],
                [0, 1, 1, 0],
                [1, 0, 1, 0],
                [1, 1, 0, 0],
            ]
        )
    )
    wanted = [
        [95, 1.5, -6],
        [56, -36, -51],
        [48, 75, -4],
        [89, -4, 93],
        [16, 0, 0],
        [48, 68, 47],
        [50, -65, 26],
        [25, 20, -46],
    ]
    np.testing.assert_allclose(lab, wanted, atol=1e-6)


def test_the_tints_of_the_aim_gain_about_sixteen_percent() -> None:
    from greyanchor.core.colour.colorimetry import lab_to_xyz

    xyz = lab_to_xyz(generic_aims.aim_lab(np.array([[0, 0, 0, 0], [0, 0, 0, 0.5], [0, 0, 0, 1.0]])))[:, 1]
    tone = 100 * (xyz[0] - xyz[1]) / (xyz[0] - xyz[2])
    assert tone == pytest.approx(66, abs=2.5)


def test_a_print_that_meets_the_aim_exactly_passes_with_nothing_used(
    strip: ReadingSet, aim: aims.Aim
) -> None:
    for tolerances in (SHIPPED["iso12647-7:2016"], SHIPPED["iso12647-7:2013"], SHIPPED["repeatability"]):
        result = check(measured(strip, aim.lab_for(strip)), aim, tolerances)
        assert result.verdict == "pass" and result.differences.max() < 1e-3
        untested = [f.verdict for f in result.findings if f.criterion.group == "spots"]
        assert untested == ["not tested"] * len(untested)


def test_every_figure_of_2016_can_be_recomputed_by_hand(strip: ReadingSet, aim: aims.Aim) -> None:
    lab = aim.lab_for(strip)
    lab = lab + np.random.default_rng(1).normal(0, 1.2, lab.shape)
    result = check(measured(strip, lab), aim, SHIPPED["iso12647-7:2016"])
    target, d = aim.lab_for(strip), 100 * strip.device
    de = delta_e_2000(target, lab)
    paper = d.sum(axis=1) == 0
    solid = (np.sort(d, axis=1)[:, 3] == 100) & (d.sum(axis=1) == 100)
    grey = (
        (d[:, 3] == 0)
        & (d[:, 0] > 0)
        & (np.abs(100 * patches.near_neutral(strip.device[:, 0])[:, 1:] - d[:, 1:3]).max(axis=1) <= 1)
    )
    outer = (d[:, 3] == 0) & (d[:, :3].max(axis=1) == 100) & ((d[:, :3] > 0).sum(axis=1) <= 2)
    parts = lab_difference(target, lab)
    wanted = {
        "substrate": de[paper].max(),
        "mean": de.mean(),
        "p95": np.percentile(de, 95),
        "primaries_max": de[solid].max(),
        "primaries_dh_max": np.abs(parts.dh[solid & (d[:, 3] == 0)]).max(),
        "grey_dch_mean": parts.dch[grey].mean(),
        "grey_dch_max": parts.dch[grey].max(),
        "outer_gamut_mean": de[outer].mean(),
    }
    for name, figure in wanted.items():
        assert value(result, name) == pytest.approx(figure, abs=1e-9), name


def test_the_2013_edition_is_judged_in_the_older_difference(strip: ReadingSet, aim: aims.Aim) -> None:
    lab = aim.lab_for(strip) + [0.0, 1.0, -1.0]
    result = check(measured(strip, lab), aim, SHIPPED["iso12647-7:2013"])
    assert value(result, "mean") == pytest.approx(delta_e_76(aim.lab_for(strip), lab).mean())
    assert result.measure == "de76"


@pytest.mark.parametrize(
    ("group", "shift", "failing"),
    [
        ("substrate", [-6, 0, 0], "substrate"),
        ("primaries", [6, 0, 0], "primaries_max"),
        ("greys", [0, 5, 0], "grey_dch_mean"),
    ],
)
def test_a_fault_in_one_group_fails_its_criterion(
    strip: ReadingSet, aim: aims.Aim, group: str, shift: list[float], failing: str
) -> None:
    lab = aim.lab_for(strip)
    lab[groups(strip.device)[group]] += shift
    result = check(measured(strip, lab), aim, SHIPPED["iso12647-7:2016"])
    assert result.verdict == "fail"
    assert next(f.verdict for f in result.findings if f.criterion.id == failing) == "fail"


def test_a_value_on_the_limit_still_passes(strip: ReadingSet, aim: aims.Aim) -> None:
    own = from_json(
        (
            '{"id": "own", "criteria": [{"id": "m", "group": "all", "measure": "dl", "statistic": "max", '
            '"limit": 2.0}]}'
        ),
        "own",
    )
    lab = aim.lab_for(strip) + [1.9999, 0, 0]
    assert check(measured(strip, lab), aim, own).verdict == "pass"
    assert check(measured(strip, lab + [0.01, 0, 0]), aim, own).verdict == "fail"


def test_nothing_tested_is_never_a_pass(aim: aims.Aim) -> None:
    chart, _ = lay_out(np.array([[0.0, 0.0, 0.0, 0.5]]), CMYK)
    data = ReadingSet(ids=("1",), channels=CMYK, device=chart.device, measured_lab=np.array([[60.0, 0, 0]]))
    own = from_json(
        (
            '{"id": "own", "criteria": [{"id": "s", "group": "spots", "measure": "de00", "statistic": "max", '
            '"limit": 2.0}]}'
        ),
        "own",
    )
    result = check(replace(chart, measured_lab=np.array([[60.0, 0, 0]])), aims.Aim("x", data=data), own)
    assert result.verdict == "fail" and result.findings[0].verdict == "not tested"


def test_a_corrected_aim_forgives_the_paper_and_nothing_else(strip: ReadingSet, aim: aims.Aim) -> None:
    target = aim.lab_for(strip)
    paper = groups(strip.device)["substrate"]
    yellowish = aims.substrate_corrected(
        target, paper, target[paper][0], np.array([92.0, 0.0, 2.0]), aim.darkest
    )
    plain = check(measured(strip, yellowish), aim, SHIPPED["iso12647-7:2016"])
    corrected = check(measured(strip, yellowish), aim, SHIPPED["iso12647-7:2016"], corrected=True)
    assert value(plain, "substrate") > 3 and plain.verdict == "fail"
    assert corrected.verdict == "pass" and corrected.differences.max() < 0.05


def test_a_corrected_aim_does_not_depend_on_which_patches_the_strip_has(
    strip: ReadingSet, aim: aims.Aim, built: ProfileResult
) -> None:
    """On a paper 6 % yellower a mid grey keeps its aim whether dark patches stand beside it or not."""
    yellower = np.array([93.0, 1.0, 0.0])
    for held_to in (aim, aims.from_profile(icc.loads(built.data), "built.icc")):
        target = held_to.lab_for(strip)
        light = target[:, 0] > 40.0
        paper = groups(strip.device)["substrate"]
        whole = aims.substrate_corrected(target, paper, target[paper][0], yellower, held_to.darkest)
        part = aims.substrate_corrected(
            target[light], paper[light], target[paper][0], yellower, held_to.darkest
        )
        np.testing.assert_array_equal(whole[light], part)
        xyz = held_to.darkest
        assert (xyz <= cm.lab_to_xyz(target).min(axis=0) + 1e-6).all(), "the darkest of the whole aim"
        dark = aims.substrate_corrected(
            cm.xyz_to_lab(xyz)[None], np.array([False]), target[paper][0], yellower, xyz
        )
        np.testing.assert_allclose(dark[0], cm.xyz_to_lab(xyz), atol=1e-9)


def test_a_profile_serves_as_aim_for_any_patch(
    built: ProfileResult, room: PrintRoom, strip: ReadingSet
) -> None:
    profile_aim = aims.from_profile(icc.loads(built.data), "built.icc")
    lab = room.truth(np.minimum(strip.device, 1.0))
    inside = strip.device.sum(axis=1) <= 3.0
    assert delta_e_2000(profile_aim.lab_for(strip)[inside], lab[inside]).mean() < 0.4


def test_the_strip_through_the_profile_prints_the_aim(
    built: ProfileResult, room: PrintRoom, strip: ReadingSet, aim: aims.Aim
) -> None:
    profile = icc.loads(built.data)
    sent = aims.strip_through_profile(strip, aim, profile, corrected=True)
    printed = replace(strip, measured_lab=room.truth(sent.device))
    result = check(printed, aim, SHIPPED["iso12647-7:2016"], corrected=True)
    assert result.verdict == "pass" and value(result, "mean") < 1.0


def test_statistics_follow_their_definitions() -> None:
    v = np.arange(1.0, 11.0)
    assert STATISTICS["best90_max"](v) == 9.0 and STATISTICS["worst10_mean"](v) == 10.0
    assert STATISTICS["sd"](v) == pytest.approx(np.std(v, ddof=1)) and STATISTICS["p95"](v) == pytest.approx(
        9.55
    )


def test_aims_that_do_not_fit_are_refused(strip: ReadingSet, aim: aims.Aim, tmp_path: Path) -> None:
    odd = replace(strip, device=np.clip(strip.device + 0.013, 0, 1), measured_lab=aim.lab_for(strip))
    with pytest.raises(BadInput, match="holds no value for"):
        check(odd, aim, SHIPPED["iso12647-7:2016"])
    with pytest.raises(BadInput, match="no measured values"):
        check(strip, aim, SHIPPED["iso12647-7:2016"])
    path = tmp_path / "chart.txt"
    cgats.write(strip, path)
    with pytest.raises(BadInput, match=r"chart.txt: the file holds device values only"):
        aims.load(path)
    with pytest.raises(BadInput, match="cannot be read"):
        aims.load(tmp_path / "none.icc")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "line 1"),
        ("{}", "incomplete"),
        ('{"id": "x", "criteria": []}', "no criteria"),
        (
            (
                '{"id": "x", "criteria": [{"id": "a", "group": "sky", "measure": "de00", "statistic": "max", '
                '"limit": 1}]}'
            ),
            "group 'sky'",
        ),
        (
            (
                '{"id": "x", "criteria": [{"id": "a", "group": "all", "measure": "de00", "statistic": "max", '
                '"limit": -1}]}'
            ),
            "above 0",
        ),
    ],
)
def test_a_damaged_tolerance_set_is_refused(text: str, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        from_json(text, "own.json")


def test_own_sets_are_read_from_a_file(tmp_path: Path) -> None:
    path = tmp_path / "own.json"
    path.write_text(
        json.dumps(
            {
                "id": "house",
                "criteria": [{"id": "m", "group": "all", "measure": "de00", "statistic": "mean", "limit": 2}],
            }
        )
    )
    assert load(str(path)).criteria[0].limit == 2.0
    for name in ("g7-silver", "iso12647-7:1999"):
        with pytest.raises(BadInput, match="iso12647-7:2016"):
            load(name)
