"""What pages say before anything is handed to a machine: from an empty shop to one that stands ready."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from greyanchor.builds.lifecycle.start import start_build
from greyanchor.checks.models import Check
from greyanchor.families.models import Family
from greyanchor.library.models import Media, Printer
from greyanchor.profiles.models import AimRecord
from greyanchor.unattended import queries
from greyanchor.unattended.ready import standings
from tests.web.conftest import CHOICES


def _text(client: Client, address: str) -> str:
    return " ".join(client.get(address).content.decode().split())


def test_an_empty_shop_is_told_what_it_takes(client: Client) -> None:
    page = _text(client, reverse("unattended"))
    assert "No machine here can" in page and f'href="{reverse("devices")}"' in page
    family = _text(client, reverse("family-new"))
    assert "A family takes two print modes" in family and f'href="{reverse("new-build")}"' in family
    assert "<form method" not in family.split("<h1>")[1].split("</main>")[0]


def test_a_shop_with_a_reader_inside_sees_what_it_could_hand_over(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    assert f"Any build for {printer.name} can be handed over" in _text(client, reverse("unattended"))
    media.travels_backwards = True
    media.save()
    build = start_build("Deck charts", printer, printer.ink_sets.get(), media, CHOICES, user)
    page = _text(client, reverse("unattended"))
    assert f'<a href="{reverse("unattended-build", args=[build.pk])}">Deck charts</a>' in page


def test_how_a_machine_stands_is_said_before_it_is_handed_a_build(
    client: Client,
    printer: Printer,
    media: Media,
    user: User,
    aim: AimRecord,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    media.travels_backwards = True
    media.save()
    build = start_build("Deck charts", printer, printer.ink_sets.get(), media, CHOICES, user)
    address = reverse("unattended-build", args=[build.pk])
    called = _text(client, address)
    assert f"<strong>{printer.name} has nothing in it; {media.name} is called for</strong>" in called
    Printer.objects.filter(pk=printer.pk).update(loaded_media=media, loaded_at=timezone.now())
    ready = _text(client, address)
    assert f"<dd>{media.name} is in it</dd>" in ready and "begins at once" in ready

    class Silent:
        def machine(self) -> Any:
            raise TimeoutError("no answer in 5 s")

    monkeypatch.setattr("greyanchor.unattended.ready.queue_of", lambda _printer: Silent())
    silent = _text(client, address)
    assert "does not answer (TimeoutError: no answer in 5 s)" in silent
    found = [s for s in standings(Printer.objects.get(pk=printer.pk), media) if not s.will_do]
    assert [s.stop for s in found] == ["printer"]


def test_a_check_is_offered_as_the_class_was_checked_last(
    printer: Printer, media: Media, user: User, aim: AimRecord
) -> None:
    build = start_build("Deck charts", printer, printer.ink_sets.get(), media, CHOICES, user)
    assert queries.usual_check(build.mode) == {}
    other = AimRecord.objects.create(name="Of a family", source="computed", data=b"")
    Family.objects.create(name="Alike", aim=other, made_by=user)
    for held_to in (aim, other):
        Check.objects.create(
            mode=build.mode, aim=held_to, tolerances="iso12647-7:2016", corrected=True, verdict="pass",
            summary="", readings="", readings_hash="",
        )  # fmt: skip
    assert queries.usual_check(build.mode) == {
        "aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": True,
    }  # fmt: skip
