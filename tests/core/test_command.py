"""The command as the contract has it: outputs, exit status, one line on standard error."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner, Result

from greyanchor.cli import main
from greyanchor.core.formats import cgats

ROOT = Path(__file__).parents[2]


def run(*arguments: str) -> Result:
    return CliRunner().invoke(main, list(arguments), catch_exceptions=False)


@pytest.fixture(scope="module")
def work(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("work")
    for purpose, patches in (
        ("ink-limit", ""),
        ("linearization", ""),
        ("profile", "350"),
        ("control-strip", ""),
    ):
        arguments = ["chart", "--purpose", purpose, "-o", str(folder / f"{purpose}.txt")]
        assert run(*arguments, *(["--patches", patches] if patches else [])).exit_code == 0
    for name, reading in (("ink-limit", 1), ("linearization", 1), ("profile", 1), ("control-strip", 1)):
        assert (
            run(
                "simulate",
                str(folder / f"{name}.txt"),
                "-o",
                str(folder / f"{name}-r.txt"),
                "--reading",
                str(reading),
            ).exit_code
            == 0
        )
    assert (
        run(
            "simulate", str(folder / "profile.txt"), "-o", str(folder / "profile-r2.txt"), "--reading", "2"
        ).exit_code
        == 0
    )
    return folder


def test_ink_limits_as_json(work: Path) -> None:
    done = run("inklimit", str(work / "ink-limit-r.txt"), "--json")
    facts = json.loads(done.stdout)
    assert done.exit_code == 0 and set(facts) == {"limits"} and set(facts["limits"]) == set("CMYK")
    assert all(
        set(v) == {"percent", "reason"} and 40 <= v["percent"] <= 100 and v["reason"]
        for v in facts["limits"].values()
    )


def test_comparing_two_passes_as_json(work: Path) -> None:
    done = run("compare", str(work / "profile-r.txt"), str(work / "profile-r2.txt"), "--json")
    facts = json.loads(done.stdout)
    assert set(facts) == {"mean", "p95", "max", "outliers", "suspect_rows"} and 0 < facts["mean"] < 0.5
    assert facts["suspect_rows"] == []


def test_curves_have_1024_inputs_a_channel_in_percent(work: Path) -> None:
    out = work / "curves.csv"
    assert (
        run(
            "linearize",
            str(work / "linearization-r.txt"),
            "--limits",
            "C=90,M=85",
            "--aim",
            "tvi:13",
            "-o",
            str(out),
        ).exit_code
        == 0
    )
    lines = out.read_text().splitlines()
    assert lines[0] == "channel,input,output" and len(lines) == 1 + 4 * 1024
    table = {
        c: np.array([[float(v) for v in line.split(",")[1:]] for line in lines[1:] if line[0] == c])
        for c in "CMYK"
    }
    assert (
        table["C"][-1].tolist() == [100.0, 90.0] and table["M"][-1, 1] == 85.0 and table["K"][-1, 1] == 100.0
    )
    assert all((np.diff(t[:, 1]) >= 0).all() and t[0, 1] == 0 for t in table.values())


def test_a_profile_and_its_report_and_a_check_against_it(work: Path) -> None:
    icc, report = work / "out.icc", work / "report.json"
    done = run(
        "profile",
        str(work / "profile-r.txt"),
        str(work / "profile-r2.txt"),
        "-o",
        str(icc),
        "--report",
        str(report),
        "--title",
        "T",
    )
    assert done.exit_code == 0
    facts = json.loads(report.read_text())
    assert list(facts) == [
        "patches",
        "seconds",
        "fit",
        "held_out",
        "round_trip",
        "neutral_dch_max",
        "gamut_volume",
    ]
    assert all(set(facts[k]) == {"mean", "p95", "max"} for k in ("fit", "held_out", "round_trip"))
    checked = run(
        "check",
        str(work / "control-strip-r.txt"),
        "--aim",
        str(icc),
        "--tolerances",
        "iso12647-7:2016",
        "--json",
    )
    verdict = json.loads(checked.stdout)
    assert set(verdict) == {"verdict", "tolerances", "patches", "criteria", "worst"}
    assert all(set(c) == {"id", "value", "limit", "verdict"} for c in verdict["criteria"])
    assert [c["id"] for c in verdict["criteria"]] == [
        "substrate",
        "mean",
        "p95",
        "primaries_max",
        "primaries_dh_max",
        "grey_dch_mean",
        "grey_dch_max",
        "outer_gamut_mean",
        "spot_max",
    ]
    assert set(verdict["worst"][0]) == {"id", "difference"}
    assert checked.exit_code == (0 if verdict["verdict"] == "pass" else 1)
    seen = json.loads(run("inspect", str(icc), "--json").stdout)
    assert seen["kind"] == "profile" and seen["description"] == "T" and len(seen["tables"]) == 7


def test_a_raw_print_fails_the_coated_aim_with_status_1(work: Path) -> None:
    done = run("check", str(work / "control-strip-r.txt"), "--aim", "generic-coated")
    assert done.exit_code == 1 and "FAIL" in done.stdout


def test_inspect_says_what_readings_hold(work: Path) -> None:
    facts = json.loads(run("inspect", str(work / "profile-r.txt"), "--json").stdout)
    assert (
        facts["kind"] == "readings"
        and facts["values"] == "spectra"
        and facts["patches"] == 350
        and facts["condition"] == "M1"
    )
    assert json.loads(run("inspect", str(work / "profile.txt"), "--json").stdout)["kind"] == "chart"


def test_the_same_seed_gives_the_same_file(work: Path) -> None:
    for name in ("a", "b"):
        run("simulate", str(work / "ink-limit.txt"), "--seed", "7", "-o", str(work / name))
    assert (work / "a").read_bytes() == (work / "b").read_bytes()


def bad_files(folder: Path) -> dict[str, Path]:
    whole = (folder / "ink-limit-r.txt").read_text()
    made = {
        "empty": "",
        "cut": whole[: len(whole) // 2],
        "nan": re.sub(r"(?m)^(1-3\t.*)\t\S+$", r"\1\tnan", whole),
        "range": re.sub(r"(?m)^(1-3\t.*)\t\S+$", r"\1\t77", whole),
        "words": "Dear technician,\nplease find the readings attached.\n",
        "count": whole.replace("NUMBER_OF_SETS\t88", "NUMBER_OF_SETS\t99"),
    }
    paths = {}
    for name, text in made.items():
        paths[name] = folder / f"bad-{name}.txt"
        paths[name].write_text(text)
    paths["binary"] = folder / "bad-binary.txt"
    paths["binary"].write_bytes(bytes(range(256)) * 20)
    paths["none"] = folder / "bad-none.txt"
    return paths


@pytest.mark.parametrize("name", ["empty", "cut", "nan", "range", "words", "count", "binary", "none"])
@pytest.mark.parametrize("command", ["inklimit", "linearize", "profile", "check", "compare", "inspect"])
def test_a_bad_file_ends_with_status_2_and_one_line_that_names_it(
    work: Path, name: str, command: str
) -> None:
    path = bad_files(work)[name]
    out = work / "never"
    extra = {
        "linearize": ["-o", str(out)],
        "profile": ["-o", str(out)],
        "check": ["--aim", "generic-coated"],
        "compare": [str(work / "ink-limit-r.txt")],
    }.get(command, [])
    done = run(command, str(path), *extra)
    assert done.exit_code == 2 and done.stdout == "" and not out.exists()
    assert done.stderr.count("\n") == 1 and path.name in done.stderr
    if name in ("nan", "range", "cut"):
        assert re.search(r"line \d+", done.stderr)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["chart", "--purpose", "poster", "-o", "x"], "poster"),
        (["chart", "--purpose", "profile", "--page", "a99", "-o", "x"], "a99"),
        (["chart", "--purpose", "profile", "--patches", "10", "-o", "x"], "too few"),
        (["inklimit", "{r}"], "M has"),
        (["linearize", "{il}", "--aim", "odd", "-o", "x"], "odd"),
        (["linearize", "{il}", "--limits", "C=900", "-o", "x"], "C=900"),
        (["simulate", "{c}", "--printer", "heron", "-o", "x"], "heron"),
        (["profile", "{il}", "-o", "x", "--light", "moon"], "moon"),
        (["profile", "{p}", "-o", "x", "--total-ink", "900"], "total ink"),
        (["profile", "{p}", "{il}", "-o", "x"], "not of one chart"),
        (["check", "{s}", "--aim", "generic-coated", "--tolerances", "vague"], "vague"),
        (["check", "{p}", "--aim", "generic-coated"], "no value for"),
        (["check", "{c}", "--aim", "generic-coated"], "no measured values"),
        (["convert", "{il}", "x"], "names no format"),
    ],
)
def test_options_and_files_that_do_not_fit_end_with_status_2(
    work: Path, arguments: list[str], words: str, tmp_path: Path
) -> None:
    one_channel = tmp_path / "one.txt"
    readings = cgats.read(work / "ink-limit-r.txt")
    cgats.write(readings.select(readings.device[:, 1:].max(axis=1) == 0), one_channel)
    names = {
        "r": one_channel,
        "il": work / "ink-limit-r.txt",
        "c": work / "ink-limit.txt",
        "p": work / "profile-r.txt",
        "s": work / "control-strip-r.txt",
    }
    filled = [a.format(**names) if a != "x" else str(tmp_path / "x") for a in arguments]
    done = run(*filled)
    assert done.exit_code == 2 and words in done.stderr and not (tmp_path / "x").exists()


def test_the_command_starts_without_what_it_does_not_use(tmp_path: Path) -> None:
    code = (
        "import sys, greyanchor.cli; print(sorted(m for m in ('django', 'colour', 'scipy', 'numpy') if m "
        "in sys.modules))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


@pytest.mark.slow
def test_the_tour_on_files_runs_as_written(tmp_path: Path) -> None:
    script = "\n".join(re.findall(r"```sh\n(.*?)```", (ROOT / "docs" / "tour.md").read_text(), re.S))
    assert script.count("greyanchor ") >= 12
    path = f"{Path(sys.executable).parent}:/usr/bin:/bin"
    done = subprocess.run(
        ["sh", "-eu", "-c", script],
        cwd=tmp_path,
        env={"PATH": path},
        capture_output=True,
        text=True,
        timeout=900,
    )
    assert done.returncode == 0, done.stderr
    assert "PASS  ISO 12647-7:2016" in done.stdout
    assert {p.name for p in tmp_path.iterdir()} >= {"proof.icc", "curves.csv", "profile-chart.pdf"}
