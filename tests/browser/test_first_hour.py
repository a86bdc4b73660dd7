"""The first hour of a new shop: from an empty folder to a released print mode, by what the screen says."""

from __future__ import annotations

import io
import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageCms
from playwright.sync_api import Page

from tests.browser.conftest import Server, press
from tests.browser.test_whole_way import read_passes

pytestmark = pytest.mark.slow

MOST_MINUTES = 15


class EmptyShop(Server):
    """`greyanchor serve` on an empty folder; what it prints is kept."""

    def __init__(self, home: Path) -> None:
        super().__init__(home)
        del self.environment["GREYANCHOR_DEMO"]
        self.printed = home.parent / "printed.txt"

    def start(self) -> None:
        command = [sys.executable, "-m", "greyanchor.cli", "serve", "--port", str(self.port)]
        with self.printed.open("w") as out:
            self.process = subprocess.Popen(
                command, env=self.environment, stdout=out, stderr=subprocess.STDOUT, start_new_session=True
            )
        for _ in range(1200):
            if self.link:
                return
            assert self.process.poll() is None, self.printed.read_text()[-3000:]
            time.sleep(0.1)
        raise RuntimeError(f"the server printed no link: {self.printed.read_text()[-3000:]}")

    @property
    def link(self) -> str:
        """The address that the server printed for the first account."""
        found = re.search(r"http://\S+/first-account/\S+", self.printed.read_text())
        return found[0] if found else ""


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    home = tmp_path / "home"
    os.makedirs(home)
    made = EmptyShop(home)
    made.start()
    yield made
    made.stop()


def _print_and_read(page: Page, passes: int) -> None:
    press(page, "Print on Wherry 40")
    page.wait_for_selector("main .message:has-text('Printed')")
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("main .message:has-text('Simulated sheet is dry')")
    read_passes(page, passes)


def _separates(path: Path) -> None:
    """Another engine takes the profile: black is ink, white is none."""
    transform = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"), ImageCms.getOpenProfile(io.BytesIO(path.read_bytes())), "RGB", "CMYK"
    )
    picture = ImageCms.applyTransform(Image.radial_gradient("L").convert("RGB"), transform)
    ink = np.asarray(picture).astype(int).sum(axis=2)
    assert picture.mode == "CMYK" and ink[128, 128] > 500 and ink[0, 0] < 12


def test_from_an_empty_folder_to_a_released_mode(page: Page, server: EmptyShop, tmp_path: Path) -> None:
    began = time.monotonic()
    page.goto(server.link)
    page.get_by_label("Name to sign in with").fill("odile")
    page.get_by_label("Password").fill("a long password")
    page.get_by_label("Print room").fill("Harbour room")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="First steps").wait_for()

    press(page, "Set up a printer")
    page.get_by_label("Name of the printer").fill("Wherry 40")
    page.get_by_label("UV-cured, four inks").check()
    page.wait_for_function("document.getElementById('id_kind').value === 'UV-cured'")
    assert page.get_by_label("Name of the printer").input_value() == "Wherry 40", "what was typed is kept"
    page.get_by_label("Aqueous, four inks").check()
    page.wait_for_function("document.getElementById('id_kind').value === 'aqueous pigment'")
    for label, text in (
        ("Model", "Wherry 40"),
        ("Serial number", "W-1"),
        ("Name of the ink set", "Marsh ink"),
        ("Name of the media", "Saltern coated 200"),
        ("Maker", "Saltern"),
        ("Channels", "CMYK"),
        ("Passes", "four"),
    ):
        page.get_by_label(label, exact=True).fill(text)
    page.get_by_label("Reached by").select_option("simulated")
    press(page, "Set up")
    page.wait_for_selector("#id_passes:focus")
    assert "Write whole numbers" in page.locator(".field:has(#id_passes)").inner_text()
    page.get_by_label("Passes", exact=True).fill("4, 8")
    page.get_by_label("Reached by").select_option("simulated")
    press(page, "Set up")
    page.wait_for_selector("main .message:has-text('Wherry 40 is in the library')")

    press(page, "Start a build")
    page.get_by_role("button", name="Freeze and start build").wait_for()
    press(page, "Freeze and start build")
    page.wait_for_selector("main .message:has-text('The environment is frozen')")
    _print_and_read(page, 2)
    press(page, "Accept limits")
    page.wait_for_selector("main .message:has-text('Ink limits accepted.')")
    _print_and_read(page, 2)
    press(page, "Lay out the confirming chart")
    _print_and_read(page, 2)
    press(page, "Accept curves")
    page.wait_for_selector("main .message:has-text('Linearization accepted.')")
    _print_and_read(page, 1)
    press(page, "Accept total ink")
    page.wait_for_selector("main .message:has-text('Total ink accepted.')")
    page.get_by_label("Patches").fill("220")
    press(page, "Lay out the chart")
    _print_and_read(page, 2)
    press(page, "Accept readings")
    page.wait_for_selector("main .message:has-text('Profile chart accepted.')")
    page.get_by_label("Tables").select_option("draft")
    press(page, "Build the profile")
    page.get_by_role("button", name="Accept profile").wait_for(timeout=90000)
    press(page, "Accept profile")
    page.wait_for_selector("main .message:has-text('Profile accepted.')")
    page.locator("#ink-limits > summary").focus()  # a folded stage brings its evidence when it is opened
    page.keyboard.press("Enter")
    page.locator("#ink-limits svg.plot").first.wait_for()
    assert "Why there" in page.locator("#ink-limits").inner_text()
    aim = page.get_by_label("Aim", exact=True)
    assert "Generic coated" in aim.inner_text(), "an aim is there from the start"
    aim.select_option(label="Generic coated, edition 1")
    press(page, "Lay out the control strip")
    _print_and_read(page, 1)
    assert page.locator("#check .big-verdict .verdict").is_visible()
    if page.get_by_text("Reason required").count():
        press(page, "Accept check")
        page.wait_for_selector("#check form.decision [name$=reason]:focus")
        page.locator("#check form.decision [name$=reason]").fill("the aim is wider than this media")
    press(page, "Accept check")
    page.wait_for_selector("main .message:has-text('Check accepted.')")
    page.get_by_label("Note for operators").fill("Dry ten minutes before trimming.")
    press(page, "Release to library")
    page.wait_for_selector("main .message:has-text('is released to the library')")
    press(page, "Print modes")
    page.wait_for_selector("input[type=search]")
    page.get_by_label("Words").fill("saltern wherry")
    page.wait_for_url("**q=saltern*")
    press(page, page.locator("#modes tbody tr a").first.inner_text())
    with page.expect_download() as download:
        page.get_by_role("link", name="Download profile").click()
    download.value.save_as(tmp_path / "mode.icc")
    _separates(tmp_path / "mode.icc")

    page.goto(server.url)
    page.get_by_role("heading", name="What needs doing").wait_for()
    assert page.get_by_role("heading", name="First steps").count() == 0
    assert time.monotonic() - began < 60 * MOST_MINUTES
