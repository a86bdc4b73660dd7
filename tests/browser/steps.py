"""What a build by keyboard is made of: freezing, printing and reading, restoring."""

from __future__ import annotations

from playwright.sync_api import Page

from tests.browser.conftest import Server, press, read_pass


def message(page: Page, words: str) -> None:
    page.wait_for_selector(f"main .message:has-text('{words}')")


def print_and_read(page: Page, printer: str, passes: int) -> int:
    """Print, dry and read; gives how many rows were misread and read again."""
    press(page, f"Print on {printer}")
    message(page, "Printed")
    if page.get_by_role("button", name="Let the simulated sheet dry").count():
        press(page, "Let the simulated sheet dry")
        message(page, "Simulated sheet is dry")
    slips = 0
    for number in range(1, passes + 1):
        press(page, f"Read pass {number}")
        slips += read_pass(page)
        page.wait_for_selector(f"text=Pass {number} is complete.")
    for attempt in range(6):
        again = page.get_by_role("button", name=f"again in pass {attempt % 2 + 1}")
        if again.count() == 0:
            return slips
        again.first.focus()
        page.keyboard.press("Enter")
        slips += 1 + read_pass(page)
        page.wait_for_selector("text=is complete.")
    raise AssertionError("the passes never agreed")


def freeze(page: Page, printer: str, inks: str, media: str, name: str) -> None:
    press(page, "New build")
    page.get_by_role("button", name="Freeze and start build").wait_for()
    page.get_by_label("Printer").select_option(label=printer)
    page.get_by_label("Ink set").select_option(label=inks)
    page.get_by_label("Media", exact=True).select_option(label=media)
    page.get_by_label("Name of the print mode").fill(name)


def restore(page: Page, server: Server, printer: str, volumes: dict[str, int]) -> str:
    """Let the machine drift and bring the newest mode back; gives what was said of the drift."""
    page.goto(f"{server.url}/printers/")
    press(page, printer)
    for ink, volume in volumes.items():
        page.get_by_label(f"{ink} volume, %").fill(str(volume))
    press(page, "Apply simulated drift")
    page.wait_for_selector("text=prints like this from now on")
    page.goto(f"{server.url}/modes/1/")
    press(page, "Restore to the baseline")
    page.wait_for_selector("text=Short chart, through the curves in use")
    print_and_read(page, printer, 2)
    words = page.locator(".words").inner_text()
    press(page, "Lay out the confirming chart")
    page.wait_for_selector("text=Confirming print")
    print_and_read(page, printer, 2)
    page.wait_for_selector("text=After the corrected curves")
    reason = page.locator("form:has(button:text-is('Use the corrected curves')) [name=reason]")
    if reason.count():
        reason.fill("the shadows are a little lighter, which nobody sees")
    press(page, "Use the corrected curves")
    page.wait_for_selector("text=are in use")
    return words
