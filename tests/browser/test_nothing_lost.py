"""What goes wrong is said where one looks, and nothing that was typed is lost."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server, press, serving, sign_in
from tests.browser.test_whole_way import new_build

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, prepared: Path) -> Iterator[Server]:
    """One server for all tests here: each begins a build of its own."""
    with serving(prepared, tmp_path_factory.mktemp("shared") / "home") as made:
        yield made


def test_a_lost_line_a_failure_and_an_expired_sign_in_keep_what_was_typed(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/media/1/")
    why = page.get_by_label("Why")
    page.get_by_label("Weight").fill("231")
    why.fill("weighed again")
    bar = page.locator("#problem")

    page.context.set_offline(True)
    press(page, "Save media")
    expect(bar).to_contain_text("The server does not answer. What you typed is kept")
    assert why.input_value() == "weighed again"
    page.context.set_offline(False)
    expect(bar).to_be_hidden()

    page.route("**/media/1/", lambda r: r.fulfill(status=500, body="<main id=main></main>"), times=1)
    press(page, "Save media")
    expect(bar).to_contain_text("The program failed. What you typed is kept")
    assert why.input_value() == "weighed again" and page.url.endswith("/media/1/")
    bar.get_by_role("button", name="Close").click()

    page.context.clear_cookies()
    press(page, "Save media")
    dialog = page.get_by_role("dialog", name="You were signed out")
    dialog.get_by_label("Password").fill("wrong, that is")
    page.keyboard.press("Enter")
    expect(dialog.get_by_role("alert")).to_contain_text("That password does not fit")
    dialog.get_by_label("Password").fill("quay-street-1")
    page.keyboard.press("Enter")
    page.wait_for_selector("main .message:has-text('saved')")
    assert page.get_by_label("Weight").input_value() == "231", "what was being done went on"


def test_signed_out_in_the_middle_of_narrowing_shows_no_page_in_a_panel(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/modes/")
    page.context.clear_cookies()
    page.get_by_label("Words").fill("quay")
    dialog = page.get_by_role("dialog", name="You were signed out")
    dialog.wait_for()
    assert page.locator("#modes [name=password]").count() == 0
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()
    page.goto(f"{server.url}/media/1/")
    assert "next=/media/1/" in page.url, "signing in leads back"


def test_refused_stale_and_misused_forms_of_a_log(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page, "Quay proof 1")
    address = page.url.split("#")[0]

    press(page, "Print on Petrel 44")
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("text=Simulated sheet is dry")
    press(page, "Read pass 1")
    page.wait_for_selector("#reading")
    page.go_back()
    print_once_more(page)

    stale = page.context.new_page()
    stale.goto(address)
    reason = stale.locator("form.decision [name$=reason]")
    reason.fill("as agreed with the press room")
    cyan = page.locator("input[name='ink-limits-C']")
    cyan.fill("1,000")
    assert cyan.evaluate("e => e.validationMessage").startswith("Write thousands without a comma")
    cyan.fill("70,5")
    page.keyboard.press("ArrowUp")
    assert cyan.input_value() == "71"
    cyan.fill("70,5")
    page.locator("form.decision [name$=reason]").fill("")
    press(page, "Accept limits")
    expect(page.locator("form.decision .errorlist").first).to_be_in_viewport()
    assert page.url.split("#")[0] == address
    page.locator("form.decision [name$=reason]").fill("less cyan")
    press(page, "Accept limits")
    page.wait_for_selector("main .message:has-text('Ink limits accepted.')")
    assert "C 70.5 %" in page.locator("#ink-limits .headline").inner_text(), "a comma is a point"

    press(stale, "Accept limits")
    told = stale.locator("main .message.error")
    expect(told).to_contain_text(re.compile(r"Ines Marrow accepted ink limits at \d\d:\d\d"))
    assert reason.input_value() == "as agreed with the press room"
    told.get_by_role("link", name="Load the page again").click()
    stale.locator("#linearization[open]").wait_for()
    stale.close()


def print_once_more(page: Page) -> None:
    """Both passes of a chart that is printed and dry."""
    from tests.browser.conftest import read_pass

    press(page, "Go on with pass 1")
    read_pass(page)
    page.wait_for_selector("text=Pass 1 is complete.")
    press(page, "Read pass 2")
    read_pass(page)
    page.wait_for_selector("text=Pass 2 is complete.")


def test_news_of_the_server_wipes_nothing_that_is_typed(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page, "Quay proof 2")
    press(page, "Print on Petrel 44")
    page.wait_for_selector("text=Drying:")
    page.get_by_text("Read it another way, or on other paper").click()
    paper = page.locator("select[name=page]:visible")
    paper.select_option("a3")
    paper.focus()
    page.evaluate("document.querySelector('[data-dry]').dataset.dry = new Date(Date.now() - 1).toISOString()")
    bar = page.locator("#problem")
    expect(bar).to_contain_text("The sheet is dry. What you typed stays until you show it.")
    assert paper.input_value() == "a3"
    expect(paper).to_be_focused()
    bar.get_by_role("button", name="Show it now").click()
    expect(bar).to_be_hidden()


def test_keys_do_what_the_focused_control_says(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page, "Quay proof 3")
    press(page, "Print on Petrel 44")
    press(page, "Read pass 1 now (still drying)")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("?")
    listed = page.get_by_role("dialog", name="Shortcuts of this page")
    assert "Take last row back" in listed.inner_text() and "space" in listed.inner_text()
    listed.get_by_label("Shortcuts of single keys are on").uncheck()
    page.keyboard.press("Escape")
    expect(listed).to_be_hidden()
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("w")
    page.wait_for_timeout(300)
    assert "not yet" in page.locator("#reading .facts-now").inner_text(), "switched off"
    page.evaluate("localStorage.removeItem('shortcuts-off')")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")

    skip = page.get_by_role("button", name="Skip row")
    skip.focus()
    page.keyboard.press("Space")
    page.wait_for_selector("text=Row 1 is skipped for now.")
    expect(skip).to_be_focused()
    page.keyboard.press("u")
    page.wait_for_timeout(300)
    assert "Row 1 is skipped for now." in page.locator("#reading").inner_text(), "a control has the focus"
    page.get_by_role("button", name="Read row 2").click()
    page.wait_for_function(
        "!document.querySelector('#reading').innerText.includes('Row 1 is skipped for now.')"
    )
    assert page.evaluate("document.activeElement === document.body"), "a click leaves the keys free"
