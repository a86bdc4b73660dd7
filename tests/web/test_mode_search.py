"""Finding print modes: choices with counts, search, pins, sort and columns in the address, comparing, the
best for a job.
"""

from __future__ import annotations

import random
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.http import QueryDict
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.models import Membership, Site
from greyanchor.accounts.roles import Role
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Pin, PrintMode
from greyanchor.library.modes import ranking, search, services
from greyanchor.library.modes.column_cache import CACHE
from greyanchor.library.records.editing import edit
from greyanchor.library.records.record_types import KINDS
from tests.web.library_kit import machine, mode, paper, person


@pytest.fixture
def shelf(user: User) -> list[PrintMode]:
    """Six modes on two machines and three media."""
    petrel, gannet = machine(), machine("Gannet 64", site="Lantern Hill", ink="Basalt UV")
    kelp, cotton = paper(), paper("Saltmarsh Cotton 310", "uncoated", "Wherry Mill")
    banner = paper("Breakwater Banner 440", "banner", "Sound & Shoal")
    return [
        mode("Deck charts", petrel, kelp, user=user, last_verdict="pass"),
        mode("Deck charts fast", petrel, kelp, passes=4, user=user, last_verdict="fail"),
        mode("Archive charts", petrel, cotton, passes=12, note="dry before trimming"),
        mode("Quay signs", gannet, banner, state="ready"),
        mode("Pier banners", gannet, banner, passes=6, resolution=600, state="retired"),
        mode("Deck charts cured", gannet, kelp, state="building", passes=6),
    ]


def found(query: str, user: User) -> search.FindingPage:
    return search.find(QueryDict(query), user)


def names(query: str, user: User) -> list[str]:
    return [m.name for m in found(query, user).modes]


def counts(page: search.FindingPage, facet: str) -> dict[str, int]:
    result = next(f for f in page.facets if f.key == facet)
    return {c.label: c.count for c in [*result.choices, *result.rest]}


def test_every_facet_of_the_trade_is_there(shelf: list[PrintMode], user: User) -> None:
    keys = {f.key for f in found("", user).facets}
    assert keys == {
        "state",
        "printer",
        "site",
        "ink_set",
        "media_class",
        "maker",
        "media",
        "resolution",
        "passes",
        "speed",
        "age",
        "verdict",
        "made_by",
    }


def test_counts_say_what_is_left_before_a_choice_is_taken(shelf: list[PrintMode], user: User) -> None:
    page = found(f"printer={shelf[0].printer_id}", user)
    assert page.total == 3 and page.everything == 6
    assert counts(page, "media") == {"Kelp Synthetic 190": 2, "Saltmarsh Cotton 310": 1}
    assert counts(page, "printer") == {"Petrel 44": 3, "Gannet 64": 3}, "a facet does not narrow itself"
    assert counts(page, "verdict") == {"pass": 1, "FAIL": 1, "no check": 1}
    for facet in page.facets:
        for choice in [*facet.choices, *facet.rest]:
            if not choice.chosen and facet.key != "printer":
                assert found(choice.address, user).total == choice.count, (facet.key, choice.label)


def test_two_choices_of_one_facet_add_and_giving_one_up_leads_back(
    shelf: list[PrintMode], user: User
) -> None:
    page = found("passes=4&passes=12", user)
    assert sorted(m.name for m in page.modes) == ["Archive charts", "Deck charts fast"]
    chosen = next(f for f in page.facets if f.key == "passes").chosen
    assert [c.label for c in chosen] == ["4 passes", "12 passes"]
    assert names(chosen[0].address, user) == ["Archive charts"]


@pytest.mark.parametrize(
    ("query", "wanted"),
    [
        ("q=deck", {"Deck charts", "Deck charts fast", "Deck charts cured"}),
        ("q=trimming", {"Archive charts"}),
        ("q=saltmarhs", {"Archive charts"}),
        ("q=lantern", {"Quay signs", "Pier banners", "Deck charts cured"}),
        ("q=wherry charts", {"Archive charts"}),
        ("q=zzzzz", set()),
        ("maker=Wherry Mill", {"Archive charts"}),
        ("state=released&verdict=fail", {"Deck charts fast"}),
        ("resolution=600", {"Pier banners"}),
        ("printer=99999", set()),
        ("state=nonsense", set()),
    ],
)
def test_words_and_choices_narrow(shelf: list[PrintMode], user: User, query: str, wanted: set[str]) -> None:
    assert set(names(query, user)) == wanted


def test_what_was_taken_for_a_word_nobody_wrote_is_text(client: Client, shelf: list[PrintMode]) -> None:
    page = client.get("/modes/?q=saltmarhs").content.decode()
    assert "No record contains" in page and "saltmarsh" in page and "Archive charts" in page


def test_age_of_calibration_and_speed_are_given_in_steps(shelf: list[PrintMode], user: User) -> None:
    old = shelf[2]
    old.calibrated_at = timezone.now() - timedelta(days=120)
    old.save()
    page = found("", user)
    assert counts(page, "age") == {"up to a week": 5, "up to 6 months": 1}
    assert sum(counts(page, "speed").values()) == 6
    assert shelf[1].speed > shelf[0].speed > shelf[2].speed


def test_sort_and_columns_are_remembered_in_the_address(
    client: Client, shelf: list[PrintMode], user: User
) -> None:
    assert names("sort=-speed&state=released", user) == ["Deck charts fast", "Deck charts", "Archive charts"]
    assert names("sort=name", user) == sorted(names("", user)) == list(reversed(names("sort=-name", user)))
    page = client.get("/modes/?cols=maker,total&sort=-total&q=deck").content.decode()
    assert "Sound &amp; Shoal" in page and "280 %" in page and 'aria-sort="descending"' in page
    assert "sort=total" in page.replace("&amp;", "&") and "cols=maker%2Ctotal" in page


def test_a_change_is_found_at_once_without_reading_everything_again(
    shelf: list[PrintMode], user: User
) -> None:
    assert "Deck charts" in names("q=kelp", user)
    edit(KINDS["modes"], shelf[0].pk, 1, {"name": "Harbour maps", "note": "for pilots"}, user, "renamed")
    assert names("q=pilots", user) == ["Harbour maps"]
    edit(KINDS["media"], shelf[2].media_id, 1, {"name": "Tideline Matt 140"}, user, "renamed")
    assert names("q=tideline", user) == ["Archive charts"] and names("q=saltmarsh", user) == []
    PrintMode.objects.filter(pk=shelf[5].pk).delete()
    assert found("", user).total == 5


def test_addresses_that_name_no_mode_are_refused_not_widened(client: Client, shelf: list[PrintMode]) -> None:
    for address in ("/modes/best/", "/modes/best/?media=²", "/modes/?page=²", "/presets/new/?media=²"):
        assert client.get(address, follow=True).status_code == 200, address
    for address in (
        "/modes/pack.zip?m=x",
        "/modes/pack.zip?m=²",
        f"/modes/pack.zip?m={'9' * 30}",
        f"/modes/compare/?m={shelf[0].pk}&m={'9' * 30}",
    ):
        answer = client.get(address)
        assert answer.status_code == 409 and "there is no print mode" in answer.content.decode().lower(), (
            address
        )
    unticked = client.get("/modes/pack.zip?ticked=1")
    assert (
        unticked.status_code == 409
        and "ick the print modes that go into the pack" in unticked.content.decode()
    )


def test_the_snapshot_and_the_database_agree_after_many_changes(user: User) -> None:
    chance = random.Random(4)
    printers, media = [machine(), machine("Gannet 64")], [paper(f"Paper {i}") for i in range(4)]
    for i in range(40):
        mode(f"Mode {i}", chance.choice(printers), chance.choice(media), passes=chance.choice([4, 6, 8, 12]))
    for _ in range(25):
        one = PrintMode.objects.get(pk=chance.choice(list(PrintMode.objects.values_list("pk", flat=True))))
        one.state = chance.choice(["released", "retired", "ready"])
        one.media = chance.choice(media)
        one.save()
        query = {"state": chance.choice(["released", "retired"]), "media": chance.choice(media).pk}
        page = found(f"state={query['state']}&media={query['media']}", user)
        assert {m.pk for m in page.modes} == set(
            PrintMode.objects.filter(state=query["state"], media=query["media"]).values_list("pk", flat=True)
        )
    assert CACHE.count == 40


def test_pins_of_a_person_and_of_a_site(client: Client, shelf: list[PrintMode], user: User) -> None:
    site = Site.objects.get(name="Quay Street")
    tobias, ada = person("tobias", Role.TECHNICIAN), person("ada", Role.OPERATOR)
    for who in (user, tobias, ada):
        Membership.objects.create(user=who, site=site)
    client.post(f"/modes/{shelf[0].pk}/pin/", {"pinned": "1"})
    services.set_pin(shelf[2], tobias, True, True)
    assert names("pinned=mine", user) == ["Deck charts"] and names("pinned=site", user) == ["Archive charts"]
    assert names("pinned=mine", ada) == [] and names("pinned=site", ada) == ["Archive charts"]
    assert "Archive charts" in client.get("/").content.decode()
    with pytest.raises(BadInput, match="technicians and leads"):
        services.set_pin(shelf[1], ada, True, True)
    services.set_pin(shelf[0], user, False, True)
    assert Pin.objects.filter(user=user).count() == 1, "twice is once"
    client.post(f"/modes/{shelf[0].pk}/pin/", {"pinned": "0", "back": "https://elsewhere.example/"})
    assert names("pinned=mine", user) == []


def test_a_part_is_swapped_and_the_address_leads_back(client: Client, shelf: list[PrintMode]) -> None:
    part = client.get(
        "/modes/?q=deck&state=released", headers={"HX-Request": "true", "HX-Target": "modes"}
    ).content.decode()
    assert "<html" not in part and "Deck charts fast" in part and 'name="state" value="released"' in part
    assert "3 of 6" not in part and "2 of 6" in part


def test_up_to_four_modes_go_side_by_side(client: Client, shelf: list[PrintMode]) -> None:
    page = client.get(f"/modes/compare/?m={shelf[0].pk}&m={shelf[1].pk}&m={shelf[3].pk}")
    text = page.content.decode()
    for word in ("m²/h", "ml/m²", "Total ink", "Handling settings", "Vacuum", "Gamut", "Tone curves"):
        assert word in text, word
    lines = {line.label: line for _, group in page.context["made"].groups for line in group}
    assert lines["Passes"].differs and not lines["Total ink"].differs
    assert lines["Speed"].cells[0] == f"{shelf[0].speed:.1f} m²/h"
    assert client.get(f"/modes/compare/?m={shelf[0].pk}").status_code == 409
    with pytest.raises(BadInput, match="5 were chosen"):
        ranking.compare([m.pk for m in shelf[:5]])


def test_the_best_mode_for_a_media_is_ranked_with_reasons(
    client: Client, shelf: list[PrintMode], user: User
) -> None:
    kelp = shelf[0].media
    quality, fast = ranking.best_for(kelp, 0.0, None, None), ranking.best_for(kelp, 1.0, 10.0, None)
    assert [m.name for _, m in quality] == ["Deck charts", "Deck charts fast"], (
        "drafts are not offered, failing ones come last"
    )
    assert fast[0][1].name == "Deck charts" and any("FAILS" in r for r in fast[1][0].reasons)
    page = client.get(f"/modes/best/?media={kelp.pk}&time=100&area=10&minutes=30").content.decode()
    assert "min for 10 m²" in page and "passed its last check" in page
    other = paper("Shoal Synthetic 210", "synthetic")
    page = client.get(f"/modes/best/?media={other.pk}").content.decode()
    assert "No mode of its own is released" in page and "made for another media of the class" in page
    assert client.get(f"/modes/best/?media={kelp.pk}&area=x").status_code == 409
