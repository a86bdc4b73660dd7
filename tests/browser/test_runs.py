"""From artwork in a hot folder to a checked, labelled print, by keyboard; pieces laid by hand."""

from __future__ import annotations

import os
import re
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from greyanchor.demo.artwork import pieces
from tests.browser.conftest import Server, fit_and_are_grey, sign_in
from tests.web.printroom.conftest import picture

pytestmark = pytest.mark.slow
STOCK = "printed_modes"

EXAMINED = """
import time, django; django.setup()
from greyanchor.printroom.models import Artwork
end = time.time() + 90
while time.time() < end and Artwork.objects.filter(state__in=("queued", "running")).exists():
    time.sleep(0.3)
"""
READ = """
import django; django.setup()
from django.contrib.auth.models import User
from django.utils import timezone
from datetime import timedelta
from greyanchor.demo.prints import careful_reading
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.printroom.models import Print
sheet = Print.objects.get(state="done").check_print.sheet_print
sheet.printed_at = timezone.now() - timedelta(days=1)
sheet.save()
user = User.objects.get(username="ines")
for number in (1, 2):
    keep_whole_pass(sheet, careful_reading(sheet, number), "reader", user)
"""


@pytest.fixture
def machine(server: Server, tmp_path: Path) -> Iterator[subprocess.Popen[bytes]]:
    """The stand-in printer of the shop's Petrel 44, a process of its own."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    server.run(
        "import django; django.setup()\n"
        "from greyanchor.library.models import DeviceConnection\n"
        f"address = 'ipp://127.0.0.1:{port}/ipp/print'\n"
        "DeviceConnection.objects.filter(printer__name='Petrel 44').update(options={'address': address})\n"
    )
    command = [
        sys.executable, "-m", "greyanchor.cli", "printer", "--model", "petrel-44", "--port", str(port),
        "--media", "Harbour Proof Semimatt 235", "--width", "610", "--folder", str(tmp_path / "printer"),
        "--clock", "400",
    ]  # fmt: skip
    process = subprocess.Popen(command, start_new_session=True, stdout=subprocess.DEVNULL)
    for _ in range(100):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.1)
    yield process
    process.terminate()
    process.wait(timeout=10)


def press(where: Locator, key: str = "Enter") -> None:
    """With the keyboard alone."""
    where.focus()
    where.press(key)


def test_from_a_hot_folder_to_a_checked_and_labelled_print_by_keyboard(
    page: Page, server: Server, machine: subprocess.Popen[bytes]
) -> None:
    sign_in(page, server)
    server.run(
        "import django; django.setup()\n"
        "from greyanchor.library.models import PrintMode\n"
        "from greyanchor.printroom import hot_folders\n"
        "mode = PrintMode.objects.get(name='Quay proof')\n"
        "hot_folders.make('Proofs', 'proofs', None, mode=mode, width_mm=60.0)\n"
    )
    folder = next(server.home.rglob("hot-folders/proofs"))
    for number in (1, 2):
        (folder / f"chart {number}.png").write_bytes(picture(number))
        os.utime(folder / f"chart {number}.png", (time.time() - 60,) * 2)
    page.goto(f"{server.url}/jobs/")
    for _ in range(60):
        if page.locator("input[name=job]").count() == 2:
            break
        page.wait_for_timeout(500)
        page.reload()
    server.run(EXAMINED)
    page.reload()
    for box in page.locator("input[name=job]").all():
        press(box, "Space")
    press(page.get_by_role("button", name="Lay the chosen jobs on a run"))
    page.locator("[data-run-table][data-ready]").wait_for()
    expect(page.locator(".run-figures")).to_contain_text("610 mm wide")
    piece = page.locator("[data-piece]").first
    piece.focus()
    for _ in range(3):
        page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("[data-run-said]")).to_contain_text("30.0 mm along")
    expect(page.locator(".run-figures")).to_contain_text("laid by hand")
    assert page.evaluate("document.activeElement.dataset.piece"), "the piece keeps the focus"
    page.get_by_label("Control strip").select_option("short")
    expect(page.locator("[data-piece=strip]")).to_have_count(1)
    press(page.get_by_role("button", name="Prepare for Petrel 44"))
    page.get_by_text("Its prints").wait_for(timeout=120_000)
    press(page.get_by_role("link", name="Held"))
    press(page.get_by_role("button", name=re.compile("^Let it go")))
    page.wait_for_url("**/machines/**")
    page.goto(f"{server.url}/prints/?state=done")
    for _ in range(120):
        if page.locator("#ledger tbody tr a").count():
            break
        page.wait_for_timeout(500)
        page.reload()
    press(page.locator("#ledger tbody tr a").first)
    expect(page.locator("#main")).to_contain_text("The strip of this print waits to be read")
    server.run(READ)
    page.reload()
    expect(page.locator("#main")).to_contain_text(re.compile("nearest its limit|over"))
    label = page.get_by_role("link", name="Its label").get_attribute("href")
    assert page.request.get(f"{server.url}{label}").body()[:4] == b"%PDF"
    press(page.get_by_role("link", name="of every edition"))
    expect(page.locator("#ledger")).to_contain_text("1 print")
    looked_at = ("/runs/", "/runs/1/", "/prints/", "/prints/1/", "/machines/", "/machines/1/", "/deliveries/")
    fit_and_are_grey(page, [server.url + path for path in looked_at], ".run-sheet *, .chip")


def test_pieces_are_dragged_snap_and_are_never_laid_over_one_another(
    page: Page, server: Server, machine: subprocess.Popen[bytes], tmp_path: Path
) -> None:
    """Twenty stickers, nested, moved by hand, with their cut paths."""
    art = tmp_path / "buoy-sticker-round.pdf"
    art.write_bytes(dict(pieces())["buoy-sticker-round.pdf"])
    sign_in(page, server)
    page.goto(f"{server.url}/artwork/")
    page.get_by_label("Files to take in").set_input_files(art)
    page.get_by_role("button", name="Take in", exact=True).click()
    hung = page.locator(".wall > li", has_text="buoy-sticker")
    hung.get_by_text("is a cut contour").wait_for(timeout=90_000)
    server.run(
        "import django; django.setup()\n"
        "from greyanchor.library.models import PrintMode\n"
        "from greyanchor.printroom import jobs\n"
        "from greyanchor.printroom.models import Artwork\n"
        "art = Artwork.objects.get(name='buoy-sticker-round.pdf')\n"
        "jobs.make_job(art, None, PrintMode.objects.get(name='Quay proof'), choices={'copies': 20})\n"
    )
    page.goto(f"{server.url}/jobs/")
    page.get_by_label("Choose buoy-sticker-round.pdf").check()
    page.get_by_role("button", name="Lay the chosen jobs on a run").click()
    expect(page.locator("[data-piece]")).to_have_count(20)
    page.get_by_label("Contours").select_option("later")
    expect(page.locator("#run-cutter")).to_be_checked(timeout=10_000)
    table = page.locator("[data-places]")
    version = table.get_attribute("data-version") or ""
    page.get_by_label("Pieces", exact=True).select_option("save")
    expect(table).not_to_have_attribute("data-version", version)
    first, second = page.locator("[data-piece]").nth(0), page.locator("[data-piece]").nth(1)
    before = first.get_attribute("data-x"), first.get_attribute("data-y")
    drag(page, first, second)
    expect(page.locator("[data-run-said]")).to_contain_text("it went back")
    assert (first.get_attribute("data-x"), first.get_attribute("data-y")) == before
    drag(page, first, None)
    expect(page.locator(".run-figures")).to_contain_text("laid by hand")
    moved = page.locator("[data-piece]").nth(0)
    assert float(moved.get_attribute("data-y") or 0) > 300.0
    expect(page.locator("#run")).to_contain_text("20 cut paths")
    with page.expect_download() as cut:
        page.get_by_role("link", name="DXF").click()
    assert b"LWPOLYLINE" in Path(cut.value.path()).read_bytes()
    page.get_by_role("button", name=re.compile("^Undo")).click()
    expect(page.locator(".run-figures")).not_to_contain_text("laid by hand")


def drag(page: Page, piece: Locator, onto: Locator | None) -> None:
    """Drag a piece onto another, or far along the media."""
    box = piece.bounding_box()
    assert box is not None
    start = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    target = (start[0] + 420.0, start[1])
    if onto is not None and (there := onto.bounding_box()) is not None:
        target = there["x"] + there["width"] / 2, there["y"] + there["height"] / 2
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move(*target, steps=6)
    page.mouse.up()
