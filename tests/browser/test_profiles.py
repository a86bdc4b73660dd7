"""Profiles in a browser: a gamut turned by keys, with and without a graphics card; live separation; from a
file.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from click.testing import CliRunner
from playwright.sync_api import Page, expect

from greyanchor.cli import main
from tests.browser.conftest import Server, press, serving, sign_in

pytestmark = pytest.mark.slow
STOCK = "two_profiles"


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, prepared: Path) -> Iterator[Server]:
    """One server for the tests of this file; none leans on what another left."""
    with serving(prepared, tmp_path_factory.mktemp("shared")) as made:
        yield made


def _eye(page: Page) -> str:
    drawn = "() => new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))"
    page.evaluate(drawn)
    return page.locator("#solid").get_attribute("data-eye") or ""


def _walk_round(page: Page) -> None:
    """Every way to move the view changes where it is seen from."""
    solid = page.locator("#solid")
    solid.focus()
    seen = [_eye(page)]
    for key in ("ArrowLeft", "ArrowUp", "+", "Shift+ArrowRight"):
        page.keyboard.press(key)
        seen.append(_eye(page))
    box = solid.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 200, box["y"] + 200)
    page.mouse.down()
    page.mouse.move(box["x"] + 320, box["y"] + 240, steps=4)
    page.mouse.up()
    seen.append(_eye(page))
    page.mouse.wheel(0, 240)
    seen.append(_eye(page))
    assert len(set(seen)) == len(seen), seen
    solid.focus()
    page.keyboard.press("0")
    assert _eye(page) == seen[0]
    page.get_by_role("button", name="From above").click()
    assert abs(float(_eye(page).split()[1])) > 200


def test_the_gamut_is_turned_cut_and_filled_with_patches(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/profiles/1/gamut/")
    page.select_option("select[name=other]", label="Last year")
    press(page, "Show")
    page.wait_for_selector("#solid[data-solids='3']")
    _walk_round(page)
    page.get_by_label("chart patches as dots").check()
    page.wait_for_selector("#solid[data-dots='320']")
    before = page.locator("#cuts").inner_text()
    page.locator("#cut-light").focus()
    for _ in range(12):
        page.keyboard.press("ArrowRight")
    expect(page.locator("#cuts")).to_contain_text("At L* 62")
    assert page.locator("#cuts").inner_text() != before
    page.locator("#cut-hue").focus()
    page.keyboard.press("End")
    expect(page.locator("#cuts")).to_contain_text("Through hue 359°")


def test_the_gamut_is_drawn_without_a_graphics_card(page: Page, server: Server) -> None:
    page.add_init_script("HTMLCanvasElement.prototype.getContext = () => null;")
    sign_in(page, server)
    page.goto(f"{server.url}/profiles/1/gamut/")
    page.wait_for_selector("text=drawn without a graphics card")
    assert page.locator("#solid svg path").count() > 300
    first = page.locator("#solid svg").inner_html()
    page.locator("#solid").focus()
    page.keyboard.press("ArrowLeft")
    page.wait_for_function("first => document.querySelector('#solid svg').innerHTML !== first", arg=first)


def test_a_separation_is_found_by_its_pictures_and_built(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.goto(f"{server.url}/profiles/1/separation/")
    ink = page.locator("#seen tr", has_text="Ink on the neutral axis").locator("td.num").first
    at_first = float(ink.inner_text())
    with page.expect_response("**/separation/preview/**"):
        page.get_by_role("slider", name="Black strength").focus()
        page.keyboard.press("End")
    expect(ink).not_to_have_text(f"{at_first:.2f}")
    stronger = float(ink.inner_text())
    assert stronger < at_first, "more black, less ink"
    with page.expect_response("**/separation/preview/**"):
        page.select_option("select[name=other]", label="Last year")
    expect(page.locator("#seen thead")).to_contain_text("Last year")
    page.get_by_role("link", name="Smooth photographs").click()
    expect(page.locator(".presets [aria-current]")).to_have_text("Smooth photographs")
    assert float(ink.inner_text()) > at_first
    page.select_option("select[name=quality]", "draft")
    press(page, "Build a profile with this separation")
    page.wait_for_url("**/profiles/making/**")
    page.wait_for_selector("h2:has-text('How well it fits')", timeout=60000)
    assert page.get_by_role("link", name="Quay draft").is_visible()


def test_a_profile_of_an_rgb_printer_comes_from_a_file_and_proofs_pictures(
    page: Page, server: Server, tmp_path: Path
) -> None:
    chart, readings = tmp_path / "chart.txt", tmp_path / "readings.txt"
    for command in (
        ["chart", "--purpose", "profile", "--channels", "RGB", "--patches", "220", "-o", str(chart)],
        ["simulate", str(chart), "--printer", "dunlin-24", "-o", str(readings)],
    ):
        assert CliRunner().invoke(main, command).exit_code == 0
    sign_in(page, server)
    page.goto(f"{server.url}/profiles/")
    press(page, "Profile from readings")
    page.wait_for_selector("#files")
    broken = tmp_path / "broken.txt"
    broken.write_text("nothing here\n")
    page.set_input_files("#files", str(broken))
    page.fill("input[name=title]", "Dunlin by file")
    press(page, "Build the profile")
    page.wait_for_selector("main .error:focus")
    assert "broken.txt" in page.locator("main .error").inner_text()
    page.set_input_files("#files", str(readings))
    page.select_option("select[name=quality]", "draft")
    press(page, "Build the profile")
    page.wait_for_selector("h2:has-text('How well it fits')", timeout=60000)
    assert page.get_by_text("ICC version 4 of R, G, B").is_visible()
    page.get_by_role("link", name="Soft proof").click()
    page.wait_for_selector("text=Test form")
    for intent in ("saturation", "absolute colorimetric"):
        page.get_by_role("link", name=intent).click()
        expect(page.locator(".presets [aria-current]")).to_have_text(intent)
        page.wait_for_load_state("networkidle")
        wide = page.evaluate("[...document.images].map(i => i.complete && i.naturalWidth)")
        assert all(wide), wide


def test_pages_of_profiles_fit_a_narrow_window(page: Page, server: Server) -> None:
    sign_in(page, server)
    page.set_viewport_size({"width": 420, "height": 800})
    for address in ("", "1/", "1/separation/", "1/gamut/", "1/proof/", "1/errors/", "new/", "lights/"):
        page.goto(f"{server.url}/profiles/{address}")
        wide = page.evaluate("document.documentElement.scrollWidth")
        assert wide <= 425, f"{address} is {wide} wide"
