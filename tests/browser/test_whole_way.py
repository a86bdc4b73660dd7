"""Builds in a browser: what survives a power cut, keys, and pages that fit their window."""

from __future__ import annotations

from contextlib import suppress

import pytest
from playwright.sync_api import Error, Page

from tests.browser.conftest import Server, fit_and_are_grey, press, read_pass, sign_in

pytestmark = pytest.mark.slow


def new_build(page: Page, name: str = "Quay proof") -> None:
    press(page, "New build")
    page.wait_for_selector("text=Freeze and start build")
    page.get_by_label("Printer").select_option(label="Petrel 44")
    page.get_by_label("Ink set").select_option(label="Tarn pigment")
    page.get_by_label("Media").select_option(label="Harbour Proof Semimatt 235")
    page.get_by_label("Name of the print mode").fill(name)
    page.keyboard.press("Enter")
    page.wait_for_selector("text=The environment is frozen")


def print_and_read(page: Page, passes: int) -> None:
    press(page, "Print on Petrel 44")
    page.wait_for_selector('.message:has-text("Printed")')
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("text=Simulated sheet is dry")
    read_passes(page, passes)


def read_passes(page: Page, passes: int) -> None:
    for number in range(1, passes + 1):
        press(page, f"Read pass {number}")
        read_pass(page)
        page.wait_for_selector(f"text=Pass {number} is complete.")
    for attempt in range(6):  # where a slip went unseen, the comparison names the rows: read them again
        again = page.get_by_role("button", name=f"again in pass {attempt % 2 + 1}")
        if again.count() == 0:
            return
        again.first.focus()
        page.keyboard.press("Enter")
        read_pass(page)
        page.wait_for_selector("text=is complete.")
    raise AssertionError("the passes never agreed")


def test_a_power_cut_in_the_middle_of_a_reading_loses_no_row(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page)
    press(page, "Print on Petrel 44")
    press(page, "Read pass 1 now (still drying)")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")
    while "2 of 5 rows" not in page.locator("#reading").inner_text():
        before = page.locator("#reading").inner_text()
        page.keyboard.press("Space")
        page.wait_for_function(
            "before => document.querySelector('#reading').innerText !== before", arg=before
        )
    address = page.url
    server.kill()
    server.start()
    page.goto(address)
    assert "2 of 5 rows" in page.locator("#reading").inner_text()
    read_pass(page)
    page.wait_for_selector("text=Pass 1 is complete.")


def test_keys_go_to_a_row_and_pause(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page)
    press(page, "Print on Petrel 44")
    press(page, "Read pass 1 now (still drying)")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("Space")  # the white tile, which is due; the next keys come before the answer
    page.keyboard.press("4")
    page.keyboard.press("g")
    page.wait_for_selector("text=Row 4 is next.")
    assert page.locator(".row-no").inner_text() == "row 4"
    page.keyboard.press("p")
    page.wait_for_selector("text=Go on with pass 1")


def test_killing_the_worker_leaves_a_task_that_can_be_started_again(page: Page, server: Server) -> None:
    server.set_up("half_way")
    sign_in(page, server)
    press(page, "Half way")
    press(page, "Build the profile")
    page.wait_for_function(
        "document.querySelector('progress') && document.querySelector('progress').value > 0", timeout=30000
    )
    server.kill()
    page.goto("about:blank")
    server.start()
    for _ in range(40):
        with suppress(Error):  # a page that is loading itself again, as it does when a task ends
            page.goto(f"{server.url}/builds/1/")
            page.get_by_text("start it again").wait_for(timeout=500)
            break
    assert page.get_by_text("the worker stopped before it was done").is_visible()
    page.get_by_label("Tables").select_option("draft")
    press(page, "Build the profile")
    page.get_by_role("button", name="Accept profile").wait_for(timeout=90000)


def test_pages_fit_their_window_and_have_no_colour_but_data(page: Page, server: Server) -> None:
    sign_in(page, server)
    addresses = (
        "",
        "modes/",
        "printers/",
        "media/",
        "media/1/",
        "checks/",
        "builds/new/",
        "files/",
        "media-classes/",
        "printers/1/",
    )
    fit_and_are_grey(page, [f"{server.url}/{address}" for address in addresses])
