"""Real servers from Debian's packages, on loopback, each with a folder of its own."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from tests.browser.conftest import Server, browser, page  # noqa: F401  the browser, for nginx

_VERSIONS = Path("/usr/lib/postgresql")
HERE = "127.0.0.1"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HERE, 0))
        return int(probe.getsockname()[1])


def wait_for(what: Callable[[], bool], seconds: float = 120.0) -> None:
    """Look every tenth of a second until it is so."""
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, f"not within {seconds:g} s"
        time.sleep(0.1)


def answers(port: int) -> bool:
    with socket.socket() as probe:
        probe.settimeout(1)
        return probe.connect_ex((HERE, port)) == 0


@dataclass
class Postgres:
    """A PostgreSQL server; it does not run as root, so it runs as Debian's user of that name."""

    folder: Path
    port: int = field(default_factory=free_port)
    hosts: str = HERE

    @property
    def _programs(self) -> Path:
        return max(_VERSIONS.glob("*/bin"), key=lambda p: float(p.parent.name))

    def _as_its_user(self, *command: str) -> None:
        owner = pwd.getpwnam("postgres").pw_uid if os.getuid() == 0 else os.getuid()
        subprocess.run([str(self._programs / command[0]), *command[1:]], user=owner, cwd="/", check=True,
                       stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip

    def make(self) -> None:
        if os.getuid() == 0:
            shutil.chown(self.folder, "postgres")
        data = str(self.folder / "data")
        self._as_its_user("initdb", "-D", data, "-A", "trust", "-U", "shop", "--encoding=UTF8", "--locale=C")
        self.start()

    def start(self) -> None:
        options = f"-p {self.port} -k {self.folder} -h {self.hosts}"
        self._as_its_user("pg_ctl", "-D", str(self.folder / "data"), "-o", options, "-l",
                          str(self.folder / "log"), "-w", "start")  # fmt: skip

    def stop(self, how: str = "fast") -> None:
        self._as_its_user("pg_ctl", "-D", str(self.folder / "data"), "-m", how, "-w", "stop")

    def listen_at(self, address: str) -> None:
        """Listen at a further address, to whom reaches it."""
        with (self.folder / "data" / "pg_hba.conf").open("a") as rules:
            rules.write(f"host all all {address}/24 trust\n")
        self.hosts = f"{HERE},{address}"
        self.stop()
        self.start()

    def database(self, name: str) -> str:
        """Make an empty database; its address."""
        self._as_its_user("createdb", "-h", HERE, "-p", str(self.port), "-U", "shop", name)
        return f"postgres://shop@{HERE}:{self.port}/{name}"


@pytest.fixture(scope="session")
def postgres() -> Iterator[Postgres]:
    if not list(_VERSIONS.glob("*/bin/initdb")):
        pytest.skip("PostgreSQL is not installed (Debian: postgresql)")
    # not among the other folders of the tests, which its user may not enter
    with tempfile.TemporaryDirectory(prefix="postgres-") as folder:
        made = Postgres(Path(folder))
        made.make()
        yield made
        made.stop("immediate")


@pytest.fixture(scope="session")
def redis_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    if shutil.which("redis-server") is None:
        pytest.skip("Redis is not installed (Debian: redis-server)")
    port = free_port()
    command = ["redis-server", "--port", str(port), "--bind", HERE, "--save", "", "--dir",
               str(tmp_path_factory.mktemp("redis"))]  # fmt: skip
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    wait_for(lambda: answers(port))
    yield f"redis://{HERE}:{port}/0"
    running.kill()
    running.wait()


class Shop(Server):
    """A shop's own processes, with other settings than the plain ones."""

    def __init__(self, home: Path, **settings: str) -> None:
        super().__init__(home)
        self.environment |= {"GREYANCHOR_WEB_PROCESSES": "1", **settings}

    def command(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """Run a command of the product in this shop."""
        command = [sys.executable, "-m", "greyanchor.cli", *arguments]
        return subprocess.run(command, env=self.environment, capture_output=True, text=True, cwd=self.home)


@pytest.fixture(scope="session")
def moved(postgres: Postgres, served_home: Path, tmp_path_factory: pytest.TempPathFactory) -> Shop:
    """The plain shop, moved to PostgreSQL; tests begin with copies of its database."""
    home = tmp_path_factory.mktemp("moved") / "home"
    shutil.copytree(served_home, home)
    url = postgres.database("moved")
    done = Shop(home).command("move", "--to", url)
    assert done.returncode == 0, done.stderr[-3000:]
    assert "every value compared" in done.stdout
    return Shop(home, DATABASE_URL=url)
