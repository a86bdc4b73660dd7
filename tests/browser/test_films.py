"""A film mode by keyboard, from frozen environment to a restore; then plates of a shirt on that film."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from playwright.sync_api import Page, expect

from greyanchor.demo.artwork import crew_shirt
from tests.browser.conftest import Server, press, sign_in
from tests.browser.steps import freeze, message, print_and_read, restore

pytestmark = pytest.mark.slow
PRINTER = "Petrel 44"


def fits(page: Page) -> None:
    """Nothing is wider than the window, at the usual width and in a narrow one."""
    for width in (1280, 420):
        page.set_viewport_size({"width": width, "height": 800})
        assert page.evaluate("document.documentElement.scrollWidth") <= width
    page.set_viewport_size({"width": 1280, "height": 800})


def test_a_film_mode_then_plates_on_its_film(page: Page, server: Server, tmp_path: Path) -> None:
    sign_in(page, server)
    freeze(page, PRINTER, "Tarn pigment, films", "Clearwater Film 125", "Films, 40 lines")
    assert page.get_by_label("Lines an inch").is_visible()
    assert not page.get_by_label("Paper in the driver").is_visible()
    page.get_by_label("Resolution").select_option("600")
    page.get_by_label("Lines an inch").fill("40")
    press(page, "Freeze and start build")
    message(page, "Opacity comes first")
    assert page.locator("text=Total ink").count() == 0, "stages of colour are no part of it"
    print_and_read(page, PRINTER, 2)
    assert page.get_by_text("is opaque.").is_visible()
    page.get_by_label("Density asked for").fill("3.8")
    press(page, "Find it again")
    expect(page.locator("#film-opacity")).to_contain_text("for 3.8")
    fits(page)
    press(page, "Accept opacity")
    message(page, "Opacity accepted.")
    print_and_read(page, PRINTER, 2)
    press(page, "Lay out the confirming chart")
    print_and_read(page, PRINTER, 2)
    assert page.get_by_text("Dots are true.").is_visible()
    press(page, "Accept dots")
    message(page, "Dots accepted.")
    page.get_by_label("Note for operators").fill("Emulsion up.")
    press(page, "Release to library")
    message(page, "is released to the library")
    words = restore(page, server, PRINTER, {"K": 94})
    assert "UV density" in words
    _plates(page, server, tmp_path)


def typed(page: Page, label: str, value: str) -> None:
    """Type into a field of the plates, and wait until the page has taken it in."""
    with page.expect_response(lambda answer: "/plates/" in answer.url):
        page.get_by_label(label).fill(value)
        page.get_by_label(label).press("Tab")
    page.wait_for_function("!document.querySelector('.htmx-request')")


def _plates(page: Page, server: Server, folder: Path) -> None:
    shirt = folder / "shirt.pdf"
    shirt.write_bytes(crew_shirt())
    page.goto(f"{server.url}/artwork/")
    page.get_by_label("Files to take in").set_input_files([shirt])
    press(page, "Take in")
    hung = page.locator(".wall > li", has_text="shirt.pdf")
    hung.get_by_role("button", name="Make a job of it").click(timeout=90_000)
    page.get_by_role("heading", name="What will come out?").wait_for()
    page.wait_for_function("document.querySelectorAll('.table-glass').length > 0", timeout=90_000)
    press(page, "As plates")
    expect(page.locator(".plate-table tbody tr")).to_have_count(6, timeout=60_000)
    fits(page)
    typed(page, "Angle of Deep Water Blue", "49")
    typed(page, "Angle of Outline Black", "46")
    expect(page.locator("#plates-form .message").first).to_contain_text("beat: a pattern of")
    typed(page, "Angle of Deep Water Blue", "")
    typed(page, "Angle of Outline Black", "")
    typed(page, "Press points of Kelp Green", "50 30 20")
    expect(page.locator("#plates-form [role=alert]")).to_contain_text("is not understood")
    typed(page, "Press points of Kelp Green", "50 64")
    expect(page.locator("#plates-form [role=alert]")).to_have_count(0)
    page.get_by_label("See Buoy Red").check()
    page.wait_for_function("document.querySelector('[data-plates-picture]').src.includes('ink=Buoy')")
    press(page, "Make 6 plates for Films, 40 lines")
    expect(page.locator(".film-wall > li")).to_have_count(6, timeout=90_000)
    fits(page)
    with page.expect_download() as sent:
        page.get_by_role("link", name="1-bit TIFF").first.click()
    with tifffile.TiffFile(sent.value.path()) as plate:
        first = plate.pages[0]
        assert first.bitspersample == 1 and np.asarray(first.asarray()).any()  # type: ignore[union-attr]
    press(page, "Lay these films on Clearwater Film 125")
    message(page, "6 films laid on a run")
    press(page, f"Prepare for {PRINTER}")
    page.get_by_text("What came out").wait_for(timeout=90_000)
    assert page.get_by_text("K ").first.is_visible()
    page.goto(f"{server.url}/screens/")
    assert page.get_by_text("of a cell over a metre").is_visible()
    fits(page)
