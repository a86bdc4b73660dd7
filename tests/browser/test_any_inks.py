"""Seven inks with white, and a printer that takes R G B, by keyboard: built, released, drifted, restored."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page

from tests.browser.conftest import Server, press, sign_in
from tests.browser.steps import freeze, message, print_and_read, restore

pytestmark = pytest.mark.slow


def profile_check_and_release(page: Page, printer: str, patches: int) -> int:
    """Everything from the profile chart on."""
    page.get_by_label("Patches").fill(str(patches))
    press(page, "Lay out the chart")
    slips = print_and_read(page, printer, 2)
    press(page, "Accept readings")
    message(page, "Profile chart accepted.")
    page.get_by_label("Tables").select_option("draft")
    press(page, "Build the profile")
    page.get_by_role("button", name="Accept profile").wait_for(timeout=120000)
    doubts = page.locator("#profile form.decision").inner_text()
    if "Reason required" in doubts:
        print(doubts)
        page.locator("#profile form.decision [name$=reason]").fill("a draft, to be read again")
    press(page, "Accept profile")
    message(page, "Profile accepted.")
    page.get_by_label("Aim", exact=True).select_option(label="Northlight Coated, edition 1")
    press(page, "Lay out the control strip")
    slips += print_and_read(page, printer, 1)
    assert page.locator("#check .big-verdict .verdict").is_visible()
    reason = page.locator("#check form.decision [name$=reason]")
    if page.get_by_text("Reason required").count():
        reason.fill("the aim is wider than this media")
    press(page, "Accept check")
    message(page, "Check accepted.")
    page.get_by_label("Note for operators").fill("Dry before trimming.")
    press(page, "Release to library")
    message(page, "is released to the library")
    return slips


def test_a_printer_that_takes_r_g_b_from_its_driver_to_a_restore(page: Page, server: Server) -> None:
    sign_in(page, server)
    freeze(page, "Dunlin 24", "Tarn photo", "Fathom Satin 260", "Satin photographs")
    assert page.get_by_label("Paper in the driver").input_value() == "Photo satin"
    page.get_by_label("Colour management of the driver").select_option("on")
    page.get_by_label("Quality in the driver").fill("Best")
    press(page, "Freeze and start build")
    page.wait_for_selector("text=Turn it off: what goes through")
    assert page.get_by_text("The driver of Dunlin 24 has Fine, Standard.").is_visible()
    page.get_by_label("Colour management of the driver").select_option("off")
    page.get_by_label("Quality in the driver").fill("Fine")
    press(page, "Freeze and start build")
    message(page, "Driver comes first")
    assert page.locator("text=Total ink").count() == 0, "stages of inks are no part of it"
    slips = print_and_read(page, "Dunlin 24", 2)
    assert page.get_by_text("range", exact=True).is_visible()
    page.get_by_label("Greys through the curves").select_option("neutral")
    press(page, "Use these curves")
    page.wait_for_selector("#tones option[value=neutral][selected]", state="attached")
    press(page, "Lay out the confirming chart")
    slips += print_and_read(page, "Dunlin 24", 2)
    press(page, "Accept driver")
    message(page, "Driver accepted.")
    slips += profile_check_and_release(page, "Dunlin 24", 300)
    assert slips > 0, "the hand slips now and then, and the row is read again"
    words = restore(page, server, "Dunlin 24", {"C": 108, "M": 93})
    assert "R prints" in words or "G prints" in words


def test_seven_inks_and_white_from_frozen_environment_to_a_restore(page: Page, server: Server) -> None:
    sign_in(page, server)
    freeze(page, "Gannet 64", "Basalt UV seven", "Kelp Synthetic 190", "Kelp in seven")
    press(page, "Freeze and start build")
    message(page, "Ink limits comes first")
    slips = print_and_read(page, "Gannet 64", 2)
    assert "To the gamut of the others" in page.locator("#cost").inner_text()
    press(page, "Accept limits")
    message(page, "Ink limits accepted.")
    slips += print_and_read(page, "Gannet 64", 2)
    press(page, "Lay out the confirming chart")
    slips += print_and_read(page, "Gannet 64", 2)
    press(page, "Accept curves")
    message(page, "Linearization accepted.")
    slips += print_and_read(page, "Gannet 64", 1)
    press(page, "Accept total ink")
    message(page, "Total ink accepted.")
    slips += print_and_read(page, "Gannet 64", 1)
    assert "hides" in page.locator("#white").inner_text()
    press(page, "Accept white")
    message(page, "White accepted.")
    slips += profile_check_and_release(page, "Gannet 64", 700)
    assert slips > 0, "the hand slips now and then, and the row is read again"
    page.goto(f"{server.url}/checks/1/")
    page.get_by_role("heading", name="Inks alone").wait_for()
    words = restore(page, server, "Gannet 64", {"O": 92, "M": 108})
    assert "O prints" in words and "M prints" in words
