"""Draw docs/screenshots/ anew from fresh demo data: one PNG of each main view, 1280 x 800."""

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
                _draw(browser.new_page(viewport={"width": 1280, "height": 800}))
                browser.close()
        finally:
            server.terminate()
            server.wait(timeout=20)


def _wait() -> None:
    for _ in range(1800):
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
    shot("sign-in")
    page.fill("#id_username", "ines")
    page.fill("#id_password", "quay-street-1")
    page.keyboard.press("Enter")
    page.wait_for_selector("text=What needs doing")
    shot("start")
    for name, address in (
        ("print-modes", "/modes/"),
        ("printers", "/printers/"),
        ("media", "/media/"),
        ("new-build", "/builds/new/"),
    ):
        page.goto(URL + address)
        shot(name)
    page.goto(f"{URL}/modes/?q=contract")
    page.click("#modes tbody a >> nth=0")
    shot("print-mode")
    page.click("text=Look at profile")
    shot("profile")
    page.goto(f"{URL}/checks/")
    page.click("tr:has(.verdict-fail) a >> nth=0")
    shot("check-failing")
    page.goto(f"{URL}/modes/?q=contract")
    page.click("#modes tbody a >> nth=0")
    page.click("text=Open its log")
    for number, name in ((1, "ink-limits"), (2, "linearization")):
        page.click(f".stage >> nth={number - 1} >> summary >> nth=0")
        page.locator(f"#{name} .plot").first.scroll_into_view_if_needed()
        page.evaluate(f"document.querySelector('#{name} .step:nth-of-type(3)').scrollIntoView()")
        shot(f"stage-{name}")
        page.evaluate("scrollTo(0, 0)")
        page.click(f".stage >> nth={number - 1} >> summary >> nth=0")
    page.goto(URL)
    page.click("text=Fathom Satin, proofs both ways")
    page.evaluate("scrollTo(0, 0)")
    shot("build-log")
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
