"""A shop of 5 GB backed up and put back while people ask for its pages: `python -m benchmarks.restoring`."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import threading
import time
from pathlib import Path

import requests

from benchmarks.report import report
from benchmarks.servers import GROW, signed_in
from tests.servers.conftest import Shop

_GIGABYTES = 5.0
_PIECE = 20 * 2**20


def run(gigabytes: float = _GIGABYTES) -> None:
    """Made large, backed up, put back; the longest that a page made somebody wait."""
    with tempfile.TemporaryDirectory(prefix="restoring-") as name:
        home = Path(name) / "home"
        home.mkdir()
        shop = Shop(home, GREYANCHOR_LOG_LEVEL="ERROR")
        shop.run(GROW)
        art = home / "files" / "artwork" / "00"
        art.mkdir(parents=True)
        for i in range(round(gigabytes * 2**30 / _PIECE)):
            (art / f"{i:05d}.tif").write_bytes(os.urandom(_PIECE))
        rows = (home / "greyanchor.sqlite3").stat().st_size / 2**20
        print(f"\nA shop of {gigabytes:g} GB and {rows:.0f} MB of rows")
        began = time.perf_counter()
        made = shop.command("backup", str(Path(name) / "all.zip"))
        assert made.returncode == 0, made.stderr[-2000:]
        report("backup, verified", time.perf_counter() - began, float("inf"), "s")
        shutil.rmtree(art)
        _put_back(shop, Path(name) / "all.zip")
        assert len(list(art.iterdir())) == round(gigabytes * 2**30 / _PIECE)


def _put_back(shop: Shop, source: Path) -> None:
    shop.start()
    try:
        visitor, waits, over = signed_in(shop), list[tuple[float, int]](), threading.Event()
        asking = threading.Thread(target=_ask, args=(shop, visitor, waits, over))
        asking.start()
        began = time.perf_counter()
        done = shop.command("restore", str(source))
        report("restore, verified", time.perf_counter() - began, float("inf"), "s")
        assert done.returncode == 0, done.stderr[-2000:]
        print(f"  {done.stdout.strip()}")
        time.sleep(2)
        over.set()
        asking.join()
        report("longest wait for a page meanwhile", max(w for w, _ in waits), 5.0, "s")
        faults = sum(1 for _, status in waits if status >= 500)
        report("answers that were faults of the server", faults, 0.0, f"of {len(waits)}")
    finally:
        shop.stop()


def _ask(
    shop: Shop, visitor: requests.Session, waits: list[tuple[float, int]], over: threading.Event
) -> None:
    while not over.is_set():
        began = time.perf_counter()
        answer = visitor.get(f"{shop.url}/media/", timeout=120)
        waits.append((time.perf_counter() - began, answer.status_code))
        time.sleep(0.2)


if __name__ == "__main__":
    run(*(float(a) for a in sys.argv[1:]))
