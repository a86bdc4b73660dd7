"""From sign-in to a released print mode in a browser, by keyboard; and what survives a power cut."""

from __future__ import annotations

import io
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageCms
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


def test_from_sign_in_to_a_released_mode_by_keyboard(page: Page, server: Server, tmp_path: Path) -> None:
    sign_in(page, server)
    new_build(page)

    print_and_read(page, 2)
    assert page.locator("svg.plot").count() >= 2 and page.get_by_text("The passes agree.").first.is_visible()
    plot = page.locator("svg.plot").first
    plot.focus()
    page.keyboard.press("ArrowRight")
    assert "raw input" in page.locator(".plot-box output").first.inner_text()
    press(page, "Accept limits")

    page.wait_for_selector("text=Ink limits accepted.")
    print_and_read(page, 2)
    press(page, "Lay out the confirming chart")
    page.wait_for_selector("text=Confirming print, through the curves")
    print_and_read(page, 2)
    assert page.get_by_text("The tone scale is even.").is_visible()
    press(page, "Accept curves")

    page.wait_for_selector("text=Linearization accepted.")
    print_and_read(page, 1)
    press(page, "Accept total ink")

    page.wait_for_selector("text=Total ink accepted.")
    page.get_by_label("Patches").fill("220")
    press(page, "Lay out the chart")
    page.wait_for_selector("text=Print on Petrel 44")
    print_and_read(page, 2)
    press(page, "Accept readings")

    page.wait_for_selector("text=Profile chart accepted.")
    page.get_by_label("Tables").select_option("draft")
    press(page, "Build the profile")
    page.wait_for_selector("progress")
    page.get_by_role("button", name="Accept profile").wait_for(timeout=90000)
    press(page, "Accept profile")

    page.wait_for_selector("text=Profile accepted.")
    page.locator("#ink-limits > summary").focus()  # a folded stage brings its evidence when it is opened
    page.keyboard.press("Enter")
    page.locator("#ink-limits svg.plot").first.wait_for()
    assert "Why there" in page.locator("#ink-limits").inner_text()
    press(page, "Lay out the control strip")
    page.wait_for_selector("text=Print on Petrel 44")
    print_and_read(page, 1)
    assert page.locator("#check .big-verdict .verdict-pass").is_visible()
    press(page, "Accept check")

    page.wait_for_selector("text=Check accepted.")
    page.get_by_label("Note for operators").fill("Dry ten minutes before trimming.")
    press(page, "Release to library")
    page.wait_for_selector("text=is released to the library")

    press(page, "Print modes")
    page.wait_for_selector("input[type=search]")
    page.get_by_label("Words").fill("quay harbour")
    page.wait_for_url("**q=quay*")
    assert page.locator("#modes tbody tr").first.inner_text().strip().startswith("Quay proof")
    press(page, "Quay proof")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download profile").click()
    path = tmp_path / "mode.icc"
    download.value.save_as(path)

    transform = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"), ImageCms.getOpenProfile(io.BytesIO(path.read_bytes())), "RGB", "CMYK"
    )
    picture = ImageCms.applyTransform(Image.radial_gradient("L").convert("RGB"), transform)
    ink = np.asarray(picture).astype(int).sum(axis=2)
    assert picture.mode == "CMYK" and ink[128, 128] > 500 and ink[0, 0] < 12


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
    assert page.get_by_text("the worker stopped in the middle of it").is_visible()
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
