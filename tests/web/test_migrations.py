"""Data of earlier versions are brought along, and the work in them goes on."""

from __future__ import annotations

import lzma
from pathlib import Path

from tests.conftest import run_in

TESTS = Path(__file__).parents[1]


def test_older_checks_get_seals_and_figures_and_older_builds_their_stage(tmp_path: Path) -> None:
    done = run_in(tmp_path, str(TESTS / "older_data.py"))
    assert done.stdout.strip() == "brought along", done.stderr[-2000:]


def test_a_shop_of_0_5_0_opens_and_goes_on_to_release(tmp_path: Path) -> None:
    stored = lzma.decompress((TESTS / "data" / "shop-0.5.0.sqlite3.xz").read_bytes())
    (tmp_path / "greyanchor.sqlite3").write_bytes(stored)
    done = run_in(tmp_path, "-m", "tests.earlier_shop", cwd=TESTS.parent, GREYANCHOR_LOG_LEVEL="ERROR")
    assert done.stdout.startswith("brought along"), done.stderr[-3000:]
