"""Two people at one record, history, and going back."""

from __future__ import annotations

import re
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.accounts.roles import Role
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    InkSet,
    Media,
    MediaPreset,
    Printer,
    PrintMode,
)
from greyanchor.library.records import editing
from greyanchor.library.records.record_types import KINDS
from tests.web.library_kit import mode, paper, person, preset
from tests.web.records.conftest import FORM


def test_the_second_to_save_sees_both_versions_and_merges_field_by_field(
    client: Client, kept: MediaPreset
) -> None:
    other = person("tobias", Role.TECHNICIAN)
    editing.edit(KINDS["presets"], kept.pk, 1, {"handling.vacuum": 75.0, "notes": "firm"}, other, "it lifted")
    mine = {**FORM, "name": kept.name, "notes": "soft", "handling.vacuum": "60", "handling.heat_on": "44"}
    answer = client.post(f"/presets/{kept.pk}/", mine)
    page = answer.content.decode()
    assert (
        answer.status_code == 409
        and "Tobias Rook" in page
        and "it lifted" in page
        and "both changed it" in page
    )
    rows = {r["field"]: r for r in answer.context["rows"]}
    assert (
        rows["notes"]["take"] == ""
        and rows["handling.vacuum"]["take"] == "theirs"
        and rows["handling.heat_on"]["take"] == "mine"
    )
    kept.refresh_from_db()
    assert kept.handling["vacuum"] == 75 and kept.notes == "firm", "nothing was saved yet"
    merged = {
        **mine,
        "version": 2,
        "take:notes": "mine",
        "take:handling.vacuum": "theirs",
        "take:handling.heat_on": "mine",
    }
    assert client.post(f"/presets/{kept.pk}/", merged).status_code == 302
    kept.refresh_from_db()
    assert kept.handling == {"vacuum": 75.0, "heat_on": 44.0} and kept.notes == "soft" and kept.version == 3


def test_a_third_save_in_between_is_met_as_well(client: Client, kept: MediaPreset) -> None:
    other = person("tobias", Role.TECHNICIAN)
    editing.edit(KINDS["presets"], kept.pk, 1, {"notes": "one"}, other, "x")
    editing.edit(KINDS["presets"], kept.pk, 2, {"notes": "two"}, other, "y")
    again = client.post(
        f"/presets/{kept.pk}/",
        {**FORM, "version": 2, "name": kept.name, "notes": "mine", "take:notes": "mine"},
    )
    assert again.status_code == 409
    kept.refresh_from_db()
    assert kept.notes == "two"


def _sent_again(answer: Any, **chosen: str) -> dict[str, Any]:
    """What a browser sends from a merge page: every hidden field, what is chosen already, and `chosen`."""
    page = answer.content.decode()
    form = page[page.index('class="panel"') :]
    hidden = re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', form)
    ticked = re.findall(r'type="radio" name="([^"]+)" value="([^"]+)" required checked', form)
    return {**dict(hidden), **dict(ticked), **{f"take:{k.replace('__', '.')}": v for k, v in chosen.items()}}


def test_what_was_chosen_on_one_merge_page_stands_on_the_next(client: Client, kept: MediaPreset) -> None:
    other = person("tobias", Role.TECHNICIAN)
    editing.edit(KINDS["presets"], kept.pk, 1, {"handling.vacuum": 75.0, "notes": "firm"}, other, "it lifted")
    mine = {**FORM, "name": kept.name, "notes": "soft", "handling.vacuum": "60", "handling.heat_on": "44"}
    first = client.post(f"/presets/{kept.pk}/", mine)
    undecided = client.post(f"/presets/{kept.pk}/", _sent_again(first))
    assert undecided.status_code == 422 and "oth of you changed Notes" in undecided.content.decode()
    editing.edit(KINDS["presets"], kept.pk, 2, {"handling.feed": 0.1}, other, "light lines")
    second = client.post(f"/presets/{kept.pk}/", _sent_again(first, notes="mine"))
    assert second.status_code == 409 and [r["field"] for r in second.context["rows"]] == [
        "handling.feed",
        "notes",
        "handling.heat_on",
    ]
    assert client.post(f"/presets/{kept.pk}/", _sent_again(second)).status_code == 302
    kept.refresh_from_db()
    assert kept.handling == {"vacuum": 75.0, "heat_on": 44.0, "feed": 0.1} and kept.notes == "soft"


def test_the_inks_a_printer_runs_are_part_of_its_versions(
    client: Client, printer: Printer, user: User
) -> None:
    tarn = printer.ink_sets.get()
    light = InkSet.objects.create(name="Tarn light", channels=list("CMYK"), light={"LC": "C"}, kind="aqueous")
    editing.edit(KINDS["printers"], printer.pk, 1, {"notes": "new belt"}, user, "serviced")
    kind, sent = KINDS["printers"], {"ink_sets": [tarn.pk, light.pk]}
    editing.edit(kind, printer.pk, 2, sent, user, "light inks fitted")
    printer.refresh_from_db()
    assert printer.version == 3 and set(printer.ink_sets.all()) == {tarn, light}
    newest, before = editing.history(printer)[:2]
    assert newest.what == [("Ink sets", "Tarn pigment", "Tarn light, Tarn pigment")] and before.version == 2
    with pytest.raises(editing.EditConflict) as crossed:
        editing.edit(kind, printer.pk, 2, {"ink_sets": [tarn.pk], "notes": "belt and blade"}, user, "again")
    assert crossed.value.merge.theirs == ("ink_sets",) and crossed.value.merge.mine == ("notes",)
    editing.go_back(kind, printer.pk, before.pk, 3, user, "taken out again")
    assert list(printer.ink_sets.all()) == [tarn] and Printer.history.count() == 4 + 1
    mode("Deck charts", printer, paper())
    with pytest.raises(BadInput, match="has print modes with Tarn pigment"):
        editing.edit(kind, printer.pk, 4, {"ink_sets": [light.pk]}, user, "swapped")
    light.delete()
    with pytest.raises(BadInput, match="ink sets that are gone"):
        editing.go_back(kind, printer.pk, newest.pk, 4, user, "back")
    assert list(printer.ink_sets.all()) == [tarn]


def test_a_version_that_never_was_is_refused(client: Client, kept: MediaPreset) -> None:
    answer = client.post(f"/presets/{kept.pk}/", {**FORM, "version": 9, "name": kept.name})
    assert answer.status_code == 422 and "not in its history" in answer.content.decode()


def test_every_change_is_kept_with_who_why_and_what_and_can_be_taken_back(
    client: Client, kept: MediaPreset, user: User
) -> None:
    editing.edit(KINDS["presets"], kept.pk, 1, {"handling.vacuum": 75.0}, user, "it lifted")
    editing.edit(
        KINDS["presets"], kept.pk, 2, {"name": "Kelp, firm", "handling.heat_on": None}, user, "named"
    )
    entries = editing.history(MediaPreset.objects.get())
    assert [e.why for e in entries] == ["named", "it lifted", "made"]
    assert (
        entries[1].what == [("Vacuum", "60 %", "75 %")]
        and ("Heat on the platen", "40 °C", "–") in entries[0].what
    )
    page = client.get(f"/presets/{kept.pk}/history/?a={entries[2].pk}&b={entries[0].pk}").content.decode()
    assert "Kelp, firm" in page and "Go back to version 1" in page
    answer = client.post(
        f"/presets/{kept.pk}/go-back/", {"entry": entries[2].pk, "version": 3, "why": "better so"}
    )
    kept.refresh_from_db()
    assert (
        answer.status_code == 302
        and kept.handling == {"vacuum": 60, "heat_on": 40}
        and kept.version == 4
        and "Synthetic" in kept.name
    )
    assert editing.history(kept)[0].why == "back to version 1: better so" and len(editing.history(kept)) == 4
    assert (
        client.post(f"/presets/{kept.pk}/go-back/", {"entry": entries[0].pk, "version": 3}).status_code == 409
    )
    assert client.post(f"/presets/{kept.pk}/go-back/", {"entry": 99999, "version": 4}).status_code == 409


def test_a_mode_goes_back_with_its_limits_curves_and_profile(
    printer: Printer, media: Media, user: User
) -> None:
    made = mode("Deck charts", printer, media)
    first = made.curves
    made.curves, made.limits, made.version = (
        CurveSet.straight(dict.fromkeys("CMYK", 0.7)).to_csv(),
        {"C": 70.0},
        2,
    )
    editing.set_history_author(made, user, "other limits").save()
    entry = made.history.get(version=1)
    editing.go_back(KINDS["modes"], made.pk, entry.history_id, 2, user, "they bled")
    made.refresh_from_db()
    made = PrintMode.objects.get(pk=made.pk)
    assert (
        made.curves == first and made.limits["C"] == 90 and made.version == 3 and made.editions.count() == 1
    )


def test_a_history_shows_values_with_units_days_and_names(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    made = mode("Deck charts", printer, media, preset=preset(media, printer))
    made.version, made.total_ink = 2, 262.5
    made.save()
    page = client.get(f"/modes/{made.pk}/history/").content.decode()
    assert "262.5 %" in page and "280 %" in page and f"{made.calibrated_at:%-d %b %Y %H:%M}" in page
    assert (
        "ink set Tarn pigment" in page and "ink_set" not in page and "Kelp Synthetic 190 on Petrel 44" in page
    )
