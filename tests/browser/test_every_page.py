"""Every kind of page: valid, readable by everybody, quick, and not heavy."""

from __future__ import annotations

import re
import shutil
import statistics
import subprocess
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import axe_playwright_python
import pytest
from playwright.sync_api import Page

from tests.browser.conftest import Server, serving, sign_in

pytestmark = pytest.mark.slow
STOCK = "print_room"

AXE = (Path(axe_playwright_python.__file__).parent / "axe.min.js").read_text()
RUN = """axe.run(document, {resultTypes: ['violations'], preload: false}).then(r => r.violations.flatMap(
  v => v.nodes.map(n => `${v.id}: ${n.target.join(' ')}`)))"""
#: the Nu HTML checker, where the tools of the linters are installed
CHECKER = Path(__file__).parents[2] / "node_modules" / "vnu-jar" / "build" / "dist" / "vnu.jar"
FIRST_VIEW_KB = 200


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, prepared: Path) -> Iterator[Server]:
    """One server for all tests here: they only look."""
    with serving(prepared, tmp_path_factory.mktemp("looked-at") / "home") as made:
        yield made


def _kind(path: str) -> str:
    base = path.partition("?")[0]
    return re.sub(r"\d+", "N", base)


def _violations(page: Page) -> list[str]:
    if not page.evaluate("typeof axe !== 'undefined'"):
        page.evaluate(AXE)
    return list(page.evaluate(RUN))


def _links(page: Page) -> list[str]:
    found = page.evaluate("[...document.querySelectorAll('a[href]')].map(a => a.href)")
    here = page.url.split("/", 3)
    inside = [a.split("#")[0][len(f"{here[0]}//{here[2]}") :] for a in found if a.split("/")[2] == here[2]]
    return [a for a in inside if a.startswith("/") and "static" not in a]


def test_every_kind_of_page_is_valid_and_for_everybody(page: Page, server: Server, tmp_path: Path) -> None:
    sign_in(page, server)
    waiting, kinds, broken = ["/"], Counter[str](), []
    while waiting:
        path = waiting.pop(0)
        kind = _kind(path)
        if kinds[kind]:
            continue
        kinds[kind] += 1
        answer = page.request.get(server.url + path)
        assert answer.status < 400, path
        if "html" not in answer.headers["content-type"] or "data-hx-swap-oob" in answer.text()[:400]:
            continue
        (tmp_path / (re.sub(r"\W+", "_", path).strip("_") + "_.html")).write_bytes(answer.body())
        page.goto(server.url + path)
        broken += [f"{path}: {v}" for v in _violations(page)]
        waiting += _links(page)
    assert len(kinds) > 45
    assert broken == []
    page.evaluate("localStorage.setItem('theme', 'dim')")
    for path in ("/", "/modes/", "/builds/1/", "/checks/1/", "/profiles/1/", "/set-up/", "/nothing-here/"):
        page.goto(server.url + path)
        assert _violations(page) == [], f"{path}, dim"
    _valid(tmp_path)


def _valid(folder: Path) -> None:
    java = shutil.which("java")
    if java is None or not CHECKER.exists():
        pytest.skip("HTML is checked where Java and the tools of the linters are installed")
    command = [java, "-jar", str(CHECKER), "--errors-only", "--skip-non-html", str(folder)]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.stderr == ""


def test_a_first_view_is_light_and_prompt(page: Page, server: Server) -> None:
    sign_in(page, server)
    net = page.context.new_cdp_session(page)
    net.send("Network.enable")
    net.send("Network.setCacheDisabled", {"cacheDisabled": True})
    sizes: list[float] = []
    net.on("Network.loadingFinished", lambda event: sizes.append(event["encodedDataLength"]))
    page.goto(server.url)
    page.wait_for_load_state("networkidle")
    assert sum(sizes) < 1000 * FIRST_VIEW_KB
    times = [
        float(re.search(r"dur=([\d.]+)", page.request.get(server.url + p).headers["server-timing"])[1])
        for p in ("/", "/modes/", "/printers/", "/checks/", "/profiles/", "/builds/1/", "/media/1/")
    ]
    assert statistics.median(times) < 500, "ten times the usual, as this machine is busy with other tests"


def _luminance(page: Page) -> tuple[float, int]:
    """Mean luminance of what is on screen as a share of white, and the largest distance from neutral."""
    import io

    import numpy as np
    from PIL import Image

    seen = np.asarray(Image.open(io.BytesIO(page.screenshot())).convert("RGB")).astype(float)
    linear = np.where(seen <= 10.31, seen / 255 / 12.92, ((seen / 255 + 0.055) / 1.055) ** 2.4)
    share = float((linear @ [0.2126, 0.7152, 0.0722]).mean())
    return share, int((seen.max(axis=2) - seen.min(axis=2)).max())


def test_the_dim_room_is_dim_and_neutral(page: Page, server: Server) -> None:
    sign_in(page, server)
    light, _ = _luminance(page)
    page.evaluate("localStorage.setItem('theme', 'dim')")
    page.reload()
    page.wait_for_load_state("networkidle")
    dim, chroma = _luminance(page)
    assert dim < 0.06 < 0.6 < light, "beside a booth the screen is nearly dark"
    assert chroma <= 12, "letters are smoothed, nothing else has a colour"
