"""The print room in a browser: from a file to a test piece, and a hot folder overnight."""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from greyanchor.demo.artwork import pieces
from tests.browser.conftest import Server, sign_in
from tests.web.printroom.conftest import picture

pytestmark = pytest.mark.slow
STOCK = "printed_modes"


@pytest.fixture
def art(tmp_path: Path) -> Path:
    """A folder of the demo's pieces."""
    folder = tmp_path / "art"
    folder.mkdir()
    for name, data in pieces():
        (folder / name).write_bytes(data)
    return folder


def shown(page: Page) -> int:
    """Tiles of the picture that have come."""
    return page.evaluate(
        "[...document.querySelectorAll('.table-glass > img')].filter(i => i.naturalWidth).length"
    )


def test_from_a_file_to_a_test_piece(page: Page, server: Server, art: Path) -> None:
    """The harbour chart: what goes wrong, another mode, a test piece, prepared and seen."""
    sign_in(page, server)
    page.get_by_role("link", name="Print room").click()
    names = ("harbour-chart-lantern-sound.pdf", "harbour-plan-cut-off.png", "pilot-book-cover.jpg")
    page.get_by_label("Files to take in").set_input_files([art / n for n in names])
    page.get_by_role("button", name="Take in", exact=True).click()
    page.locator(".message", has_text="3 files taken in.").wait_for()
    hung = page.locator(".wall > li", has_text="harbour-chart")
    hung.get_by_text("CutContour is a cut contour").wait_for(timeout=90_000)
    page.locator(".wall > li", has_text="cut-off").get_by_text("damaged or cut off").wait_for(timeout=60_000)
    hung.get_by_role("button", name="Make a job of it").click()
    page.get_by_role("heading", name="What will come out?").wait_for()
    expect(page.locator(".shares dd").first).to_have_text(re.compile(r"\d+(\.\d)? %"), timeout=60_000)
    page.locator(".table-glass[data-ready]").wait_for()
    page.wait_for_function("document.querySelectorAll('.table-glass > img').length > 0")
    page.locator("h1").click()  # nothing has the focus: keys are shortcuts
    page.keyboard.press("3")
    assert "view=difference" in page.url
    page.keyboard.press("7")
    expect(page.locator(".table-glass svg polyline").first).to_be_attached()
    page.keyboard.press("2")
    page.keyboard.press("l")
    page.locator(".loupe-window img[src]").wait_for()
    page.wait_for_function("document.querySelector('.loupe-window img').naturalWidth > 200", timeout=60_000)
    page.keyboard.press("l")
    assert shown(page) > 0
    page.reload()
    assert page.get_by_role("radio", name="As printed").is_checked(), "the address leads back to the view"
    tries = page.get_by_role("button", name=re.compile("^Try "))
    expect(tries.first).to_be_visible(timeout=60_000)
    before = page.locator(".foot-bar .btn-main").inner_text()
    tries.first.click()
    expect(page.locator(".foot-bar .btn-main")).not_to_have_text(before)
    page.get_by_role("button", name=re.compile("^Undo")).click()
    expect(page.locator(".foot-bar .btn-main")).to_have_text(before)
    page.get_by_label("Width, mm").fill("210,5")
    page.get_by_role("button", name="Set the size").click()
    expect(page.locator(".lead-line")).to_contain_text("210.5 ×")
    page.locator("h1").click()
    page.keyboard.press("r")
    page.get_by_role("button", name="Make it a test piece").click()
    page.get_by_role("heading", name=re.compile("^Test piece of harbour-chart")).wait_for()
    page.locator(".foot-bar .btn-main").click()
    page.get_by_role("link", name="Save the planes, TIFF").wait_for(timeout=120_000)
    assert page.locator(".pair-of-pictures img").count() == 2
    for image in page.locator(".pair-of-pictures img").all():
        expect(image).to_have_js_property("complete", True)
    with page.expect_download() as download:
        page.get_by_role("link", name="Save the planes, TIFF").click()
    assert Path(download.value.path()).read_bytes()[:4] == b"II*\0"


def test_a_hot_folder_overnight_with_workers_killed(page: Page, server: Server, art: Path) -> None:
    """Thirty mixed files fall in; the server is killed twice; each becomes a job or a named refusal."""
    sign_in(page, server)
    page.goto(f"{server.url}/hot-folders/")
    page.locator("#hot-name").fill("Overnight")
    page.get_by_label("Folder, inside the shop's hot folders").fill("overnight")
    page.get_by_label("Print mode").select_option(index=1)
    page.get_by_label("Width, mm (empty: its own)").fill("40")
    page.get_by_label("It goes by itself").check()
    page.get_by_role("button", name="Watch the folder").click()
    page.locator(".message", has_text="Overnight is watched").wait_for()
    folder = next(server.home.rglob("hot-folders/overnight"))
    files = {path.name: path.read_bytes() for path in sorted(art.iterdir())}
    files |= {f"piece {i}.png": picture(100 + i) for i in range(16)}
    assert len(files) == 30
    for name, data in files.items():
        (folder / name).write_bytes(data)
        os.utime(folder / name, (time.time() - 60,) * 2)
    for wait in (6, 8):
        time.sleep(wait)
        server.kill()
        server.start()
    server.run(
        "import time, django; django.setup()\n"
        "from greyanchor.printroom.models import Arrived, PrintFile, Artwork\n"
        "end = time.time() + 150\n"
        "def busy():\n"
        "    open_ = ('queued', 'running', 'interrupted')\n"
        "    waiting = Arrived.objects.filter(job__held=False, artwork__state='done',\n"
        "        job__print_files=None)\n"
        "    return (Arrived.objects.count() < 30 or Artwork.objects.filter(state__in=open_).exists()\n"
        "        or PrintFile.objects.filter(state__in=open_).exists() or waiting.exists())\n"
        "while busy() and time.time() < end: time.sleep(1)\n"
    )
    said = server.run(
        "import django; django.setup()\n"
        "from collections import Counter\n"
        "from greyanchor.printroom.models import Arrived, Artwork, PrintFile\n"
        "print(Arrived.objects.count(), Artwork.objects.count(), Arrived.objects.exclude(job=None).count())\n"
        "print(sorted(Counter(PrintFile.objects.values_list('state', flat=True)).items()))\n"
        "print(sorted(Counter(Artwork.objects.values_list('state', flat=True)).items()))\n"
    )
    first, states, art_states = said.strip().splitlines()[-3:]
    arrived, artworks, jobs = map(int, first.split())
    assert arrived >= 30 and artworks == 30 and jobs >= 30, said
    assert "running" not in states and "queued" not in states, said
    assert "running" not in art_states and "queued" not in art_states, said
    assert "interrupted" not in states + art_states, said
    assert sorted(p.name for p in folder.iterdir()) in (["refused", "taken"], ["taken"])
    page.reload()
    assert page.get_by_text("Overnight").count() > 0
