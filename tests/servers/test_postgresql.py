"""A shop on PostgreSQL and Redis: moved there, backed up, restored, and used by several processes."""

from __future__ import annotations

import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import urllib.error
import urllib.request
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from tests.servers.conftest import Postgres, Shop, wait_for

pytestmark = pytest.mark.slow

PREPARE = """
from greyanchor.operations import processes
processes._django(); processes._prepare()
"""
ROWS = """
import django; django.setup()
from greyanchor.library.models import Media
from greyanchor.accounts.models import Site
print(Site.objects.count(), Media.objects.filter(name="Lost").count())
"""
LOSE = """
import django; django.setup()
from greyanchor.library.models import Media
from greyanchor.accounts.models import Site
Media.objects.filter(name="Harbour Proof Semimatt 235").update(name="Lost")
Site.objects.create(name="Newer")
"""


@pytest.fixture
def shop(moved: Shop, postgres: Postgres, tmp_path: Path) -> Shop:
    """A copy of the moved shop, database and all."""
    name = f"shop{abs(hash(tmp_path)) % 10**8}"
    url = postgres.database(name)
    home = tmp_path / "home"
    shutil.copytree(moved.home, home)
    dumped = subprocess.run(["pg_dump", moved.environment["DATABASE_URL"]], capture_output=True, check=True)
    subprocess.run(["psql", "-q", url], input=dumped.stdout, capture_output=True, check=True)
    return Shop(home, DATABASE_URL=url)


def test_processes_that_start_together_make_the_tables_once(postgres: Postgres, tmp_path: Path) -> None:
    shop = Shop(tmp_path, DATABASE_URL=postgres.database("together"))
    started = [
        subprocess.Popen([sys.executable, "-c", PREPARE], env=shop.environment, stderr=subprocess.PIPE)
        for _ in range(3)
    ]
    for process in started:
        said = process.communicate()[1].decode()
        assert process.returncode == 0, said[-2000:]
    asked = "from django.db import connection as c\nk = c.cursor()\n"
    asked += "k.execute('SELECT count(*), count(DISTINCT (app, name)) FROM django_migrations')"
    made, different = eval(shop.run(f"import django; django.setup()\n{asked}\nprint(k.fetchone())"))
    assert made == different > 80


def test_a_shop_that_was_moved_has_every_value(moved: Shop, served_home: Path) -> None:
    with closing(sqlite3.connect(served_home / "greyanchor.sqlite3")) as opened:
        tables = [r[0] for r in opened.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        here = {t: opened.execute(f'SELECT count(*) FROM "{t}"').fetchone()[0] for t in tables}
        names = sorted(r[0] for r in opened.execute("SELECT name FROM library_media"))
    asked = subprocess.run(
        ["psql", "-At", moved.environment["DATABASE_URL"], "-c", "SELECT name FROM library_media"],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    assert sorted(asked.splitlines()) == names and len(names) > 5
    for table, count in here.items():
        if table.startswith(("library_", "profiles_", "auth_", "measuring_")):
            found = subprocess.run(
                ["psql", "-At", moved.environment["DATABASE_URL"], "-c", f'SELECT count(*) FROM "{table}"'],
                capture_output=True, text=True, check=True,
            ).stdout  # fmt: skip
            assert int(found) == count, table
    # numbering goes on behind what was copied
    moved.run(
        "import django; django.setup()\nfrom greyanchor.accounts.models import Site\n"
        "Site.objects.create(name='Next').delete()"
    )


def test_what_does_not_fit_is_named_and_nothing_is_kept(
    postgres: Postgres, served_home: Path, tmp_path: Path
) -> None:
    home = tmp_path / "home"
    shutil.copytree(served_home, home)
    with closing(sqlite3.connect(home / "greyanchor.sqlite3")) as opened, opened:
        opened.execute("UPDATE library_media SET name = 'a' || char(0) || 'b' WHERE id = 2")
    url = postgres.database("unfit")
    done = Shop(home).command("move", "--to", url)
    assert done.returncode == 2 and "row 2 of library_media does not fit" in done.stderr, done.stderr
    people = ["psql", "-At", url, "-c", "SELECT count(*) FROM auth_user"]
    assert subprocess.run(people, capture_output=True, text=True).stdout.strip() == "0"


def test_a_move_onto_a_shop_or_to_nowhere_is_refused(moved: Shop, served_home: Path, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(served_home, home)
    for url, said in (
        (moved.environment["DATABASE_URL"], "holds a shop with"),
        ("postgres://shop@127.0.0.1:1/none", "does not answer"),
        ("nonsense", "is no address of a database"),
        (f"sqlite:///{home / 'greyanchor.sqlite3'}", "in already"),
    ):
        done = Shop(home).command("move", "--to", url)
        assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr, done.stderr


def test_a_backup_of_a_server_is_verified_and_brings_everything_back(shop: Shop, tmp_path: Path) -> None:
    made = shop.command("backup", str(tmp_path / "all.zip"))
    assert made.returncode == 0 and "verified" in made.stdout, made.stderr
    before = shop.run(ROWS).split()
    shop.run(LOSE)
    back = shop.command("restore", str(tmp_path / "all.zip"))
    assert back.returncode == 0 and "what was here is kept in" in back.stdout, back.stderr
    assert shop.run(ROWS).split() == before and before[1] == "0"


def test_a_harmed_backup_of_a_server_changes_nothing(shop: Shop, tmp_path: Path) -> None:
    shop.command("backup", str(tmp_path / "all.zip"))
    shop.run(LOSE)
    now = shop.run(ROWS)
    with zipfile.ZipFile(tmp_path / "all.zip") as archive:
        files = {n: archive.read(n) for n in archive.namelist()}
    counted = files["backup.json"].replace(b'"library_media": ', b'"library_media": 1')
    for name, manifest, said in (("counted.zip", counted, "other rows than the backup says"),):
        with zipfile.ZipFile(tmp_path / name, "w") as archive:
            for file, data in {**files, "backup.json": manifest}.items():
                archive.writestr(file, data)
        done = shop.command("restore", str(tmp_path / name))
        assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr, done.stderr
        assert shop.run(ROWS) == now


def test_a_backup_of_another_kind_of_database_is_refused(
    shop: Shop, served_home: Path, tmp_path: Path
) -> None:
    plain = tmp_path / "plain"
    shutil.copytree(served_home, plain)
    Shop(plain).command("backup", str(tmp_path / "all.zip"))
    done = shop.command("restore", str(tmp_path / "all.zip"))
    assert done.returncode == 2 and "another kind of database" in done.stderr


LOST_WORK = """
import django; django.setup()
from datetime import timedelta
from django.utils import timezone
from greyanchor.library.models import PackImport
made = PackImport.objects.create(name="lost.zip", path="lost.zip")
PackImport.objects.filter(pk=made.pk).update(heard_at=timezone.now() - timedelta(minutes=1))
print(made.pk)
"""
STATE = """
import django; django.setup()
from greyanchor.library.models import PackImport
print(PackImport.objects.get(name="lost.zip").state)
"""


@pytest.fixture
def running(shop: Shop, redis_url: str) -> Iterator[Shop]:
    shop.environment |= {"REDIS_URL": redis_url, "GREYANCHOR_WEB_PROCESSES": "2"}
    shop.start()
    yield shop
    if shop.process is not None and shop.process.poll() is None:
        shop.stop()


def test_two_web_processes_answer_and_one_that_dies_is_started_again(running: Shop) -> None:
    def others() -> list[int]:
        found = subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout
        rows = [line.split(None, 2) for line in found.splitlines()]
        assert running.process is not None
        return [int(r[0]) for r in rows if r[1] == str(running.process.pid) and "greyanchor.cli web" in r[2]]

    (first,) = others()
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: others() not in ([], [first]))
    for _ in range(20):
        with urllib.request.urlopen(f"{running.url}/readyz", timeout=20) as answer:
            assert answer.status == 200 and b'"ready": true' in answer.read()
    time.sleep(6)  # each process says what it answered every five seconds
    for _ in range(4):
        urllib.request.urlopen(f"{running.url}/healthz", timeout=20).close()
    with urllib.request.urlopen(f"{running.url}/metrics", timeout=20) as answer:
        found = re.search(r'requests_total\{status="2xx"\} (\d+)', answer.read().decode())
    assert found is not None and int(found[1]) >= 20, "whichever process is asked says it of all"


def test_the_database_server_dies_and_comes_back(running: Shop, postgres: Postgres) -> None:
    def state() -> int:
        try:
            with urllib.request.urlopen(f"{running.url}/readyz", timeout=20) as answer:
                return int(answer.status)
        except urllib.error.HTTPError as error:
            return int(error.code)

    assert state() == 200
    postgres.stop("immediate")
    try:
        assert state() == 503
        with urllib.request.urlopen(f"{running.url}/healthz", timeout=20) as answer:
            assert answer.status == 200
        with pytest.raises(urllib.error.HTTPError) as refused:
            urllib.request.urlopen(f"{running.url}/sign-in/", timeout=20)
        page = refused.value.read().decode()
        assert (
            refused.value.code == 503 and "The database cannot be reached" in page and "Grey Anchor" in page
        )
    finally:
        postgres.start()
    wait_for(lambda: state() == 200)
    assert running.process is not None and running.process.poll() is None


def test_work_that_the_queue_lost_is_found_and_done(running: Shop) -> None:
    running.run(LOST_WORK)
    wait_for(lambda: running.run(STATE).strip() not in ("queued", "running"))
    assert running.run(STATE).strip() == "failed", "there is no such file, which the worker found out"
