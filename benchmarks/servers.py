"""SQLite and PostgreSQL side by side under load, and processes killed: `python -m benchmarks.servers`.

PostgreSQL is started on a free port from Debian's package, in a folder of its own.
"""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import requests

from benchmarks.report import report
from tests.conftest import PEOPLE_AND_MACHINES, run_in
from tests.servers.conftest import Postgres, Shop

#: people who ask one page after another without a pause, and for how many seconds
_EAGER, _SECONDS = 12, 20
_SITES = """
import django; django.setup()
from collections import Counter
from greyanchor.accounts.models import Site
import json
print(json.dumps(Counter(Site.objects.values_list("name", flat=True))))
"""
_CROWD = """
import os, sys
import django; django.setup()
from pathlib import Path
from benchmarks import library, report
library._crowd(Path(os.environ["GREYANCHOR_HOME"]))
"""
#: makes a large library
GROW = """
import django; django.setup()
from greyanchor.operations import tables
tables.bring_up_to_date()
from benchmarks import library
library._grow()
"""


def run() -> None:
    """Both databases under load, then processes killed."""
    with tempfile.TemporaryDirectory(prefix="servers-") as folder:
        postgres = Postgres(_open(Path(folder) / "postgres"))
        postgres.make()
        try:
            load(Path(folder), postgres)
            kills(Path(folder), postgres, 20)
        finally:
            postgres.stop("immediate")


def _open(folder: Path) -> Path:
    folder.parent.chmod(0o755)
    folder.mkdir()
    return folder


def load(folder: Path, postgres: Postgres) -> None:
    """A large library in both, with people who look and save, and people who never pause."""
    home = folder / "large"
    home.mkdir()
    sqlite = Shop(home)
    sqlite.run(GROW)
    url = postgres.database("large")
    began = time.perf_counter()
    done = sqlite.command("move", "--to", url)
    assert done.returncode == 0, done.stderr[-2000:]
    print(f"\nMoved to PostgreSQL in {time.perf_counter() - began:.0f} s: {done.stdout.split('.')[0]}")
    rates = {}
    for name, shop in (
        ("SQLite, one web process", sqlite),
        ("PostgreSQL, two web processes", Shop(home, DATABASE_URL=url, GREYANCHOR_WEB_PROCESSES="2")),
    ):
        print(f"\n{name}")
        shown = subprocess.run(
            [sys.executable, "-c", _CROWD], env=shop.environment, capture_output=True, text=True
        )
        print(shown.stdout.rstrip() or shown.stderr[-2000:])
        rates[name] = _throughput(shop)
        report("pages a second without a pause", rates[name], float("inf"), "1/s")
    one, two = rates.values()
    report("throughput of SQLite over PostgreSQL's", one / two, 1 / 1.7, "")


def signed_in(shop: Shop) -> requests.Session:
    """Somebody who may do everything, at the shop's pages."""
    visitor = requests.Session()
    page = visitor.get(f"{shop.url}/sign-in/", timeout=60).text
    visitor.post(
        f"{shop.url}/sign-in/",
        data={"csrfmiddlewaretoken": _token(page), "username": "ines", "password": "quay-street-1"},
        timeout=60,
    )
    return visitor


def _token(page: str) -> str:
    found = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)
    assert found is not None, page[:300]
    return found[1]


def _throughput(shop: Shop) -> float:
    shop.start()
    try:
        time.sleep(10)  # the library is read into memory meanwhile
        cookies = signed_in(shop).cookies
        counts, until = [0] * _EAGER, time.time() + _SECONDS
        threads = [
            threading.Thread(target=_eager, args=(shop, cookies, i, counts, until)) for i in range(_EAGER)
        ]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        return sum(counts) / _SECONDS
    finally:
        shop.stop()


def _eager(shop: Shop, cookies: Any, number: int, counts: list[int], until: float) -> None:
    chance, visitor = random.Random(number), requests.Session()
    visitor.cookies.update(cookies)
    while time.time() < until:
        mode = f"/modes/{chance.randrange(50, 9000)}/"
        path = chance.choice(("/modes/?state=released&passes=8", mode, "/media/"))
        answer = visitor.get(f"{shop.url}{path}", timeout=60)
        assert answer.status_code == 200, f"{path}: {answer.status_code}"
        counts[number] += 1


# --- killed ----------------------------------------------------------------------------------


def kills(folder: Path, postgres: Postgres, cycles: int) -> None:
    """kill -9 of web, worker or database in the middle of writing: what was acknowledged is there, once."""
    plain = folder / "plain"
    plain.mkdir(exist_ok=True)
    made = run_in(plain, "-c", PEOPLE_AND_MACHINES)
    assert made.returncode == 0, made.stderr
    url = postgres.database("killed")
    assert Shop(plain).command("move", "--to", url).returncode == 0
    for name, settings in (("SQLite", {}), ("PostgreSQL", {"DATABASE_URL": url})):
        home = folder / f"killed-{name}"
        shutil.copytree(plain, home)
        shop = Shop(home, GREYANCHOR_LOG_LEVEL="ERROR", **settings)
        print(f"\n{cycles} kills of web, worker and database, on {name}")
        _cycles(shop, postgres if settings else None, cycles)


def _cycles(shop: Shop, postgres: Postgres | None, cycles: int) -> None:
    """Only what was killed is started again: the shop by hand, a worker by the shop, a database by hand."""
    chance, kept, starts, failed = random.Random(5), [], [], 0
    victims = ["web", "worker", *(["database"] if postgres else [])]
    shop.start()
    for cycle in range(cycles):
        victim = chance.choice(victims)
        _write_and_kill(shop, postgres, victim, cycle, chance.uniform(0.1, 0.8), kept)
        if victim == "web":
            began = time.perf_counter()
            try:
                shop.kill()
                shop.start()
            except (RuntimeError, OSError):
                failed += 1
            starts.append(time.perf_counter() - began)
        if cycle % 50 == 49:
            print(f"  {cycle + 1} cycles, {len(kept)} edits", flush=True)
    found = json.loads(shop.run(_SITES))
    shop.kill()
    report("acknowledged edits", len(kept), float("inf"), "")
    report("of them lost", sum(1 for name in kept if name not in found), 0.0, "")
    report("there twice", sum(1 for n in found.values() if n > 1), 0.0, "")
    report("starts that failed", failed, 0.0, "")
    report("start, median", float(np.median(starts)), 3.0, "s")
    report("start, 95th percentile", float(np.percentile(starts, 95)), 3.0, "s")


def _write_and_kill(
    shop: Shop, postgres: Postgres | None, victim: str, cycle: int, after: float, kept: list[str]
) -> None:
    """Write as fast as it goes; the victim is killed `after` so many seconds of it."""
    visitor = signed_in(shop)
    token = _token(visitor.get(f"{shop.url}/account/", timeout=60).text)
    killer = threading.Timer(after, _kill, (shop, postgres, victim))
    killer.start()
    until = time.time() + 1.0
    number = 0
    while time.time() < until:
        name, number = f"kill {cycle} edit {number}", number + 1
        try:
            answer = visitor.post(
                f"{shop.url}/shop/sites/add/", data={"csrfmiddlewaretoken": token, "name": name}, timeout=20,
                allow_redirects=False,
            )  # fmt: skip
        except requests.RequestException:
            break
        if answer.status_code == 302:
            kept.append(name)
    killer.join()
    if postgres is not None:
        _again(postgres)


def _kill(shop: Shop, postgres: Postgres | None, victim: str) -> None:
    if victim == "database":
        assert postgres is not None
        pid = int((postgres.folder / "data" / "postmaster.pid").read_text().split()[0])
        os.kill(pid, signal.SIGKILL)
        return
    assert shop.process is not None
    if victim == "web":
        os.kill(shop.process.pid, signal.SIGKILL)
        return
    rows = subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout.splitlines()
    for pid, parent, args in (line.split(None, 2) for line in rows):
        if parent == str(shop.process.pid) and "greyanchor.cli worker" in args:
            os.kill(int(pid), signal.SIGKILL)


def _again(postgres: Postgres) -> None:
    """Start the database where it was killed; its own recovery does the rest."""
    for _ in range(30):
        try:
            postgres.start()
            return
        except subprocess.CalledProcessError:
            if (postgres.folder / "data" / "postmaster.pid").exists():
                pid = int((postgres.folder / "data" / "postmaster.pid").read_text().split()[0])
                if _runs(pid):
                    return
                (postgres.folder / "data" / "postmaster.pid").unlink()
            time.sleep(1)


def _runs(pid: int) -> bool:
    """Whether a process runs; one that is dead and was not cleared away does not."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


if __name__ == "__main__":
    if len(sys.argv) > 1:  # so many cycles of killing alone
        with tempfile.TemporaryDirectory(prefix="servers-") as folder:
            postgres = Postgres(_open(Path(folder) / "postgres"))
            postgres.make()
            try:
                kills(Path(folder), postgres, int(sys.argv[1]))
            finally:
                postgres.stop("immediate")
    else:
        run()
