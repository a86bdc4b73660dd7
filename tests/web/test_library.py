"""The library, sign-in, and pages for what goes wrong."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import get_resolver

from greyanchor.accounts.roles import Role, set_role
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.library.modes import services
from greyanchor.library.records.editing import edit
from greyanchor.library.records.record_types import KINDS
from tests.web.conftest import CHOICES

FACTS = {
    "name": "Harbour Proof Semimatt 235",
    "maker": "Wherry Mill",
    "weight": 240,
    "thickness": 240,
    "width_mm": 1118,
    "brightener": "faint",
    "dry_minutes": 45,
    "notes": "",
    "why": "new batch",
}


def test_a_visitor_sees_the_sign_in_page_and_nothing_else(db: None) -> None:
    visitor = Client()
    addresses = [
        "/",
        "/modes/",
        "/modes/1/",
        "/printers/",
        "/media/",
        "/media/1/",
        "/checks/",
        "/checks/1/patches.csv",
        "/builds/new/",
        "/builds/1/",
        "/profiles/1/profile.icc",
        "/readings/1/",
        "/charts/1/sheet-1.svg",
        "/builds/1/ink-limits/sheets.tif",
    ]
    for address in addresses:
        response = visitor.get(address)
        assert response.status_code == 302 and response.url.startswith("/sign-in/"), address
    for address in (
        "/readings/1/read/",
        "/builds/1/ink-limits/accept/",
        "/builds/1/profile/start/",
        "/modes/1/retire/",
    ):
        assert visitor.post(address).status_code in (302, 403), address
    assert visitor.get("/sign-in/").status_code == 200


def test_every_address_has_a_name(db: None) -> None:
    names = {name for name in get_resolver().reverse_dict if isinstance(name, str)}
    assert {
        "start",
        "modes",
        "mode",
        "printers",
        "media",
        "new-build",
        "build",
        "reading",
        "checks",
        "check",
        "profile",
    } <= names


def test_demo_accounts_are_shown_in_the_demo_only(db: None, settings: object) -> None:
    assert "quay-street-1" in Client().get("/sign-in/").content.decode()
    settings.DEMO = False
    assert "quay-street-1" not in Client().get("/sign-in/").content.decode()


def test_signing_in_and_a_wrong_password(user: User) -> None:
    visitor = Client()
    wrong = visitor.post("/sign-in/", {"username": "mara", "password": "nope"})
    assert wrong.status_code == 200 and "enter a correct username" in wrong.content.decode()
    assert visitor.post("/sign-in/", {"username": "mara", "password": "a long password"}).url == "/"


def test_modes_are_narrowed_by_printer_media_state_and_words(
    client: Client, build: Build, printer: Printer, media: Media, user: User
) -> None:
    other = Media.objects.create(
        name="Kelp Synthetic 190",
        media_class=media.media_class,
        maker="Sound",
        weight=190,
        thickness=200,
        width_mm=1000,
        brightener="none",
    )
    start_build("Deck charts", printer, printer.ink_sets.get(), other, CHOICES, user)

    def names(query: str) -> set[str]:
        response = client.get(f"/modes/?{query}")
        return {m.name for m in response.context["found"].modes}

    assert names("") == {"Test mode", "Deck charts"}
    assert names(f"media={other.pk}") == {"Deck charts"} == names("q=kelp+petrel") == names("q=sound")
    assert names("state=released") == set() and names("q=nothing+like+it") == set()
    part = client.get("/modes/?q=deck", headers={"HX-Request": "true", "HX-Target": "modes"}).content.decode()
    assert "Deck charts" in part and "<html" not in part
    assert "No print mode matches" in client.get("/modes/?q=zzz").content.decode()


def test_every_page_of_the_library_opens(
    client: Client, build: Build, printer: Printer, media: Media
) -> None:
    for address in (
        "/",
        "/modes/",
        f"/modes/{build.mode_id}/",
        "/printers/",
        f"/printers/{printer.pk}/",
        "/media/",
        f"/media/{media.pk}/",
        "/builds/new/",
    ):
        assert client.get(address).status_code == 200, address


def test_editing_a_media_keeps_who_and_why(client: Client, media: Media, user: User) -> None:
    response = client.post(
        f"/media/{media.pk}/",
        {**FACTS, "media_class": media.media_class_id, "version": 1, "travels_backwards": "on"},
    )
    media.refresh_from_db()
    assert response.status_code == 302 and media.weight == 240 and media.version == 2
    last = media.history.first()
    assert last.history_user == user and last.history_change_reason == "new batch"


def test_the_second_of_two_editors_is_warned_and_loses_nothing_silently(
    client: Client, media: Media, user: User
) -> None:
    other = User.objects.create_user("ole", first_name="Ole", last_name="Brandt")
    set_role(other, Role.TECHNICIAN)
    edit(KINDS["media"], media.pk, 1, {"weight": 250}, other, "weighed it")
    response = client.post(
        f"/media/{media.pk}/", {**FACTS, "media_class": media.media_class_id, "version": 1}
    )
    page = response.content.decode()
    assert response.status_code == 409 and "while you were editing" in page and "Ole Brandt" in page
    assert 'name="take:weight"' in page and 'name="dry_minutes" value="45"' in page
    media.refresh_from_db()
    assert media.weight == 250 and media.dry_minutes == 30


@pytest.mark.parametrize(
    ("name", "value"),
    [("weight", 5), ("dry_minutes", -1), ("brightener", "glow"), ("why", "")],
)
def test_facts_that_cannot_be_are_refused(client: Client, media: Media, name: str, value: object) -> None:
    response = client.post(
        f"/media/{media.pk}/", {**FACTS, "media_class": media.media_class_id, "version": 1, name: value}
    )
    media.refresh_from_db()
    assert response.status_code == 422 and media.version == 1


def test_a_mode_without_a_profile_is_not_released_and_leaves_the_desk_when_it_is_retired(
    client: Client, build: Build, user: User
) -> None:
    with pytest.raises(BadInput, match="no profile"):
        services.release_mode(build.mode_id, user, "x")
    assert PrintMode.objects.get().state == "building"
    assert "Ink limits" in client.get("/").content.decode()
    services.retire_mode(build.mode_id, 1, user, "the order was called off")
    assert "Ink limits" not in client.get("/").content.decode()


def test_what_is_not_there_says_so(client: Client) -> None:
    for address in ("/modes/999/", "/builds/999/", "/nowhere/"):
        response = client.get(address)
        assert response.status_code == 404 and "Nothing is here" in response.content.decode()


def test_a_forged_form_is_refused(user: User, build: Build) -> None:
    strict = Client(enforce_csrf_checks=True)
    strict.force_login(user)
    response = strict.post(f"/builds/{build.pk}/ink-limits/print/")
    assert response.status_code == 403 and "open too long" in response.content.decode()


def test_texts_of_people_are_escaped(client: Client, printer: Printer, media: Media, user: User) -> None:
    build = start_build('<script>alert("x")</script>', printer, printer.ink_sets.get(), media, CHOICES, user)
    for address in (
        f"/builds/{build.pk}/",
        "/modes/",
        "/",
        f"/charts/{build.stages.first().sheet_print.chart_id}/sheet-1.svg",
    ):
        assert "<script>alert" not in client.get(address).content.decode(), address


def test_pages_show_their_time_on_the_server(client: Client) -> None:
    assert client.get("/modes/").headers["Server-Timing"].startswith("app;dur=")
