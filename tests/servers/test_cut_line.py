"""Two sites on two hosts of their own (network namespaces), and the line between them cut."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
import requests

from tests.servers.conftest import Postgres, Shop, wait_for

pytestmark = pytest.mark.slow

MAIN, SITE = "10.89.7.1", "10.89.7.2"
ASK = """
import json, sys, requests
url, cookies, data = json.loads(sys.argv[1])
answer = (requests.post if data is not None else requests.get)(
    url, cookies=cookies, data=data, timeout=60, allow_redirects=False)
print(json.dumps([answer.status_code, answer.text, dict(answer.cookies), dict(answer.headers)]))
"""


@dataclass
class Answer:
    status: int
    text: str
    cookies: dict[str, str]
    headers: dict[str, str]


@dataclass
class OtherHost:
    """A host of its own at the other end of a line."""

    name: str
    line: str

    def run(self, *command: str, **more: Any) -> subprocess.CompletedProcess[str]:
        return subprocess.run(["ip", "netns", "exec", self.name, *command], text=True, **more)

    def ask(
        self, url: str, cookies: dict[str, str] | None = None, data: dict[str, str] | None = None
    ) -> Answer:
        """What somebody at that host is answered by a program there."""
        sent = json.dumps([url, cookies or {}, data])
        done = self.run(sys.executable, "-c", ASK, sent, capture_output=True)
        assert done.returncode == 0, done.stderr[-2000:]
        return Answer(*json.loads(done.stdout))

    def cut(self) -> None:
        subprocess.run(["ip", "link", "set", self.line, "down"], check=True)

    def mend(self) -> None:
        subprocess.run(["ip", "link", "set", self.line, "up"], check=True)


@pytest.fixture(scope="module")
def other_host() -> Iterator[OtherHost]:
    if os.getuid() != 0 or shutil.which("ip") is None:
        pytest.skip("hosts of their own take root and iproute2")
    made = OtherHost(f"site{os.getpid()}", f"ga{os.getpid() % 10**6}")

    def ip(*command: str) -> int:
        return subprocess.run(["ip", *command], capture_output=True).returncode

    if ip("netns", "add", made.name):
        pytest.skip("no network namespace can be made here")
    ip("link", "add", made.line, "type", "veth", "peer", "name", "up0", "netns", made.name)
    ip("addr", "add", f"{MAIN}/24", "dev", made.line)
    ip("link", "set", made.line, "up")
    for command in (("addr", "add", f"{SITE}/24", "dev", "up0"), ("link", "set", "up0", "up"),
                    ("link", "set", "lo", "up")):  # fmt: skip
        ip("-n", made.name, *command)
    yield made
    ip("link", "del", made.line)
    ip("netns", "del", made.name)


class Node(Shop):
    """A site's own processes on its own host."""

    def __init__(self, home: Path, host: OtherHost, **settings: str) -> None:
        super().__init__(home, **settings)
        self.host = host

    def start(self) -> None:
        command = ["ip", "netns", "exec", self.host.name, sys.executable, "-m", "greyanchor.cli", "serve",
                   "--port", str(self.port)]  # fmt: skip
        self.process = subprocess.Popen(command, env=self.environment, start_new_session=True)
        wait_for(lambda: self._answers())

    def _answers(self) -> bool:
        command = [sys.executable, "-c", f"import urllib.request as u; u.urlopen('{self.url}/healthz')"]
        return self.host.run(*command, capture_output=True).returncode == 0


@pytest.fixture(scope="module")
def sites(
    moved: Shop, postgres: Postgres, other_host: OtherHost, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Shop, Node]]:
    """The main shop beside its database, and the node of another site at the end of the line."""
    folder = tmp_path_factory.mktemp("sites")
    url = postgres.database("sites")
    dumped = subprocess.run(["pg_dump", moved.environment["DATABASE_URL"]], capture_output=True, check=True)
    subprocess.run(["psql", "-q", url], input=dumped.stdout, capture_output=True, check=True)
    postgres.listen_at(MAIN)
    for name in ("main", "site"):
        shutil.copytree(moved.home, folder / name)
    main = Shop(folder / "main", DATABASE_URL=url)
    node = Node(
        folder / "site", other_host, DATABASE_URL=url.replace("127.0.0.1", MAIN), GREYANCHOR_COPY="0.05",
        SECRET_KEY=(folder / "main" / "secret.key").read_text(),
    )  # fmt: skip
    main.start()
    node.start()
    yield main, node
    main.stop()
    node.stop()


def _token(page: str) -> str:
    found = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)
    assert found is not None, page[:500]
    return found[1]


def _signed_in(url: str, ask: Callable[..., Answer]) -> dict[str, str]:
    page = ask(f"{url}/sign-in/")
    data = {"csrfmiddlewaretoken": _token(page.text), "username": "ines", "password": "quay-street-1"}
    answer = ask(f"{url}/sign-in/", page.cookies, data)
    assert answer.status == 302, answer.text[:500]
    return {**page.cookies, **answer.cookies}


def _here(url: str, cookies: dict[str, str] | None = None, data: dict[str, str] | None = None) -> Answer:
    sent = (requests.post if data is not None else requests.get)(
        url, cookies=cookies, data=data, timeout=60, allow_redirects=False
    )
    return Answer(sent.status_code, sent.text, dict(sent.cookies), dict(sent.headers))


def _add_site(url: str, cookies: dict[str, str], name: str, ask: Callable[..., Answer]) -> Answer:
    token = _token(ask(f"{url}/account/", cookies).text)
    return ask(f"{url}/shop/sites/add/", cookies, {"csrfmiddlewaretoken": token, "name": name})


def test_a_cut_line_leaves_the_copy_and_nothing_is_lost(
    sites: tuple[Shop, Node], other_host: OtherHost
) -> None:
    main, node = sites
    at_main = _signed_in(main.url, _here)
    at_site = _signed_in(node.url, other_host.ask)
    assert _add_site(node.url, at_site, "Made at the site", other_host.ask).status == 302
    assert "Made at the site" in _here(f"{main.url}/shop/", at_main).text
    copy = node.home / "copy.sqlite3"
    wait_for(lambda: copy.exists() and b"Made at the site" in copy.read_bytes())

    other_host.cut()
    try:
        page = other_host.ask(f"{node.url}/shop/", at_site)
        assert page.status == 200 and "has been cut since" in page.text and "Made at the site" in page.text
        assert page.headers["Cache-Control"] == "no-store"
        for address in ("/", "/media/", "/modes/", "/profiles/", "/checks/", "/printers/"):
            found = other_host.ask(f"{node.url}{address}", at_site)
            assert found.status == 200 and "to be read alone" in found.text, address
        token = _token(page.text)
        data = {"csrfmiddlewaretoken": token, "name": "Lost at the site"}
        refused = other_host.ask(f"{node.url}/shop/sites/add/", at_site, data)
        assert refused.status == 503 and "Nothing was changed" in refused.text
        assert other_host.ask(f"{node.url}/healthz").status == 200
        assert other_host.ask(f"{node.url}/readyz").status == 503
        # the main shop works on, and what is done there arrives once the line is back
        assert _add_site(main.url, at_main, "Made at the main shop", _here).status == 302
        assert "Made at the main shop" not in other_host.ask(f"{node.url}/shop/", at_site).text
    finally:
        other_host.mend()

    wait_for(lambda: "has been cut" not in other_host.ask(f"{node.url}/shop/", at_site).text)
    assert "Made at the main shop" in other_host.ask(f"{node.url}/shop/", at_site).text
    assert _add_site(node.url, at_site, "After the cut", other_host.ask).status == 302
    shop = _here(f"{main.url}/shop/", at_main).text
    assert "After the cut" in shop and "Lost at the site" not in shop


def test_a_node_starts_while_the_line_is_cut(sites: tuple[Shop, Node], other_host: OtherHost) -> None:
    _, node = sites
    wait_for(lambda: "is cut" not in other_host.ask(f"{node.url}/sign-in/").text)
    at_site = _signed_in(node.url, other_host.ask)
    copy = node.home / "copy.sqlite3"
    session = at_site["sessionid"].encode()
    wait_for(lambda: session in copy.read_bytes())
    node.stop()
    other_host.cut()
    try:
        node.start()
        page = other_host.ask(f"{node.url}/media/", at_site)
        assert page.status == 200 and "has been cut" in page.text and "Harbour Proof" in page.text
    finally:
        other_host.mend()
    wait_for(lambda: "has been cut" not in other_host.ask(f"{node.url}/media/", at_site).text)
