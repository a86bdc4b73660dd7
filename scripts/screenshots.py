"""Draw docs/screenshots/ again from fresh demo data: one PNG of each main view, 1280 x 800."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--no-first-run",
]
PORT = 8765
URL = f"http://127.0.0.1:{PORT}"


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "GREYANCHOR_HOME": home}
        server = subprocess.Popen(
            [sys.executable, "-m", "greyanchor.cli", "demo", "--port", str(PORT)], env=environment
        )
        try:
            _wait()
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
                _draw(browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True))
                browser.close()
        finally:
            server.terminate()
            server.wait(timeout=20)


def _wait() -> None:
    for _ in range(4000):
        try:
            urllib.request.urlopen(f"{URL}/sign-in/", timeout=1)
            return
        except OSError:
            time.sleep(0.1)
    raise SystemExit("the demo did not start")


def _draw(page: Page) -> None:
    def shot(name: str) -> None:
        page.wait_for_load_state("networkidle")
        page.screenshot(path=TARGET / f"{name}.png")

    page.goto(URL)
    page.fill("#id_username", "ines")
    page.fill("#id_password", "quay-street-1")
    page.keyboard.press("Enter")
    page.wait_for_selector("text=What needs doing")
    shot("start")
    for name, address in (
        ("print-modes", "/modes/"),
        ("unattended", "/unattended/"),
        ("artwork", "/artwork/"),
    ):
        page.goto(URL + address)
        shot(name)
    page.goto(f"{URL}/modes/?q=contract")
    page.click("#modes tbody a >> nth=0")
    shot("print-mode")
    page.click("text=Look at profile")
    shot("profile")
    page.click(".tabs >> text=Gamut")
    page.wait_for_selector("#solid[data-solids]")
    shot("gamut")
    page.goto(f"{URL}/checks/")
    page.click("tr:has-text('Fathom Satin'):has(.verdict-fail) a >> nth=0")
    page.wait_for_selector(".causes")
    shot("check-failing")
    page.goto(URL)
    page.click("section:has-text('Drifting') td a >> nth=0")
    page.wait_for_selector("h1:has-text('over time')")
    shot("trend")
    page.goto(f"{URL}/modes/?q=contract")
    page.click("#modes tbody a >> nth=0")
    page.click("text=Open its log")
    page.click("#total-ink > summary")
    page.locator("#total-ink .plot").first.scroll_into_view_if_needed()
    shot("build-log")
    page.goto(f"{URL}/families/1/")
    for _ in range(60):  # the worker finds what the members have in common
        if page.locator("text=Let them print alike").count():
            break
        page.wait_for_timeout(2000)
        page.reload()
    shot("family")
    page.goto(f"{URL}/jobs/?q=pilot+contract")
    page.click("#jobs tbody a >> nth=0")
    page.wait_for_selector(".shares")
    page.wait_for_selector("button:has-text('Try')")
    page.locator("h1").click()
    page.keyboard.press("3")
    page.keyboard.press("l")
    page.wait_for_function("document.querySelector('.loupe-window img')?.naturalWidth > 200", timeout=60000)
    shot("light-table")
    page.goto(f"{URL}/runs/?q=stickers")
    page.click("#runs tbody a >> nth=0")
    page.wait_for_function("[...document.querySelectorAll('.run-sheet image')].length > 19")
    shot("run")
    for _ in range(5):
        page.goto(f"{URL}/print-files/1/")
        page.click("button:has-text('Put it on the list')")
        page.wait_for_url("**/machines/*/")
    for _ in range(3):
        page.goto(page.url)
        page.click("button:has-text('Let it go') >> nth=0")
        page.wait_for_load_state("networkidle")
    page.wait_for_selector("#roll td:has-text('printing')", timeout=60000)
    page.wait_for_function(
        "[...document.querySelectorAll('svg.roll image')].some(i => i.href.baseVal.includes('seen'))",
        timeout=60000,
    )
    shot("machine")
    page.goto(f"{URL}/jobs/?q=crew-shirt-six-spots.pdf")
    page.click("#jobs tbody tr:last-child a >> nth=0")
    page.click("text=As plates")
    page.wait_for_function(
        "document.querySelector('[data-plates-picture]')?.naturalWidth > 100", timeout=60000
    )
    shot("plates")
    page.goto(f"{URL}/colours/spots/?q=shoal")
    page.select_option("#spot-mode", label="Harbour Proof, contract proof")
    page.click("main >> button:has-text('Show')")
    page.click("main tbody a >> nth=0")
    page.wait_for_selector("text=Its surroundings")
    shot("spot-colour")
    page.goto(f"{URL}/colours/lights/")
    page.click("text=Quay Street booth")
    page.wait_for_selector("text=Not fit to judge prints in")
    shot("viewing-light")
    page.goto(f"{URL}/modes/?q=contract")
    page.click("#modes tbody a >> nth=0")
    page.click("table:has-text('Found, dE00') tbody a >> nth=0")
    shot("restore")
    page.goto(URL)
    page.click("text=Lightbox Film, harbour panorama: profile chart")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("networkidle")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")
    page.keyboard.press("Space")
    page.wait_for_selector(".reading-now .say:has-text('Row 9')")
    shot("reading")


if __name__ == "__main__":
    main()
