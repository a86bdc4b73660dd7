"""Slips of the hand on presses that no expectation was tuned on; whole passes that are off; the wrong pass
named."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from benchmarks import misreads as bench
from greyanchor.cli import main
from greyanchor.core.characterization.expectation import learn_films, mean_of_media
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.expectation import Expectation, guess, plain
from greyanchor.core.measurement.misread_sheets import judge_pass, suspect_rows
from greyanchor.core.measurement.misreads import Surroundings, judge_row, rows_of
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import compare_passes
from greyanchor.core.measurement.whole_pass import pass_shift
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests.conftest import CMYK

PRESS = "petrel-44/thrift-bond-90"


@pytest.fixture(scope="module")
def builds() -> list[list[bench.Stage]]:
    return [bench.build_of(seed) for seed in (9001, 9002)]


def stage(builds: list[list[bench.Stage]], name: str, number: int = 0) -> bench.Stage:
    return next(s for s in builds[number] if s.name == name)


def test_rows_are_caught_at_the_first_pass_and_clean_ones_are_kept(builds: list[list[bench.Stage]]) -> None:
    counts = bench.measure(range(9001, 9003), 1)
    known = {k: v for k, v in counts.items() if k[0] not in bench.UNKNOWN}
    clean = sum(v[0] for k, v in known.items() if k[1] == "clean")
    assert clean <= 1, "clean rows refused"
    for kinds, least in (
        (("one missed", "one twice", "two missed", "split, skipped"), 0.95),
        (("backwards", "another row", "another chart"), 0.98),
        (("scratch or speck",), 0.88),
    ):
        caught = sum(v[0] for k, v in known.items() if k[1] in kinds)
        tried = sum(v[1] for k, v in known.items() if k[1] in kinds)
        assert tried > 60 and caught >= least * tried, (kinds, caught, tried)


def test_where_nothing_is_known_clean_rows_are_kept_and_gross_slips_named() -> None:
    """The first chart of a shop without other media: a guess says which row it is, and no more."""
    for seed in (9003, 9004):
        first = bench.build_of(seed)[0]
        assert first.name == "nothing known" and first.expected.rough
        assert suspect_rows(first.chart, first.expected, first.passes[0].lab()) == []
        around = Surroundings.of(first.chart, first.expected)
        for row, places in rows_of(first.chart).items():
            if len(places) < 6:
                continue
            turned = first.passes[0].lab()[places][::-1]
            found = judge_row(first.expected.select(places), turned, around, row)
            assert found.kind == "backwards", row


@pytest.mark.parametrize("name", ["linearization", "confirming", "profile 400"])
def test_a_white_tile_a_wet_sheet_and_another_condition_show_in_the_pass(
    builds: list[list[bench.Stage]], name: str
) -> None:
    for number in range(2):
        known = stage(builds, name, number)
        good = known.passes[1]
        assert pass_shift(known.expected, good.lab()).reasons() == {}
        for share in (0.98, 1.02):
            off = replace(good, spectra=good.spectra * share).lab()
            found = pass_shift(known.expected, off)
            assert set(found.reasons()) == {"white"} and found.gain == pytest.approx(share - 1.0, abs=0.006)


def test_a_wet_sheet_and_m0_for_m1_are_told_apart() -> None:
    press = press_by_name(PRESS)
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    ramps = print_and_read(chart, press, 4)
    limits = dict.fromkeys(CMYK, 0.8)
    chart, _ = lay_out(patches.design("linearization", limits=limits), CMYK)
    expected = learn_films([ramps], CMYK).expect(chart.values())
    wet = print_and_read(chart, press, 5, state=Condition(wet=1.0))
    other = print_and_read(chart, press, 5, condition="M0")
    assert set(pass_shift(expected, wet.lab()).reasons()) == {"wet"}
    assert "media" in pass_shift(expected, other.lab()).reasons()
    assert pass_shift(expected, print_and_read(chart, press, 5).lab()).reasons() == {}
    assert pass_shift(guess(expected.lab), wet.lab()) is None, "nothing is known of this media"


def misread(readings: ReadingSet, row: int, slip: Callable[[Array], Array]) -> ReadingSet:
    spectra = readings.spectra.copy()
    places = rows_of(readings)[row]
    spectra[places] = slip(spectra[places])
    return replace(readings, spectra=spectra)


@pytest.mark.parametrize("wrong", [1, 2])
@pytest.mark.parametrize("name", ["linearization", "confirming", "grey", "total ink", "restore"])
def test_the_wrong_pass_is_named_by_what_was_expected(
    builds: list[list[bench.Stage]], name: str, wrong: int
) -> None:
    """One patch missed in one of two passes: which one is not a matter of chance."""
    known = stage(builds, name)
    row = 2
    passes = list(known.passes)
    passes[wrong - 1] = misread(passes[wrong - 1], row, lambda s: np.vstack([s[:3], s[4:], s[-1:]]))
    found = compare_passes(passes, known.expected)
    assert row in found.suspect_rows or found.stray_patches
    named = set(found.worst_pass.values())
    assert named == {wrong}, found.worst_pass
    assert compare_passes(passes).worst_pass == {}, "without an expectation two passes cannot say"


def test_a_confirming_row_that_missed_a_patch_is_no_result(builds: list[list[bench.Stage]]) -> None:
    """Row 3 of a confirming print on plain paper: once kept, and taken for a tone scale 139 % off."""
    known = stage(builds, "confirming", 1)
    places = rows_of(known.chart)[3]
    seen = known.passes[0].lab()[places]
    late = np.vstack([seen[:5], seen[6:], seen[-1:]])
    around = Surroundings.of(known.chart, known.expected)
    verdict = judge_row(known.expected.select(places), late, around, 3)
    assert not verdict.ok and verdict.kind == "shifted" and "missed" in verdict.reason
    assert judge_row(known.expected.select(places), known.passes[1].lab()[places], around, 3).ok


def test_a_media_never_read_is_expected_from_others_with_its_inks() -> None:
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    names = ("petrel-44/saltmarsh-cotton-310", "petrel-44/kelp-synthetic-190", "petrel-44/fathom-satin-260")
    films = [learn_films([print_and_read(chart, press_by_name(n), 3)], CMYK) for n in names]
    new = print_and_read(chart, press_by_name("petrel-44/tideline-matt-140"), 3)
    expected = mean_of_media(chart.values(), films)
    off = np.linalg.norm(expected.lab - new.lab(), axis=1)
    assert np.median(off) < 6.0 and not expected.same_media
    assert suspect_rows(chart, expected, new.lab()) == []
    row = misread(new, 2, lambda s: s[::-1])
    assert [s.row for s in suspect_rows(chart, expected, row.lab())] == [2]
    with pytest.raises(BadInput, match="1 other media were read; 2 are needed"):
        mean_of_media(chart.values(), films[:1])


def test_an_ink_that_was_never_printed_alone_cannot_be_expected() -> None:
    chart, _ = lay_out(np.vstack([np.zeros((2, 4)), np.eye(4)[:3], 0.5 * np.eye(4)[:3]]), CMYK)
    readings = print_and_read(chart, press_by_name(PRESS), 1)
    with pytest.raises(BadInput, match="C was never printed alone"):
        learn_films([readings], CMYK)
    with pytest.raises(BadInput, match="no unprinted patch"):
        learn_films([readings.select(np.arange(2, 8))], CMYK)


def test_an_expectation_of_another_size_is_refused() -> None:
    with pytest.raises(BadInput, match="Lab, spread and slopes for every patch"):
        Expectation(np.zeros((3, 3)), np.ones(2), np.zeros((3, 3, 1)), np.ones(1))


def test_another_charts_sheet_is_refused_whatever_its_length(builds: list[list[bench.Stage]]) -> None:
    known, other = stage(builds, "profile 400"), stage(builds, "profile 400", 1)
    mixed = np.random.default_rng(1).permutation(len(known.chart))
    foreign = replace(other.passes[0], spectra=other.passes[0].spectra[mixed])
    with pytest.raises(BadInput, match="another chart|looks like"):
        judge_pass(known.chart, known.expected, foreign)


def test_two_patches_of_one_kind_stand_out_by_name() -> None:
    lab = np.column_stack([np.linspace(95, 20, 12), np.zeros(12), np.zeros(12)])
    seen = lab + np.random.default_rng(2).normal(0.0, 0.1, lab.shape)
    seen[[4, 9]] -= [9.0, 0.0, 0.0]
    verdict = judge_row(plain(lab, 0.3), seen)
    assert verdict.patches == (4, 9) and "patches 5, 10 of the row stand out" in verdict.reason


# --- the command ---------------------------------------------------------------------------------


def written(folder: Path, name: str, readings: ReadingSet) -> str:
    path = folder / name
    path.write_text(cgats.dumps(readings))
    return str(path)


def suspect(*arguments: str) -> tuple[int, dict]:
    done = CliRunner().invoke(main, ["suspect", *arguments, "--json"], catch_exceptions=False)
    return done.exit_code, json.loads(done.stdout)


def test_the_command_names_rows_sheets_and_slips(tmp_path: Path) -> None:
    press = press_by_name(PRESS)
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    prior = written(tmp_path, "ramps.txt", print_and_read(chart, press, 1))
    chart, _ = lay_out(patches.design("linearization"), CMYK)
    good = print_and_read(chart, press, 2)
    assert suspect(written(tmp_path, "good.txt", good), "--prior", prior) == (0, {"rows": []})
    for slip, kind in (
        (lambda s: s[::-1], "backwards"),
        (lambda s: np.vstack([s[:6], s[7:], s[-1:]]), "shifted"),
        (lambda s: good.spectra[rows_of(good)[2]], "other row"),
    ):
        bad = written(tmp_path, "bad.txt", misread(good, 3, slip))
        status, facts = suspect(bad, "--prior", prior)
        assert status == 1
        assert [(r["row"], r["sheet"], r["kind"]) for r in facts["rows"]] == [(3, 1, kind)]
        assert 0.5 < facts["rows"][0]["confidence"] <= 1.0


def test_the_command_holds_a_large_chart_to_itself(tmp_path: Path) -> None:
    chart, _ = lay_out(patches.profile_patches(500, 2.8), CMYK, shuffle_seed=3)
    good = print_and_read(chart, press_by_name("petrel-44"), 2)
    assert suspect(written(tmp_path, "good.txt", good))[0] == 0
    late = misread(good, 11, lambda s: np.vstack([s[:6], s[7:], s[-1:]]))
    status, facts = suspect(written(tmp_path, "late.txt", late))
    assert status == 1 and [r["row"] for r in facts["rows"]] == [11]
    assert set(facts["rows"][0]) == {"row", "sheet", "kind", "confidence"}


def test_the_command_refuses_what_has_no_places(tmp_path: Path) -> None:
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    bare = replace(print_and_read(chart, press_by_name(PRESS), 1), rows=None, columns=None, sheets=None)
    done = CliRunner().invoke(main, ["suspect", written(tmp_path, "bare.txt", bare)])
    assert done.exit_code == 2 and "no SHEET, ROW and COLUMN fields" in done.stderr
