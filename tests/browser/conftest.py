"""The real application in its own processes, and Chromium to use it."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Error, Page, expect, sync_playwright

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--no-first-run",
]

#: milliseconds: a machine with other work to do is slow, not wrong
PATIENCE = 45_000
expect.set_options(timeout=PATIENCE)


def _wait_for_function(
    page: Page, expression: str, *, arg: Any = None, timeout: float | None = None, **_: Any
) -> None:
    """Ask the page until an expression holds. The library's own way makes code within the page, which the
    policy of our pages forbids, as it should.
    """
    end = time.monotonic() + (PATIENCE if timeout is None else timeout) / 1000
    while True:
        try:
            if page.evaluate(expression, arg):
                return
        except Error as error:  # the page went on to another one meanwhile
            if "navigat" not in str(error) and "destroyed" not in str(error):
                raise
        if time.monotonic() > end:
            raise TimeoutError(f"it did not become so: {expression}")
        page.wait_for_timeout(40)


Page.wait_for_function = _wait_for_function  # type: ignore[assignment, method-assign]


class Server:
    """`greyanchor serve` on a free port with a home of its own; can be killed and started again."""

    def __init__(self, home: Path) -> None:
        self.home = home
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        dropped = ("DJANGO_SETTINGS_MODULE", "SECRET_KEY", "PYTHONDONTWRITEBYTECODE")
        kept = {k: v for k, v in os.environ.items() if k not in dropped}
        self.environment = {
            **kept,
            "GREYANCHOR_HOME": str(home),
            "GREYANCHOR_DEMO": "1",
            "DJANGO_SETTINGS_MODULE": "tests.served_settings",
            "PYTHONPATH": str(Path(__file__).parents[2]),
        }
        self.process: subprocess.Popen[bytes] | None = None

    def run(self, code: str) -> str:
        """Run Python inside the application's settings."""
        return subprocess.run(
            [sys.executable, "-c", code], env=self.environment, check=True, capture_output=True, text=True
        ).stdout

    def set_up(self, name: str, *arguments: str) -> str:
        """Run a function of `tests.setups` inside the application's settings."""
        command = [sys.executable, "-m", "tests.setups", name, *arguments]
        done = subprocess.run(command, env=self.environment, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr[-3000:]
        return done.stdout

    def start(self) -> None:
        command = [sys.executable, "-m", "greyanchor.cli", "serve", "--port", str(self.port)]
        self.process = subprocess.Popen(command, env=self.environment, start_new_session=True)
        for _ in range(900):
            try:
                urllib.request.urlopen(f"{self.url}/healthz", timeout=2)
                return
            except OSError:
                if self.process.poll() is not None:
                    break
                time.sleep(0.1)
        raise RuntimeError("the server did not start")

    def kill(self) -> None:
        """As a power cut would: web and worker at once."""
        assert self.process is not None
        os.killpg(self.process.pid, signal.SIGKILL)
        for line in subprocess.run(
            ["ps", "-eo", "pid,args"], capture_output=True, text=True
        ).stdout.splitlines():
            if "greyanchor.cli worker" in line or "greyanchor.cli web" in line:
                pid = int(line.split()[0])
                with suppress(OSError):  # it may have followed its parent meanwhile
                    if str(self.home) in Path(f"/proc/{pid}/environ").read_text(errors="ignore"):
                        os.kill(pid, signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        assert self.process is not None
        self.process.send_signal(signal.SIGINT)
        self.process.wait(timeout=15)


@pytest.fixture(scope="module")
def prepared(
    request: pytest.FixtureRequest, served_home: Path, tmp_path_factory: pytest.TempPathFactory
) -> Path:
    """The home that the tests of a file begin with: the plain one, and what the set-up named by the file's
    STOCK puts in.
    """
    home = tmp_path_factory.mktemp("prepared") / "home"
    shutil.copytree(served_home, home)
    if stock := getattr(request.module, "STOCK", ""):
        Server(home).set_up(stock)
    return home


@contextmanager
def serving(prepared: Path, home: Path) -> Iterator[Server]:
    """A server on a copy of a prepared home."""
    shutil.copytree(prepared, home, dirs_exist_ok=True)
    made = Server(home)
    made.start()
    yield made
    if made.process is not None and made.process.poll() is None:
        made.stop()


@pytest.fixture
def server(tmp_path: Path, prepared: Path) -> Iterator[Server]:
    with serving(prepared, tmp_path) as made:
        yield made


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        launched.close()


#: counts forms on their way in `window.underway`; one whose answer leads to a page counts until it is there
_COUNT_FORMS = """
window.underway = 0;
const plain = window.fetch;
window.fetch = async (to, options) => {
  if (!options?.headers?.["X-Page-Form"]) return plain(to, options);
  window.underway += 1;
  let leads = false;
  try {
    const answer = await plain(to, options);
    leads = answer.headers.has("X-Location");
    return answer;
  } finally {
    if (!leads) window.underway -= 1;
  }
};
"""


def _refused(said: str) -> list[str]:
    """What the browser would not do because of the policy of the page's contents."""
    return [said] if "Content Security Policy" in said else []


@pytest.fixture
def page(browser: Browser, server: Server) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    context.add_init_script(_COUNT_FORMS)
    opened = context.new_page()
    problems: list[str] = []
    opened.on("pageerror", lambda error: problems.append(str(error)))
    opened.on("console", lambda said: problems.extend(_refused(said.text)))
    opened.set_default_timeout(PATIENCE)
    yield opened
    context.close()
    assert problems == []


def sign_in(page: Page, server: Server, name: str = "ines", password: str = "quay-street-1") -> None:
    """With the keyboard alone."""
    page.goto(server.url)
    page.wait_for_selector("[name=username]:focus")  # the page sets it when it is first painted
    page.keyboard.type(name)
    page.keyboard.press("Tab")
    page.keyboard.type(password)
    page.keyboard.press("Enter")
    page.wait_for_selector("text=What needs doing")


def press(page: Page, words: str) -> None:
    """Focus a button or link by its words and press Enter, once the form sent before has been answered."""
    page.wait_for_function("!window.underway")
    found = (
        page.get_by_role("button", name=words, exact=True)
        .or_(page.get_by_role("link", name=words, exact=True))
        .first
    )
    found.focus()
    page.keyboard.press("Enter")


_COLOURED = """allowed => [...document.querySelectorAll('body *:not(svg *)')]
.filter(e => !allowed || !e.matches(allowed)).flatMap(e => {
  const s = getComputedStyle(e);
  return ['color', 'backgroundColor', 'borderTopColor', 'borderLeftColor', 'accentColor'].filter(k => {
    const n = (s[k].match(/[\\d.]+/g) || [0, 0, 0]).map(Number);
    return (n[3] ?? 1) > 0 && !(n[0] === n[1] && n[1] === n[2]);
  }).map(k => `${e.tagName}.${e.className} ${k} ${s[k]}`);
})"""


def fit_and_are_grey(page: Page, addresses: list[str], allowed: str = "") -> None:
    """Pages are no wider than a wide and a narrow window, and nothing in them has a colour but data
    (`allowed`, a selector).
    """
    for address in addresses:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(address)
        for width in (1280, 420):
            page.set_viewport_size({"width": width, "height": 800})
            assert page.evaluate("document.documentElement.scrollWidth") <= width, address
            assert page.evaluate(_COLOURED, allowed) == [], f"{address}, {width} wide"


def read_pass(page: Page) -> int:
    """Read a whole pass with W and the space bar, reading slips again; gives how many slips there were."""
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")
    slips = 0
    for _ in range(120):
        before = page.locator("#reading").inner_text()
        page.keyboard.press("Space")
        page.wait_for_function(
            (
                "before => !document.querySelector('#reading') || "
                "document.querySelector('#reading').innerText "
                "!== before"
            ),
            arg=before,
        )
        if page.locator("#reading").count() == 0:
            return slips
        slips += page.locator(".reading-now.trouble").count()
    raise AssertionError("the pass did not end")
