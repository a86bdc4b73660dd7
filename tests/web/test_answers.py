"""Answers to scripts of the pages, and pages that open with a choice made."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.cache import caches
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, override_settings

from greyanchor.background.cache import kept
from greyanchor.builds.models import Build
from greyanchor.core.formats import cgats
from greyanchor.core.verification.generic_aims import aim_data
from greyanchor.fields import NumberField, WholeField
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.queries import aim_of

FORM = {"X-Page-Form": "1"}


def test_a_redirect_is_led_to_by_the_page_itself(client: Client, user: User) -> None:
    answer = client.post("/shop/sites/add/", {"name": "Pier room"}, headers=FORM)
    assert answer.status_code == 204 and answer.headers["X-Location"] == "/shop/"


def test_a_refusal_comes_back_without_its_page(client: Client, build: Build) -> None:
    page = f"http://testserver/builds/{build.pk}/"
    answer = client.post(
        f"/builds/{build.pk}/ink-limits/redo/", {"version": "1"}, headers={**FORM, "Referer": page}
    )
    assert answer.status_code == 422 and answer.headers["X-Refused"] == "kept"
    assert b"is not decided" in answer.content and b"<html" not in answer.content
    assert b"is not decided" not in client.get(f"/builds/{build.pk}/").content, "it is said once"
    stale = client.post(
        f"/builds/{build.pk}/ink-limits/skip/", {"version": "7"}, headers={**FORM, "Referer": page}
    )
    assert stale.headers["X-Refused"] == "stale"
    elsewhere = client.post(f"/builds/{build.pk}/ink-limits/redo/", {"version": "1"}, headers=FORM)
    assert elsewhere.status_code == 204, "from nowhere that is known one is led to the page"


@pytest.mark.parametrize("header", ["HX-Request", "X-Page-Form", "X-Page-Part"])
def test_a_script_that_is_signed_out_gets_no_sign_in_page(db: None, header: str) -> None:
    stranger = Client(headers={"host": "127.0.0.1"})
    answer = stranger.get("/modes/", headers={header: "1"})
    assert answer.status_code == 401 and b"<form" not in answer.content


def test_signing_in_after_a_form_leads_back_to_its_page(db: None) -> None:
    stranger = Client(headers={"host": "127.0.0.1"})
    sent = stranger.post("/media/1/", headers={"Referer": "http://127.0.0.1/media/1/?from=start"})
    assert sent.headers["Location"] == "/sign-in/?next=/media/1/%3Ffrom%3Dstart"
    foreign = stranger.post("/media/1/", headers={"Referer": "http://elsewhere.test/media/1/"})
    assert foreign.headers["Location"] == "/sign-in/?next=/"


def test_a_page_opens_with_the_choice_that_was_used_last(client: Client, user: User) -> None:
    AimRecord.objects.exclude(name="Generic uncoated").delete()
    likely = client.get("/checks/match/")
    only = AimRecord.objects.get()
    assert likely.headers["Location"].startswith(f"/checks/match/?aim={only.pk}&tolerances=iso12647-7")
    client.get("/checks/match/", {"aim": only.pk, "tolerances": "iso12647-7:2013"})
    assert client.get("/checks/match/").headers["Location"].endswith("tolerances=iso12647-7%3A2013")


def test_a_choice_that_is_gone_is_forgotten(client: Client, user: User) -> None:
    session = client.session
    session["last choice: best mode"] = "media=4711"
    session.save()
    assert client.get("/modes/best/", follow=True).status_code == 404
    assert client.get("/modes/best/").status_code == 200


def test_a_decimal_comma_is_taken_by_every_field() -> None:
    assert NumberField().clean("45,5") == 45.5 and WholeField().clean("12") == 12
    for field, text in ((NumberField(), "1,000"), (WholeField(), "12,5"), (WholeField(), "1,000")):
        with pytest.raises(Exception, match="two ways|whole number"):
            field.clean(text)


def test_the_shop_begins_with_generic_aims_that_say_where_they_come_from(db: None) -> None:
    assert set(AimRecord.objects.filter(name__startswith="Generic").values_list("name", flat=True)) == {
        "Generic coated",
        "Generic uncoated",
    }
    assert "ISO 12647-2:2013" in AimRecord.objects.get(name="Generic uncoated").source


def test_a_shops_own_data_become_an_aim_although_patches_lack(client: Client, user: User) -> None:
    own = aim_data("generic-uncoated")
    inks = own.values()
    solid = np.isin(inks, (0.0, 1.0)).all(axis=1)
    ours = own.select(solid | (np.arange(len(own)) >= 60))  # paper and solids, and no patch of the strip else
    sent = SimpleUploadedFile("ours.txt", cgats.dumps(ours).encode())
    page = client.post(
        "/checks/aims/add/", {"name": "Ours", "source": "our press", "file": sent}, follow=True
    )
    assert "interpolated from its own data" in page.content.decode()
    made = aim_of(AimRecord.objects.get(name="Ours"))
    first = own.select(np.arange(54))
    off = made.lab_for(first) - first.lab()
    assert made.interpolated(first).sum() > 20 and np.abs(off).max() < 1.0


@pytest.fixture
def files(tmp_path: Path) -> object:
    backend = {"BACKEND": "django.core.cache.backends.filebased.FileBasedCache", "LOCATION": str(tmp_path)}
    with override_settings(CACHES={"default": backend}):
        yield caches["default"]


def test_slow_results_are_kept_for_other_processes(files: object) -> None:
    made: list[int] = []

    def slow() -> np.ndarray:
        made.append(1)
        return np.arange(3)

    assert kept(("a", 1), slow).tolist() == [0, 1, 2] == kept(("a", 1), slow).tolist()
    kept(("a", 2), slow)
    assert len(made) == 2
