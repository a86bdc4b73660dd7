"""A machine builds a mode alone, nights keep it true, what was swapped is put on record: by keyboard."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server, fit_and_are_grey, press, sign_in

pytestmark = pytest.mark.slow
STOCK = "released_mode"

BEGUN = """
import django; django.setup()
from django.contrib.auth.models import User
from django.utils import timezone
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.demo.seed import northlight_coated
northlight_coated()
user = User.objects.get(username="ines")
printer = Printer.objects.get(name="Petrel 44")
media = Media.objects.get(name="Fathom Satin 260")
Media.objects.update(travels_backwards=True)
Printer.objects.filter(pk=printer.pk).update(loaded_media=media, loaded_at=timezone.now(), abilities={})
choices = {"resolution": 1200, "passes": 8, "direction": "one way", "halftone": "blue noise", "heat": 36.0,
           "vacuum": 50.0}
build = start_build("Alone at night", printer, printer.ink_sets.order_by("pk").first(), media, choices, user)
kept = PrintMode.objects.filter(state="released", printer=printer, baseline__withdrawn="").first()
print(build.pk, kept.pk if kept else 0, printer.pk)
"""


@pytest.mark.flaky(reruns=1)
def test_a_mode_is_built_alone_and_kept_true(page: Page, server: Server) -> None:
    build, kept, printer = (int(v) for v in server.run(BEGUN).split())
    sign_in(page, server)
    page.goto(f"{server.url}/builds/{build}/")
    press(page, "Build it unattended")
    expect(page.get_by_role("heading", level=1)).to_have_text("Build Alone at night unattended")
    page.get_by_label("Patches of the profile chart").fill("220")
    press(page, "Hand it to the machine")
    expect(page.locator("h1")).to_have_text("Alone at night")
    address = page.url
    for _ in range(90):
        if page.locator("text=waits for its release").count():
            break
        assert not page.get_by_role("heading", name="Stopped").count(), page.locator("main").inner_text()[
            :600
        ]
        page.wait_for_timeout(1500)
        page.goto(address)
    expect(page.locator("main")).to_contain_text("waits for its release")
    expect(page.locator("table")).to_contain_text("Ink limits accepted")
    expect(page.locator("table")).to_contain_text("nothing speaks against it")
    page.goto(server.url)
    expect(page.locator("section", has_text="Unattended").first).to_contain_text("Alone at night")
    # one key puts a swap on record
    page.goto(f"{server.url}/changes/machine/{printer}/")
    page.keyboard.press("b")
    expect(page.locator("main")).to_contain_text(re.compile("On record: batch of media"))
    addresses = [address, f"{server.url}/unattended/", f"{server.url}/changes/machine/{printer}/"]
    if kept:
        addresses += [f"{server.url}/unattended/night-rule/{kept}/", f"{server.url}/changes/mode/{kept}/"]
    fit_and_are_grey(page, [*addresses, f"{server.url}/families/", f"{server.url}/families/new/"])
