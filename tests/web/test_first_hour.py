"""An empty shop: its first account by a link that the server printed, and what its start page leads to."""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.accounts import first
from greyanchor.accounts.models import FirstLink, Site
from greyanchor.accounts.roles import Role, role_of, set_role
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.starting_points import STARTING_POINTS
from greyanchor.library.machines.connections import printer_port
from greyanchor.library.models import InkSet, Media, Printer, PrintMode
from greyanchor.operations import processes

PERSON = {
    "username": "odile",
    "first": "Odile",
    "last": "Brandt",
    "password": "a long password",
    "site": "Harbour room",
}


@pytest.fixture
def visitor() -> Client:
    return Client(headers={"host": "127.0.0.1"})


def _address(token: str) -> str:
    return f"/first-account/{token}/"


def test_the_server_prints_a_link_while_nobody_has_an_account(
    db: None, capsys: pytest.CaptureFixture
) -> None:
    processes._say_first_link("http://127.0.0.1:8000")
    printed = capsys.readouterr().out
    token = re.search(r"http://127.0.0.1:8000/first-account/([\w-]+)/", printed)
    assert token and first.is_open(token[1])
    assert token[1] not in FirstLink.objects.get().digest, "only the hash is kept"


def test_it_prints_none_once_there_is_one(user: User, capsys: pytest.CaptureFixture) -> None:
    processes._say_first_link("http://127.0.0.1:8000")
    assert capsys.readouterr().out == "" and not FirstLink.objects.exists()


def test_the_first_account_is_a_lead_at_a_site_and_is_signed_in(db: None, visitor: Client) -> None:
    address = _address(first.make_link())
    assert "ten letters or more" in visitor.get(address).content.decode()
    answer = visitor.post(address, PERSON, follow=True)
    made = User.objects.get()
    assert role_of(made) == Role.LEAD and made.membership.site == Site.objects.get(name="Harbour room")
    assert answer.redirect_chain == [("/", 302)] and answer.context["user"] == made
    page = answer.content.decode()
    assert "First steps" in page and "Due for a check" not in page, "nothing that is empty is shown"


def test_a_link_makes_one_account_and_no_more(db: None, visitor: Client) -> None:
    address = _address(first.make_link())
    visitor.post(address, PERSON)
    other = Client(headers={"host": "127.0.0.1"})
    again = other.post(address, PERSON | {"username": "second"})
    assert again.status_code == 410 and "The first account exists" in again.content.decode()
    assert User.objects.count() == 1


def test_a_link_that_a_second_person_uses_at_the_same_moment_is_refused(db: None) -> None:
    token = first.make_link()
    first.make_first(token, "odile", "", "", "a long password", "")
    with pytest.raises(BadInput, match="used or replaced"):
        first.make_first(token, "second", "", "", "a long password", "")


def test_a_guessed_or_older_link_makes_nothing(db: None, visitor: Client) -> None:
    old = first.make_link()
    first.make_link()
    for token in (old, "guessed"):
        answer = visitor.post(_address(token), PERSON)
        assert answer.status_code == 410 and "newer link" in answer.content.decode()
    assert not User.objects.exists()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"password": "short"}, "at least 10"),
        ({"username": ""}, "required"),
        ({"username": "a b!"}, "valid username"),
    ],
)
def test_what_is_refused_keeps_the_form_and_the_link(
    db: None, visitor: Client, change: dict[str, str], words: str
) -> None:
    address = _address(first.make_link())
    answer = visitor.post(address, PERSON | change)
    page = answer.content.decode()
    assert answer.status_code == 422 and words in page and "Harbour room" in page
    assert not User.objects.exists() and not Site.objects.exists()
    assert visitor.post(address, PERSON).status_code == 302


def test_sign_in_says_that_nobody_has_an_account(db: None, visitor: Client) -> None:
    assert "Nobody has an account here yet" in visitor.get("/sign-in/").content.decode()
    visitor.post(_address(first.make_link()), PERSON)
    fresh = Client(headers={"host": "127.0.0.1"})
    assert "Nobody has an account" not in fresh.get("/sign-in/").content.decode()


def test_the_first_steps_go_as_they_are_done_and_end_with_a_released_mode(
    client: Client, build: object
) -> None:
    page = client.get("/").content.decode()
    assert "A printer, its inks and a media: done" in page and "A build: done" in page
    assert "Release a print mode" in page and "Due for a check" in page
    PrintMode.objects.update(state=PrintMode.State.RELEASED)
    assert "First steps" not in client.get("/").content.decode()


def _form(client: Client, start: str, **changes: str) -> dict[str, str]:
    """What a browser sends of the page as it is, with changes."""
    form = client.get(f"/set-up/?start={start}").context["form"]
    sent = {b.html_name: b.value() for b in form}
    sent = {k: ", ".join(map(str, v)) if isinstance(v, list) else v for k, v in sent.items()}
    named = {
        "site": str(Site.objects.get().pk),
        "printer": "Wherry 40",
        "model": "Wherry 40",
        "serial": "W-1",
        "inks": "Marsh ink",
        "media": "Saltern coated 200",
        "maker": "Saltern",
    }
    return {k: v for k, v in (sent | named | changes).items() if v is not None}


@pytest.mark.parametrize("start", list(STARTING_POINTS))
def test_every_starting_point_sets_up_a_whole_machine(client: Client, site: Site, start: str) -> None:
    answer = client.post(f"/set-up/?start={start}", _form(client, start))
    assert answer.status_code == 302, answer.context["form"].errors
    made, media = Printer.objects.get(), Media.objects.get()
    point = STARTING_POINTS[start]
    assert made.ink_sets.get().channels == list(point.channels) and made.passes == list(point.passes)
    assert set(made.ability_map) == set(point.settings)
    assert media.media_class.handling and media.media_class.family == point.family
    assert made.history.get().history_user is not None, "who set it up stands in the history"


def test_a_word_of_letters_is_four_channels_and_light_inks_are_asked_for_once(
    client: Client, site: Site
) -> None:
    client.post("/set-up/", _form(client, "aqueous", channels="CMYK", light="LC=C, LM=M"))
    inks = InkSet.objects.get()
    assert inks.channels == list("CMYK") and inks.raw_channels == ["C", "M", "Y", "K", "LC", "LM"]


def test_what_is_refused_changes_nothing_and_keeps_what_was_typed(client: Client, site: Site) -> None:
    client.post("/set-up/", _form(client, "aqueous"))
    again = client.post("/set-up/", _form(client, "aqueous", printer="Another", inks="Another ink"))
    page = again.content.decode()
    assert again.status_code == 422 and "Saltern coated 200 already" in page and "Another ink" in page
    assert Printer.objects.count() == 1 and InkSet.objects.count() == 1
    wrong = client.post("/set-up/", _form(client, "aqueous", passes="four"))
    assert wrong.status_code == 422 and "Write whole numbers" in wrong.content.decode()


def test_simulated_devices_are_connected_where_asked_for(client: Client, site: Site) -> None:
    client.post("/set-up/", _form(client, "uv", devices="simulated"))
    assert printer_port(Printer.objects.get()) is not None and site.connections.filter(printer=None).exists()


def test_a_new_build_offers_what_the_printer_has_and_says_what_is_missing(client: Client, site: Site) -> None:
    page = client.get("/builds/new/").content.decode()
    assert "No printer with inks and passes is in the library yet" in page and "/set-up/" in page
    Printer.objects.create(name="Bare", model="Bare", site=site, serial="B", width_mm=610)
    client.post("/set-up/?start=solvent", _form(client, "solvent"))
    form = client.get("/builds/new/").context["form"]
    assert [p.name for p in form.fields["printer"].queryset] == ["Wherry 40"], (
        "what has no inks is not offered"
    )
    assert [r for r, _ in form.fields["resolution"].choices] == [720, 1440]
    assert form.initial["resolution"] == "1440" and form.initial["passes"] == 8


def test_a_build_begins_on_what_was_set_up(client: Client, site: Site) -> None:
    client.post("/set-up/?start=solvent", _form(client, "solvent"))
    form = client.get("/builds/new/").context["form"]
    sent = {b.html_name: b.value() for b in form} | {"method": "strip", "page": "a4", "dots": 1}
    sent |= {"direction": "both ways"}  # a browser sends the first of a list
    answer = client.post("/builds/new/", {k: v for k, v in sent.items() if v is not None})
    assert answer.status_code == 302, answer.context["form"].errors
    assert PrintMode.objects.get().environment["resolution"] == 1440


def test_an_operator_sets_nothing_up(client: Client, site: Site, user: User) -> None:
    set_role(user, Role.OPERATOR)
    assert client.post("/set-up/", {}).status_code == 403 and not Printer.objects.exists()


@pytest.fixture
def site(db: None) -> Site:
    return Site.objects.create(name="Harbour room")


def test_the_demo_keeps_a_home_of_its_own_beside_an_empty_shop(tmp_path: Path) -> None:
    assert processes._demo_home(tmp_path) == tmp_path / "demo"
    database = tmp_path / "greyanchor.sqlite3"
    with closing(sqlite3.connect(database)) as made:
        made.execute("CREATE TABLE auth_user (username TEXT)")
        made.commit()
        assert processes._demo_home(tmp_path) == tmp_path / "demo", "a shop's own home stays its own"
        made.execute("INSERT INTO auth_user VALUES ('ines')")
        made.commit()
    assert processes._demo_home(tmp_path) == tmp_path, "a demo of an earlier version goes on where it is"
    database.write_bytes(b"no database")
    assert processes._demo_home(tmp_path) == tmp_path / "demo"


def test_a_printer_that_lacks_something_says_what_and_is_not_offered(client: Client, site: Site) -> None:
    bare = Printer.objects.create(name="Bare", model="Bare", site=site, serial="B", width_mm=610)
    page = client.get(f"/printers/{bare.pk}/").content.decode()
    assert "Not usable for a build yet: it lacks an ink set, resolutions and passes." in page
    bare.resolutions, bare.passes = [600], [4]
    bare.ink_sets.add(InkSet.objects.create(name="Marsh ink", kind="aqueous", channels=list("CMYK")))
    bare.save()
    assert "Not usable" not in client.get(f"/printers/{bare.pk}/").content.decode()


def test_another_starting_point_changes_only_what_was_not_typed(client: Client, site: Site) -> None:
    typed = {"before": "aqueous", "start": "uv", "printer": "Wherry 40", "width": "1200"}
    typed["kind"] = "aqueous pigment"
    form = client.get("/set-up/", typed).context["form"]
    assert form["printer"].value() == "Wherry 40" and form["width"].value() == "1200"
    assert form["kind"].value() == "UV-cured", "what stood as the starting point had it goes with it"
