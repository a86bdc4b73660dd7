"""Proof in a browser: the G7 path of two prints, a failing strip and its diagnosis, own tolerances, files at
once.
"""

from __future__ import annotations

from pathlib import Path

import pypdfium2
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server, fit_and_are_grey, press, sign_in
from tests.browser.test_whole_way import print_and_read
from tests.web.test_checks import strip_text

pytestmark = pytest.mark.slow
STOCK = "harbour_proof"


def test_greys_are_calibrated_printed_again_and_verified(page: Page, server: Server) -> None:
    server.set_up("grey_proof")
    sign_in(page, server)
    press(page, "Grey proof")
    page.locator("#grey-balance").wait_for()
    print_and_read(page, 2)
    stage = page.locator("#grey-balance")
    expect(stage).to_contain_text("So far this is calibration alone.")
    assert stage.locator("svg.plot").count() == 2
    expect(stage).to_contain_text("was calibrated, but not verified by a second print")
    press(page, "Lay out the grey scale strip")
    page.get_by_role("heading", name="Verification: a second print").wait_for()
    print_and_read(page, 1)
    expect(stage.locator(".verdict-pass")).to_be_visible()
    press(page, "Look at the whole check")
    page.wait_for_selector("text=Grey balance and tone")
    assert page.locator("svg.plot").count() == 4 and "G7 Grayscale" in page.locator("main").inner_text()
    page.go_back()
    press(page, "Accept grey balance")
    page.wait_for_selector("text=Grey balance accepted.")
    assert "verified: PASS" in page.locator("#grey-balance").inner_text()


def test_a_strip_passes_then_fails_and_the_page_says_why(page: Page, server: Server, tmp_path: Path) -> None:
    sign_in(page, server)
    for fault, words in (("", "PASS"), ("magenta_drifts", "FAIL")):
        if fault:
            server.set_up(fault)
        page.goto(f"{server.url}/checks/new/")
        press(page, "Lay out the strip")
        page.wait_for_selector("text=Control strip for Harbour proof")
        print_and_read(page, 1)
        assert words in page.locator("table.list").first.inner_text().upper()
    page.locator("table.list a").first.click()
    expect(page.locator(".causes li").first).to_contain_text("Magenta prints too much")
    expect(page.get_by_role("link", name="Restore the mode to its baseline").first).to_be_visible()
    with page.expect_download() as download:
        page.evaluate(
            "() => { const a = document.createElement('a'); a.href = location.pathname + 'report.pdf'; "
            "a.download = 'r.pdf'; a.click(); }"
        )
    path = tmp_path / "report.pdf"
    download.value.save_as(path)
    text = pypdfium2.PdfDocument(str(path))[0].get_textpage().get_text_bounded()
    assert "FAIL" in text and "Magenta prints too much" in text
    press(page, "Sign off")
    page.wait_for_selector("text=Signed off")
    assert page.get_by_role("button", name="Sign off").count() == 0
    page.goto(server.url)
    expect(page.locator("main")).to_contain_text("Harbour proof")


def test_own_tolerances_and_many_files(page: Page, server: Server, tmp_path: Path) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/checks/tolerances/")
    press(page, "Copy iso12647-7:2016 to change it")
    page.wait_for_selector("text=can be changed now")
    page.get_by_label("Title", exact=True).fill("Pilot tolerances")
    page.locator("input[name=c1-limit]").fill("0.1")
    page.locator("input[name=c1-warning]").fill("0.3")
    page.get_by_label("Why").fill("tighter")
    press(page, "Save the set")
    page.wait_for_selector("text=Nothing was saved yet")  # a warning above its limit
    assert page.locator("input[name=c1-limit]").input_value() == "0.1"
    page.locator("input[name=c1-warning]").fill("")
    page.get_by_label("Why").fill("tighter")
    press(page, "Save the set")
    page.wait_for_selector("text=Saved.")
    for name, data in (
        ("one.txt", strip_text()),
        ("two.txt", strip_text(seed=2)),
        ("odd.txt", b"no readings"),
    ):
        (tmp_path / name).write_bytes(data)
    page.goto(f"{server.url}/checks/new/")
    page.locator("#files").set_input_files([tmp_path / n for n in ("one.txt", "two.txt", "odd.txt")])
    page.locator("#id_tolerances").first.select_option(label="Pilot tolerances")
    press(page, "Check these readings")
    page.wait_for_selector("text=0 of 3 passed")
    assert "odd.txt" in page.locator("main").inner_text() and page.locator(".verdict-fail").count() == 2
    page.goto(f"{server.url}/checks/")
    page.get_by_label("Verdict").select_option(label="failed")
    page.wait_for_url("**verdict=fail*")
    assert page.locator("#check-rows tbody tr").count() == 2


def test_pages_of_proof_fit_their_window_and_have_no_colour_but_data(page: Page, server: Server) -> None:
    server.run(
        "import django; django.setup()\n"
        "from tests.web.test_checks import *\n"
        "user = User.objects.get(username='ines'); "
        "aim = AimRecord.objects.get(name='Northlight Coated'); mode = "
        "PrintMode.objects.get()\n"
        "made(aim, user, 4.0, mode=mode); series(mode, aim, user, [0.1 * k for k in range(10)])\n"
    )
    sign_in(page, server)
    addresses = (
        "",
        "1/",
        "new/",
        "trends/",
        "schedules/",
        "compare/?a=check-1&b=check-2",
        "match/",
        "tolerances/",
        "tolerances/g7-targeted/",
        "aims/",
        "aims/1/",
        "spots/",
        "strips/",
        "1/report/",
    )
    fit_and_are_grey(
        page,
        [f"{server.url}/checks/{address}" for address in addresses],
        ".chip, .chip i, .swatches i, .keyline",
    )
