"""The shared library in a browser: two people at one preset, a pack out and in, a catalogue update, roles, a
readiness day.
"""

from __future__ import annotations

import re
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import Server, fit_and_are_grey, press, serving, sign_in

pytestmark = pytest.mark.slow
STOCK = "finished_modes"


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, prepared: Path) -> Iterator[Server]:
    """One server for the tests of this file, which follow one another; the one that wipes it comes last."""
    with serving(prepared, tmp_path_factory.mktemp("shared")) as made:
        yield made


@pytest.fixture
def other(browser: Browser, server: Server) -> Iterator[Page]:
    """A second browser, with nothing of the first."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    opened.set_default_timeout(45000)
    yield opened
    context.close()


def test_narrowing_searching_and_the_way_back(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/modes/")
    heading = page.locator("#modes h2")
    page.get_by_role("group", name="Printer", exact=True).get_by_label("Petrel 44").check()
    expect(heading).to_have_text("3 of 4 print modes")
    page.get_by_role("group", name="State", exact=True).get_by_label("released").check()
    expect(heading).to_have_text("2 of 4 print modes")
    page.get_by_role("searchbox").fill("archve")
    expect(heading).to_have_text("1 of 4 print modes")
    assert (
        "No record contains “archve”; shown is archive" in page.locator("#modes").inner_text()
        and "q=archve" in page.url
        and "state=released" in page.url
    )
    page.reload()
    expect(heading).to_have_text("1 of 4 print modes")
    page.go_back()
    page.get_by_role("searchbox").fill("")
    expect(heading).to_have_text("2 of 4 print modes")
    page.get_by_label("Deck charts", exact=True).check()
    page.get_by_label("Archive charts", exact=True).check()
    press(page, "Compare ticked")
    page.get_by_role("heading", name="Side by side").wait_for()
    page.get_by_label("Only what differs").check()
    assert page.locator("tr.same").first.is_hidden() and page.locator("tr.differs").first.is_visible()


def test_pages_of_the_library_fit_their_window_and_have_no_colour_but_data(
    page: Page, server: Server
) -> None:
    sign_in(page, server)
    addresses = (
        "modes/",
        "modes/1/",
        "modes/1/edit/",
        "modes/1/history/",
        "modes/1/editions/1/",
        "modes/compare/?m=1&m=2",
        "modes/best/?media=1&area=3",
        "presets/",
        "presets/1/",
        "media-classes/1/",
        "media-classes/lend/",
        "ink-sets/1/",
        "printers/2/",
        "printers/2/slots/",
        "readiness/",
        "printers/2/ready/nozzles/",
        "packs/",
        "catalogue/",
        "shop/",
        "curves/",
        "limits/",
        "curves/1/",
        "media/new/",
    )
    fit_and_are_grey(page, [f"{server.url}/{address}" for address in addresses], allowed=".ink-swatch")


def test_two_browsers_at_one_preset_lose_nothing(page: Page, other: Page, server: Server) -> None:
    sign_in(page, server)
    sign_in(other, server, "tobias", "lantern-hill-1")
    for one in (page, other):
        one.goto(f"{server.url}/presets/")
        one.get_by_role("link", name="Kelp Synthetic 190 on Petrel 44").click()
        one.get_by_label("Vacuum", exact=True).wait_for()
    other.get_by_label("Vacuum", exact=True).fill("70")
    other.get_by_label("Notes").fill("firm at the edges")
    other.get_by_label("Why").fill("it lifted")
    press(other, "Save preset")
    other.get_by_text("Kelp Synthetic 190 on Petrel 44 saved.").first.wait_for()
    page.get_by_label("Heat on the platen", exact=True).fill("43")
    page.get_by_label("Notes").fill("soft rollers")
    page.get_by_label("Why").fill("cockled")
    press(page, "Save preset")
    page.get_by_role("heading", name="Two versions of Kelp Synthetic 190 on Petrel 44").wait_for()
    text = page.locator("main").inner_text()
    assert (
        "Tobias Fenn changed Kelp Synthetic 190 on Petrel 44" in text
        and "it lifted" in text
        and "both changed it" in text
    )
    assert page.locator('input[name="take:handling.vacuum"][value=theirs]').is_checked()
    assert page.locator('input[name="take:handling.heat_on"][value=mine]').is_checked()
    page.get_by_label("soft rollers").check()
    press(page, "Save what is chosen")
    page.get_by_text("Kelp Synthetic 190 on Petrel 44 saved.").first.wait_for()
    assert page.get_by_label("Vacuum", exact=True).input_value() == "70"
    assert page.get_by_label("Heat on the platen", exact=True).input_value() == "43"
    assert page.get_by_label("Notes").input_value() == "soft rollers"
    history = page.locator("section:has(> h2:text-is('History'))").inner_text()
    assert "Tobias Fenn" in history and "Ines Marrow" in history and "cockled" in history


def _pack_in(page: Page, path: Path, server: Server) -> None:
    page.goto(f"{server.url}/packs/")
    page.get_by_label("Pack (.zip)").set_input_files(path)
    press(page, "Test the pack")
    page.get_by_role("heading", name="What it would do").wait_for()


def test_a_pack_that_was_tampered_with_is_refused_with_its_reason(
    page: Page, server: Server, tmp_path: Path
) -> None:
    sign_in(page, server)
    path = tmp_path / "bad.zip"
    page.goto(f"{server.url}/modes/?q=deck")
    with page.expect_download() as waiting:
        page.get_by_role("link", name=re.compile("Pack all")).click()
    waiting.value.save_as(path)
    data = bytearray(path.read_bytes())
    data[200] ^= 0xFF
    path.write_bytes(bytes(data))
    page.goto(f"{server.url}/packs/")
    page.get_by_label("Pack (.zip)").set_input_files(path)
    press(page, "Test the pack")
    page.get_by_text("Refused: bad.zip").wait_for()
    assert "Nothing of it was written" in page.locator("main").inner_text()


@pytest.fixture
def supplied(tmp_path: Path, prepared: Path) -> Iterator[Server]:
    """A server with a supplier's catalogue in a process of its own."""
    home = tmp_path / "home"
    shutil.copytree(prepared, home)
    made = Server(home)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    made.environment["GREYANCHOR_CATALOGUE"] = f"http://127.0.0.1:{port}"
    made.set_up("offer", "1.0")
    supplier = subprocess.Popen(
        [sys.executable, "-m", "greyanchor.cli", "catalogue", str(home / "catalogue"), "--port", str(port)],
        env=made.environment,
    )
    for _ in range(100):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/packs", timeout=1)
            break
        except OSError:
            time.sleep(0.1)
    made.supplier = supplier  # type: ignore[attr-defined]
    made.start()
    yield made
    made.stop()
    supplier.kill()


def test_a_catalogue_is_searched_imported_updated_and_missed(page: Page, supplied: Server) -> None:
    sign_in(page, supplied)
    page.goto(f"{supplied.url}/catalogue/")
    page.get_by_label("Maker").select_option("Sound & Shoal")
    press(page, "Search")
    press(page, "Fetch")
    page.get_by_role("heading", name="What it would do").wait_for()
    press(page, "Import")
    page.get_by_role("link", name="Look at the imported modes").wait_for()
    supplied.set_up("offer", "1.1")
    page.goto(f"{supplied.url}/catalogue/")
    press(page, "Ask again")
    page.get_by_text("1.0, newer there").wait_for()
    page.goto(supplied.url)
    assert "1.0 here, 1.1 there" in page.locator("section:has-text('Newer version there')").last.inner_text()
    page.get_by_role("link", name="Kelp Synthetic 190 for the Petrel 44").click()
    press(page, "Update")
    page.get_by_role("heading", name="What it would do").wait_for()
    assert re.search(r"[A-Z][a-z ]+ \S+ \S+ here, \S+ \S+ in the pack", page.locator("main").inner_text())
    assert page.get_by_label("Kelp Synthetic 190, supplier's setting", exact=True).input_value() == "update"
    press(page, "Import")
    page.get_by_text("1 updated").wait_for()
    supplied.supplier.kill()  # type: ignore[attr-defined]
    page.goto(f"{supplied.url}/catalogue/")
    press(page, "Ask again")
    page.get_by_text("cannot be reached").first.wait_for()
    assert page.get_by_text("Kelp Synthetic 190 for the Petrel 44").is_visible()


def test_a_tour_of_the_roles(page: Page, other: Page, server: Server) -> None:
    sign_in(page, server, "ada", "chart-table-1")
    page.goto(f"{server.url}/modes/?q=quay+signs")
    page.get_by_role("link", name="Quay signs", exact=True).click()
    press(page, "Pin")
    page.get_by_role("button", name="Unpin").wait_for()
    assert page.get_by_role("button", name=re.compile("Retire|Hand in|Restore|Release")).count() == 0
    mode = page.url
    page.goto(f"{server.url}/media/1/")
    assert page.get_by_role("button", name="Save media").count() == 0
    page.evaluate("""() => { const b = document.createElement('button');
        b.textContent = 'Forced';
        document.getElementById('facts').append(b);
        document.querySelectorAll('#facts [required]').forEach(e => e.removeAttribute('required')); }""")
    press(page, "Forced")
    page.locator("#problem:has-text('Your role does not allow this')").wait_for()
    assert "Ada Quill is signed in as operator" in page.locator("#problem").inner_text()
    sign_in(other, server, "tobias", "lantern-hill-1")
    other.goto(mode)
    other.get_by_label("Note for the approver").fill("checked by hand")
    press(other, "Hand in for review")
    other.get_by_text("A lead releases it.").first.wait_for()
    page.context.clear_cookies()
    sign_in(page, server)
    page.locator("section:has(> h2:has-text('Waiting for release'))").get_by_role(
        "link", name="Quay signs"
    ).click()
    page.get_by_text("it was never checked").wait_for()
    page.get_by_label("Note for operators").fill("Dry before rolling.")
    page.get_by_label("Why it is released with an exception").fill("proven on the last order")
    press(page, "Release with an exception")
    page.get_by_text("every operator finds it now").first.wait_for()
    assert "proven on the last order" in page.locator("section:has(> h2:has-text('Editions'))").inner_text()
    assert page.get_by_text("Retire this mode").count() == 1


def test_a_readiness_day_with_the_keyboard(page: Page, server: Server) -> None:
    sign_in(page, server, "ada", "chart-table-1")
    page.goto(f"{server.url}/readiness/")
    row = page.locator("section:has(h2:has-text('Petrel 44'))")
    row.get_by_label("Media in it").select_option("Kelp Synthetic 190")
    row.get_by_role("button", name="Load it").focus()
    page.keyboard.press("Enter")
    page.get_by_text("What depends on the media is due.").first.wait_for()
    page.goto(server.url)
    due = page.locator("section:has(> h2:has-text('Readiness'))")
    assert "feed adjustment" in due.inner_text()
    due.get_by_role("link", name="feed adjustment").first.focus()
    page.keyboard.press("Enter")
    for _ in range(6):
        page.get_by_role("heading", name="Print the pattern").wait_for()
        first = page.get_by_role("button", name="Print the pattern").count()
        press(page, "Print the pattern" if first else "Print it again")
        page.wait_for_timeout(400)  # the page of the last attempt looks alike
        page.wait_for_load_state("networkidle")
        page.locator("svg.pattern").wait_for()
        press(page, "Read it with the instrument instead")
        page.wait_for_timeout(400)
        page.wait_for_load_state("networkidle")
        page.locator(".message").first.wait_for()
        found = page.locator(".message").first.inner_text()
        if "is kept for Petrel 44 on Kelp Synthetic 190" in found:
            break
        # type: ignore[index]
        page.get_by_label("Around another value, %").fill(re.search(r"pattern, (-?[\d.]+)", found)[1])
    else:
        raise AssertionError("the feed was not found")
    press(page, "All machines")
    row.get_by_role("link", name="Nozzle check").click()
    for _ in range(6):
        page.get_by_role("heading", name="Print the pattern").wait_for()
        first = page.get_by_role("button", name="Print the pattern").count()
        press(page, "Print the pattern" if first else "Print it again")
        page.wait_for_timeout(400)  # the page of the last attempt looks alike
        page.wait_for_load_state("networkidle")
        page.locator("svg.pattern").wait_for()
        press(page, "Read it with the instrument instead")
        page.wait_for_timeout(400)
        page.wait_for_load_state("networkidle")
        page.locator(".message").first.wait_for()
        if "is ready" in page.locator(".message").first.inner_text():
            break
    page.goto(server.url)
    petrel = page.locator("section:has(> h2:has-text('Readiness')) tr:has-text('Petrel 44')").inner_text()
    assert "alignment of both directions" in petrel and "due, never done on this media" in petrel
    assert "feed" not in petrel and "nozzle check, due again" in petrel
    page.goto(f"{server.url}/builds/new/?printer=1")
    assert "The machine is not ready: alignment of both directions" in page.locator("main").inner_text()


def test_settings_go_to_the_machine_are_tuned_there_and_taken_over(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/presets/")
    page.get_by_role("link", name="Kelp Synthetic 190 on Petrel 44").click()
    page.get_by_role("link", name="Send to Petrel 44").click()
    press(page, "Send to Petrel 44")
    slot = page.locator(".slot-grid .panel").first
    expect(slot).to_contain_text("Holds what is required.")
    slot.locator("summary").click()
    slot.get_by_label("At the panel, change").select_option("vacuum")
    slot.get_by_label("to", exact=True).fill("75")
    slot.get_by_role("button", name="Tune").click()
    expect(slot).to_contain_text("75 %")
    slot.get_by_role("button", name="Use machine value").click()
    page.get_by_text("Vacuum is saved on Kelp Synthetic 190 on Petrel 44").first.wait_for()
    expect(page.locator(".slot-grid .panel").first).to_contain_text("Holds what is required.")


def _said(page: Page, server: Server) -> str:
    """What the page of a mode says, without its history, which an import begins again."""
    page.goto(f"{server.url}/modes/?q=deck")
    page.locator("#modes").get_by_role("link", name="Deck charts", exact=True).click()
    page.get_by_role("heading", name="Deck charts", exact=True).wait_for()
    page.wait_for_load_state("networkidle")  # parts that the page asks for once it is there
    page.evaluate(
        "document.querySelectorAll('section').forEach(s => { if "
        "(/^(History|Editions)/.test(s.innerText)) "
        "s.remove(); })"
    )
    return " ".join(page.locator("main").inner_text().split())


def test_a_pack_goes_out_the_database_is_wiped_and_the_same_page_is_back(
    page: Page, server: Server, tmp_path: Path
) -> None:
    sign_in(page, server)
    # what readying found belongs to the machine and its media, not to the mode or its pack
    server.set_up("forget_readiness")
    before = _said(page, server)
    page.goto(f"{server.url}/modes/?state=released")
    with page.expect_download() as waiting:
        page.get_by_role("link", name=re.compile("Pack all")).click()
    path = tmp_path / "released.zip"
    waiting.value.save_as(path)
    assert server.set_up("empty_library").strip() == "0"
    page.goto(f"{server.url}/modes/")
    assert "0 print modes" in page.locator("#modes").inner_text()
    _pack_in(page, path, server)
    # type: ignore[index]
    count = int(re.search(r"(\d+) print modes created", page.locator("main").inner_text())[1])
    page.get_by_label("take them as released").check()
    press(page, "Import")
    page.get_by_role("link", name="Look at the imported modes").wait_for()
    press(page, "Look at the imported modes")
    page.get_by_role("heading", name=f"{count} print modes").wait_for()
    assert page.get_by_role("link", name="Archive charts", exact=True).is_visible()
    assert _said(page, server) == before
