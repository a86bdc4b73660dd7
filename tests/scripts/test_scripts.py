"""The scripts of the pages compute what they should; run by the Node that the browser driver brings."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from playwright._impl._driver import compute_driver_executable

HERE = Path(__file__).parent


@pytest.mark.parametrize("file", sorted(p.name for p in HERE.glob("*.test.mjs")))
def test_scripts(file: str) -> None:
    node = compute_driver_executable()[0]
    done = subprocess.run([node, "--test", str(HERE / file)], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-1000:]
    assert "\n# pass " in done.stdout or "ℹ pass " in done.stdout, done.stdout
