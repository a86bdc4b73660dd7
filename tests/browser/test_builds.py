"""The bench in a browser: wet sheets, files, dragged limits and curves, eyes, branches, lending, a
restore.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from click.testing import CliRunner
from playwright.sync_api import Page

from greyanchor.cli import main
from tests.browser.conftest import Server, press, read_pass, sign_in
from tests.browser.test_whole_way import new_build, print_and_read

pytestmark = pytest.mark.slow


def test_a_wet_sheet_a_killed_server_and_a_misread_row_by_keyboard(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page)
    press(page, "Print on Petrel 44")
    page.wait_for_selector("text=Drying:")
    press(page, "Read pass 1 now (still drying)")
    read_pass(page)
    page.wait_for_selector("text=Pass 1 is complete.")
    assert page.get_by_text("min before it was dry").is_visible()
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("text=Simulated sheet is dry")
    press(page, "Read pass 2")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")
    while "3 of 5 rows" not in (before := page.locator("#reading").inner_text()):
        page.keyboard.press("Space")
        page.wait_for_function("b => document.querySelector('#reading').innerText !== b", arg=before)
    address = page.url
    server.kill()
    # a row misread the way nobody noticed, in the rows that were kept
    server.run(
        "import django; django.setup()\n"
        "from greyanchor.measuring.models import ReadingRow\n"
        "row = ReadingRow.objects.get(reading_pass__number=2, row=2)\n"
        "row.spectra = row.spectra[::-1]; row.save()\n"
    )
    server.start()
    page.goto(address)
    assert "3 of 5 rows" in page.locator("#reading").inner_text()
    read_pass(page)
    page.wait_for_selector("text=Pass 2 is complete.")
    assert page.get_by_text("Row 2 differs between the passes").is_visible()
    assert not page.get_by_role("heading", name="Result").is_visible(), "nothing is computed meanwhile"
    page.get_by_role("button", name="again in pass 2").first.focus()
    page.keyboard.press("Enter")
    read_pass(page)
    page.wait_for_selector("text=Pass 2 is complete.")
    assert page.get_by_text("still drying").is_visible(), "the wet pass is distinguished from the dry one"
    press(page, "Leave pass 1 out")
    page.wait_for_selector("text=The pass is left out")
    press(page, "Read pass 3")
    read_pass(page)
    page.wait_for_selector("text=Pass 3 is complete.")
    assert page.get_by_text("The passes agree.").first.is_visible()
    press(page, "Accept limits")
    page.wait_for_selector("text=Ink limits accepted.")


def test_limits_and_curves_are_dragged_and_a_build_goes_on_by_files(
    page: Page, server: Server, tmp_path: Path
) -> None:
    sign_in(page, server)
    new_build(page)
    for number in (1, 2):
        send_reading(page, tmp_path, number)
    field = page.get_by_label("C, %", exact=True)
    before, cost = float(field.input_value()), page.locator("#cost").inner_text()
    plot = page.locator(".limit-views svg.plot").first
    plot.scroll_into_view_if_needed()
    line = plot.locator('[data-mark="C"]').bounding_box()
    page.mouse.move(line["x"], line["y"] + 40)
    page.mouse.down()
    page.mouse.move(line["x"] - 60, line["y"] + 40, steps=6)
    page.mouse.up()
    page.wait_for_function("cost => document.querySelector('#cost').innerText !== cost", arg=cost)
    after = float(field.input_value())
    assert after < before - 5
    moved = plot.locator('[data-mark="C"]').bounding_box()
    assert moved["x"] < line["x"] - 40
    page.get_by_label("Reason", exact=False).last.fill("cyan pools on this coating")
    press(page, "Accept limits")
    page.wait_for_selector("text=Ink limits accepted.")
    assert f"C {after:.1f} %" in page.locator("#ink-limits .headline").inner_text()

    for number in (1, 2):
        send_reading(page, tmp_path, number)
    assert page.locator("circle.handle:visible").count() == 9, "handles of one ink at a time"
    page.get_by_text("Another aim, or a curve moved by hand").click()
    page.get_by_label("Edit", exact=True).select_option("M")
    handle = page.locator('circle.handle[data-channel="M"][data-input="50"]')
    value = float(handle.get_attribute("aria-valuenow"))
    handle.focus()
    for _ in range(6):
        page.keyboard.press("ArrowUp")
    page.keyboard.press("Enter")
    page.wait_for_selector("text=edited by hand: M")
    again = page.locator('circle.handle[data-channel="M"][data-input="50"]')
    assert float(again.get_attribute("aria-valuenow")) == pytest.approx(value + 3, abs=0.3)
    page.wait_for_load_state("networkidle")
    again.scroll_into_view_if_needed()
    box = again.bounding_box()
    page.mouse.move(box["x"] + 4, box["y"] + 4)
    page.mouse.down()
    page.mouse.move(box["x"] + 4, box["y"] + 24, steps=4)
    page.mouse.up()
    page.wait_for_function(
        """v => {
          const handle = document.querySelector('circle.handle[data-channel="M"][data-input="50"]');
          return handle && parseFloat(handle.getAttribute('aria-valuenow')) < v;
        }""",
        arg=value + 2,
    )


def send_reading(page: Page, tmp_path: Path, number: int) -> None:
    """The chart as a file, read elsewhere, sent back: shown first, then used."""
    with page.expect_download() as download:
        page.get_by_role("link", name="CGATS", exact=True).first.click()
    chart, readings = tmp_path / "chart.txt", tmp_path / f"reading-{number}.csv"
    download.value.save_as(chart)
    read = tmp_path / "reading.txt"
    for arguments in (
        ["simulate", str(chart), "--reading", str(number), "-o", str(read)],
        ["convert", str(read), str(readings)],
    ):
        done = CliRunner().invoke(main, arguments)
        assert done.exit_code == 0, done.output
    page.get_by_text("Upload readings instead").first.click()
    page.locator("input[type=file]").first.set_input_files(readings)
    press(page, "Look at the file")
    page.wait_for_selector("text=Yes, by patch ids.")
    press(page, "Use it as a pass")
    page.wait_for_selector(f"text=is kept as pass {number}")


def test_a_build_by_eye_on_media_that_nothing_reads(page: Page, server: Server) -> None:
    sign_in(page, server)
    press(page, "New build")
    page.get_by_label("Printer").select_option(label="Petrel 44")
    page.get_by_label("Ink set").select_option(label="Tarn pigment")
    page.get_by_label("Media").select_option(label="Gangway Mesh 270")
    page.get_by_label("Name of the print mode").fill("Mesh by eye")
    press(page, "Freeze and start build")
    page.wait_for_selector("text=under the loupe")
    picture = page.locator(".loupe img").first
    picture.scroll_into_view_if_needed()
    page.wait_for_function("document.querySelector('.loupe img').naturalWidth > 500")
    for channel in "CMYK":
        page.get_by_role("button", name=channel, exact=True).click()
        assert page.locator(".loupe:visible").count() == 1
        page.locator(f'select[name="{channel}|bleed"]').select_option("60")
    press(page, "Save marks")
    page.wait_for_selector("text=by eye: bleed was seen past 60 %")
    press(page, "Accept limits")
    page.wait_for_selector("text=Ink limits accepted.")
    press(page, "Match C")
    for channel in "CMYK":
        page.wait_for_selector(f"text=Match {channel} by eye")
        for group in page.locator("#main fieldset").all():
            group.locator("input[type=radio]").nth(5).focus()
            page.keyboard.press("Space")
        press(page, f"Save matches of {channel}")
    page.wait_for_selector("text=the curves are computed")
    assert page.get_by_text("Matched by eye.").is_visible() and page.locator("svg.plot").count() >= 1
    press(page, "Accept curves")
    page.wait_for_selector("text=Linearization accepted.")
    page.locator('select[name="all|slow drying"]').select_option("240")
    press(page, "Save marks")
    page.wait_for_selector("text=slow drying was seen past 240 %")
    press(page, "Accept total ink")
    page.wait_for_selector("text=Total ink accepted.")


def test_a_table_is_read_by_corners_with_the_keyboard(page: Page, server: Server) -> None:
    sign_in(page, server)
    press(page, "New build")
    page.get_by_label("Printer").select_option(label="Petrel 44")
    page.get_by_label("Media").select_option(label="Thrift Bond 90")
    page.get_by_label("Method").select_option("inline")
    page.get_by_label("Name of the print mode").fill("Bond on the table")
    press(page, "Freeze and start build")
    page.wait_for_selector("text=cannot travel backwards")
    page.get_by_label("Method").select_option("table")
    press(page, "Freeze and start build")
    page.wait_for_selector("dd:has-text('measuring table')")
    press(page, "Print on Petrel 44")
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("text=Simulated sheet is dry")
    press(page, "Read pass 1")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.keyboard.press("w")
    page.wait_for_selector("text=White calibration done")
    for _ in range(12):
        if "in place" in page.locator("#reading .say").inner_text():
            break
        before = page.locator("#reading").inner_text()
        page.keyboard.press("c")
        page.wait_for_function("b => document.querySelector('#reading').innerText !== b", arg=before)
    page.keyboard.press("Space")
    page.wait_for_selector("text=Pass 1 is complete.")


def test_a_restore_after_drift_a_faster_mode_and_an_inherited_one(page: Page, server: Server) -> None:
    server.set_up("released_mode")
    sign_in(page, server)
    page.goto(f"{server.url}/printers/1/")
    page.get_by_label("C volume, %").fill("110")
    press(page, "Apply simulated drift")
    page.wait_for_selector("text=prints like this from now on")
    page.goto(f"{server.url}/modes/1/")
    press(page, "Restore to the baseline")
    page.wait_for_selector("text=Short chart, through the curves in use")
    print_and_read(page, 2)
    assert page.get_by_text("C prints").is_visible() and "heavier" in page.locator(".words").inner_text()
    press(page, "Lay out the confirming chart")
    page.wait_for_selector("text=Confirming print")
    print_and_read(page, 2)
    page.wait_for_selector("text=After the corrected curves")
    assert page.locator(".big-verdict .verdict-pass").is_visible()
    press(page, "Use the corrected curves")
    page.wait_for_selector("text=are in use")
    assert page.locator("svg.plot").count() >= 2

    page.goto(f"{server.url}/modes/1/")
    press(page, "Derive a faster mode")
    page.get_by_label("Name of the faster mode").fill("Quay proof fast")
    press(page, "Derive the faster mode")
    page.wait_for_selector("text=Kept: ink limits.")
    assert "kept" in page.locator("#ink-limits").inner_text()
    press(page, "Print on Petrel 44")
    page.wait_for_selector('.message:has-text("Printed")')
    press(page, "Change the environment")
    page.get_by_label("Heat, °C").fill("39")
    page.get_by_label("Why").fill("curls")
    press(page, "Show what this invalidates")
    page.wait_for_selector("text=This invalidates: Ink limits, Linearization.")
    press(page, "Cancel")
    page.locator("#linearization summary:has-text('Inherit')").click()
    page.get_by_label("Why not its own").fill("only drafts")
    press(page, "Inherit")
    page.wait_for_selector("text=Linearization inherited.")
    assert page.get_by_text("Inherited: curves of Quay proof.").is_visible()


def test_a_reading_is_heard_and_a_row_left_for_later_comes_back(page: Page, server: Server) -> None:
    sign_in(page, server)
    new_build(page)
    press(page, "Print on Petrel 44")
    press(page, "Let the simulated sheet dry")
    page.wait_for_selector("text=Simulated sheet is dry")
    press(page, "Read pass 1")
    page.wait_for_selector("#reading")
    page.wait_for_load_state("load")
    page.evaluate(
        """() => {
          window.heard = [];
          const gain = {setValueAtTime() {}, exponentialRampToValueAtTime() {}};
          const part = { connect(x) { return x; }, start() {}, stop() {} };
          window.AudioContext = class {
            get currentTime() { return 0; }
            createOscillator() {
              return {...part, frequency: {set value(v) { window.heard.push(v); }}};
            }
            createGain() { return {...part, gain}; }
          };
        }"""
    )
    page.keyboard.press("Space")  # what is due comes first: the white tile
    page.wait_for_selector("text=White calibration done")
    page.keyboard.press("s")
    page.wait_for_selector("text=Row 1 is skipped for now.")
    assert page.locator(".row-no").inner_text() == "row 2"
    for _ in range(12):
        sounds = page.evaluate("window.heard.length")
        page.keyboard.press("Space")
        page.wait_for_function("sounds => window.heard.length > sounds", arg=sounds)
        if page.evaluate("window.heard.includes(880)"):
            break
    assert page.evaluate("window.heard.includes(880)"), "a kept row sounds high"
    size = page.evaluate("parseFloat(getComputedStyle(document.querySelector('.row-no')).fontSize)")
    assert size >= 48
    assert "skipped" in page.locator("#row-1").inner_text()
