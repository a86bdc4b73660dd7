"""Colours by keyboard: a swatch book that learns, a booth that fails and gets new lamps, pages that fit."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server, fit_and_are_grey, press, sign_in
from tests.browser.steps import message, print_and_read

pytestmark = pytest.mark.slow
STOCK = "harbour_proof"
#: what has a colour on these pages: data alone
DATA = ".chip, .chip *, .swatches a, .swatches span, svg, svg *"


def test_a_book_is_printed_read_learned_from_and_its_recipes_kept(
    page: Page, server: Server, tmp_path: Path
) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/colours/spots/")
    file = tmp_path / "harbour.csv"
    file.write_text("name,L,a,b\nBuoy red,46,58,30\nLand buff,86,3,24\nDeep water,38,-8,-30\n")
    page.get_by_label("CxF/X-4, other CxF3").set_input_files(file)
    page.get_by_label("or a new book called").fill("Harbour")
    press(page, "Import")
    message(page, "Harbour: 3 added.")
    page.get_by_label("On the print mode", exact=True).select_option(label="Harbour proof")
    press(page, "Show")
    expect(page.locator("main")).to_contain_text("3 colours on Harbour proof")
    for name in ("Buoy red", "Land buff", "Deep water"):
        page.get_by_label(name, exact=True).focus()
        page.keyboard.press("Space")
    page.get_by_label("Title").fill("Harbour colours")
    press(page, "Lay out a swatch book")
    message(page, "1 book laid out")
    slips = print_and_read(page, "Petrel 44", 2)
    assert slips >= 0
    expect(page.locator("main")).to_contain_text("Differences, the largest first")
    press(page, "Let recipes learn")
    page.locator("main .message").wait_for()
    press(page, "Let jobs print these recipes")
    message(page, "Jobs on Harbour proof print these recipes.")
    press(page, "Deep water")
    expect(page.locator("main")).to_contain_text("Recipes that print it equally near")
    page.get_by_label("L 0 C -5 h 0").focus()
    page.keyboard.press("Enter")
    page.get_by_label("Keep it as").fill("Deeper water")
    press(page, "Keep this colour")
    message(page, "Deeper water was added to Harbour.")
    looked_at(page, server, "spots/", "spots/1/?mode=1", "books/1/", "books/")


def test_a_booth_fails_for_its_temperature_and_passes_with_new_lamps(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/colours/lights/")
    page.get_by_label("Place", exact=True).fill("Proof booth")
    press(page, "Add the place")
    message(page, "Proof booth is a place now")
    for hours, words in ((9000, "is warmer than D50"), (0, "Fit to judge prints in")):
        page.get_by_label("Hours its tubes have burned").fill(str(hours))
        press(page, "Make it so")
        message(page, "The simulated place is like this from now on.")
        measure(page, "Calibrate on dark", "Take the cap off")
        measure(page, "Measure the middle", "Proof booth")
        expect(page.locator(".lead-line")).to_contain_text(words)
        if hours:
            press(page, "New lamps are in")
            message(page, "Proof booth has new lamps")
    looked_at(page, server, "lights/", "lights/1/", "metamerism/", "spots/alike/")


def looked_at(page: Page, server: Server, *places: str) -> None:
    fit_and_are_grey(page, [f"{server.url}/colours/{place}" for place in places], DATA)


def measure(page: Page, act: str, words: str) -> None:
    """Press until the hand made no slip."""
    for _ in range(8):
        press(page, act)
        page.wait_for_function("!window.underway")
        said = page.locator("main .message").first
        said.wait_for()
        if words in said.inner_text() and "Nothing was kept" not in said.inner_text():
            return
    raise AssertionError(f"{act}: {said.inner_text()}")
