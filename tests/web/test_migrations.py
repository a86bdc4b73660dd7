"""Data from before proof was kept in full are brought along: older checks and older builds."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import run_in

OLDER = Path(__file__).parent.parent / "older_data.py"


def test_older_checks_get_seals_and_figures_and_older_builds_their_stage(tmp_path: Path) -> None:
    done = run_in(tmp_path, str(OLDER))
    assert done.stdout.strip() == "brought along", done.stderr[-2000:]
