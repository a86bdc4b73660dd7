"""Handling settings with a source, two people at one record, history, going back, files, states and
editions.
"""

from __future__ import annotations

import io
import json
import re
import zipfile
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.accounts import people
from greyanchor.accounts.audit_log import noted
from greyanchor.accounts.roles import NotAllowed, Role
from greyanchor.builds.stages.release_evidence import evidence
from greyanchor.builds.stages.release_evidence import release as release_outside
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.machines import readiness
from greyanchor.library.models import (
    InkSet,
    KeptText,
    LimitSet,
    Media,
    MediaPreset,
    Printer,
    PrintMode,
    ShopRules,
)
from greyanchor.library.modes import fallbacks, services
from greyanchor.library.records import editing
from greyanchor.library.records.effective_settings import in_force, moved_since_built, start_values
from greyanchor.library.records.handling_edits import set_value, start_class
from greyanchor.library.records.record_types import KINDS
from greyanchor.library.shop import rules
from tests.web.library_kit import machine, mode, paper, person, preset

FORM = {"version": 1, "why": "test"}


@pytest.fixture
def printer(db: None) -> Printer:
    return machine()


@pytest.fixture
def media(db: None) -> Media:
    return paper()


@pytest.fixture
def kept(printer: Printer, media: Media) -> MediaPreset:
    return preset(media, printer, {"vacuum": 60, "heat_on": 40})


def test_each_value_shows_its_source_and_can_be_handed_back(
    client: Client, printer: Printer, media: Media, kept: MediaPreset, user: User
) -> None:
    group = media.media_class
    group.family = "film"
    group.save()
    start_class(group, user)
    media.refresh_from_db()
    made = mode("Deck charts", printer, media, preset=kept, handling={"vacuum": 70.0})
    held = in_force(made)
    assert {k: h.source for k, h in held.items()} == {
        "vacuum": "mode",
        "heat_on": "preset",
        "pass_pause": "class",
        "feed": "printer",
        "alignment": "printer",
    }
    assert held["pass_pause"].reason == "drops run together on film that is wet"
    page = client.get(f"/modes/{made.pk}/").content.decode()
    assert "the mode" in page and "without it 60 % of Kelp Synthetic 190 on Petrel 44" in page
    set_value(made, "vacuum", None, user, "handed back")
    made.refresh_from_db()
    assert in_force(made)["vacuum"].value == 60 and in_force(made)["vacuum"].source == "preset"
    with pytest.raises(BadInput, match="nothing to hand back"):
        set_value(made, "vacuum", None, user, "again")
    assert moved_since_built(made, in_force(made)) == [
        ("Heat on the platen", "36 °C", "40 °C"),
        ("Vacuum", "50 %", "60 %"),
    ]
    assert "was 36 °C when it was built" in client.get(f"/modes/{made.pk}/").content.decode()


def test_a_class_tells_why_it_holds_a_value_and_forgets_the_reason_with_it(
    client: Client, media: Media, user: User
) -> None:
    group = media.media_class
    group.family = "film"
    group.save()
    group = start_class(group, user)
    facts = {"version": group.version, "name": group.name, "family": "film", "why": "tried on six rolls"}
    held = {
        "handling.vacuum": "55",
        "reasons.vacuum": "the new rolls are <b>heavier</b>",
        "handling.heat_on": "",
        "reasons.heat_on": "stays",
    }
    assert client.post(f"/media-classes/{group.pk}/", {**facts, **held}).status_code == 302
    group.refresh_from_db()
    assert group.handling["vacuum"] == 55 and group.reasons["vacuum"] == "the new rolls are <b>heavier</b>"
    assert (
        "heat_on" not in group.handling and "heat_on" not in group.reasons and "pass_pause" in group.reasons
    )
    page = client.get(f"/media-classes/{group.pk}/").content.decode()
    assert 'value="the new rolls are &lt;b&gt;heavier&lt;/b&gt;"' in page
    media.refresh_from_db()
    assert in_force(mode("Deck charts", machine(), media))["vacuum"].reason.startswith("the new rolls")


def test_a_preset_is_changed_on_its_page_and_emptying_a_field_hands_back(
    client: Client, kept: MediaPreset
) -> None:
    page = client.get(f"/presets/{kept.pk}/").content.decode()
    assert (
        'name="handling.vacuum"' in page
        and "0 to 90" in page
        and "holds the media flat" in page
        and "lamp" not in page.lower()
    )
    answer = client.post(
        f"/presets/{kept.pk}/", {**FORM, "name": kept.name, "handling.vacuum": "", "handling.heat_on": "42"}
    )
    kept.refresh_from_db()
    assert answer.status_code == 302 and kept.handling == {"heat_on": 42.0} and kept.version == 2


@pytest.mark.parametrize(
    ("key", "value", "reason"),
    [("vacuum", "95", "0 to 90"), ("vacuum", "much", "a number in %"), ("feed", "1.5", "−1 to 1")],
)
def test_values_outside_what_the_machine_can_do_are_refused_and_stay_in_the_form(
    client: Client, kept: MediaPreset, key: str, value: str, reason: str
) -> None:
    answer = client.post(f"/presets/{kept.pk}/", {**FORM, "name": kept.name, f"handling.{key}": value})
    page = answer.content.decode()
    assert answer.status_code == 422 and reason in page and f'value="{value}"' in page
    kept.refresh_from_db()
    assert kept.version == 1
    with pytest.raises(BadInput):
        editing.edit(KINDS["presets"], kept.pk, 1, {"handling.vacuum": 95.0}, None, "past the form")


def test_a_setting_the_machine_does_not_have_is_refused_in_the_service(kept: MediaPreset, user: User) -> None:
    with pytest.raises(BadInput, match="Lamp power: this printer has no such setting"):
        set_value(kept, "lamp_power", 50, user, "x")


def test_a_printer_says_which_settings_it_has(client: Client, printer: Printer) -> None:
    facts = {
        "name": printer.name,
        "model": printer.model,
        "site": printer.site_id,
        "serial": "X",
        "width_mm": 1118,
        "resolutions": "600, 1200",
        "passes": "4 6",
        "driven_as": "channels",
        "slots": 8,
        "swath": 54,
        "fastest": 1000,
        "firing": 24,
        "turn": 0.25,
        "ink_sets": list(printer.ink_sets.values_list("pk", flat=True)),
        "abilities": "1",
        "abilities.lamp_power": "1",
        "abilities.lamp_power.low": "20",
        "abilities.lamp_power.high": "90",
        "abilities.lamp_power.step": "5",
        "abilities.lamp_power.usual": "70",
    }
    answer = client.post(f"/printers/{printer.pk}/", {**FORM, **facts})
    printer.refresh_from_db()
    assert (
        answer.status_code == 302
        and list(printer.abilities) == ["lamp_power"]
        and printer.ability_map["lamp_power"].high == 90
    )
    wrong = client.post(
        f"/printers/{printer.pk}/", {**FORM, **facts, "version": 2, "abilities.lamp_power.high": "900"}
    )
    assert wrong.status_code == 422 and "lies outside" in wrong.content.decode()


def test_a_new_build_begins_with_what_its_sources_say(
    printer: Printer, media: Media, kept: MediaPreset, client: Client
) -> None:
    assert {k: h.value for k, h in start_values(printer, media).items() if k in ("vacuum", "heat_on")} == {
        "vacuum": 60,
        "heat_on": 40,
    }
    found = client.get(f"/builds/suggest/?printer={printer.pk}&media={media.pk}").json()
    assert found == {
        "heat": {"value": "40", "source": "from the preset"},
        "vacuum": {"value": "60", "source": "from the preset"},
    }
    answer = client.post(
        "/builds/new/",
        {
            "printer": printer.pk,
            "ink_set": printer.ink_sets.get().pk,
            "media": media.pk,
            "resolution": 1200,
            "passes": 8,
            "direction": "one way",
            "halftone": "blue noise",
            "heat": 44,
            "vacuum": 60,
            "name": "Own heat",
        },
    )
    made = PrintMode.objects.get(name="Own heat")
    assert answer.status_code == 302 and made.preset == kept and made.handling == {"heat_on": 44.0}
    assert made.environment["heat"] == 44 and moved_since_built(made, in_force(made)) == []


# --- two people ------------------------------------------------------------------------------


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


# --- history ---------------------------------------------------------------------------------


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


def test_a_history_tells_values_with_units_days_and_names(
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


@pytest.mark.parametrize("address", ["media", "media-classes", "presets", "printers", "ink-sets"])
def test_each_kind_has_a_list_pages_a_form_for_a_new_one_and_a_history(
    client: Client, kept: MediaPreset, address: str
) -> None:
    model = KINDS[address].model
    pk = model._default_manager.first().pk
    for part in ("", "new/", f"{pk}/", f"{pk}/history/"):
        assert client.get(f"/{address}/{part}").status_code == 200, part
    assert client.get(f"/{address}/99999/").status_code == 404


def test_new_records_are_made_and_clashes_refused(client: Client, printer: Printer, media: Media) -> None:
    new = {**FORM, "name": "Kelp, firm", "media": media.pk, "printer_model": printer.model}
    assert client.post("/presets/new/", new).status_code == 302
    assert client.post("/presets/new/", new).status_code == 422
    ink = {**FORM, "name": "Basalt", "kind": "UV", "channels": "C M Y K", "light": "LC=C"}
    assert client.post("/ink-sets/new/", ink).status_code == 302 and InkSet.objects.get(
        name="Basalt"
    ).light == {"LC": "C"}
    assert client.post("/ink-sets/new/", {**ink, "name": "Other", "light": "LC"}).status_code == 422
    group = {**FORM, "name": "flags", "family": "textile"}
    assert client.post("/media-classes/new/", group).status_code == 302
    assert client.post("/media-classes/new/", {**group, "name": "x", "family": "wood"}).status_code == 422


def test_curves_and_limits_are_objects_with_used_by_notes_and_files(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    one, two = mode("One", printer, media), mode("Two", printer, media)
    assert one.curve_set == two.curve_set and one.limit_set == two.limit_set, "equal content is kept once"
    LimitSet.of({"C": 12.5}, None)
    KeptText.of("channel,input,output", KeptText.Kind.CURVES)
    for kind, pk in (("curves", one.curve_set_id), ("limits", one.limit_set_id)):
        listed = client.get(f"/{kind}/")
        assert [row.record.pk for row in listed.context["rows"]] == [pk], (
            "what nothing holds to is not in the way"
        )
        page = client.get(f"/{kind}/{pk}/").content.decode()
        assert "One" in page and "Two" in page
        if kind == "curves":
            assert CurveSet.from_csv(
                client.get(f"/curves/{pk}/curves.csv").content.decode()
            ).channels == tuple("CMYK")
        empty = editing.digest_of("")
        client.post(f"/{kind}/{pk}/notes/", {"notes": "<b>found</b> by eye", "was": empty})
        crossed = client.post(f"/{kind}/{pk}/notes/", {"notes": "my own words", "was": empty})
        found = crossed.content.decode()
        assert crossed.status_code == 409 and "Mara Voss saved other notes" in found
        assert "&lt;b&gt;found&lt;/b&gt; by eye</blockquote>" in found and ">my own words</textarea>" in found
        client.post(
            f"/{kind}/{pk}/files/", {"file": SimpleUploadedFile("sheet.pdf", b"%PDF-1.4 x"), "note": "scan"}
        )
        page = client.get(f"/{kind}/{pk}/").content.decode()
        assert "&lt;b&gt;found" in page and "sheet.pdf" in page
    assert KeptText.objects.count() == LimitSet.objects.count() == 2


def test_what_has_no_versions_is_written_down_all_the_same(
    client: Client, printer: Printer, media: Media, kept: MediaPreset, user: User
) -> None:
    lent, other = mode("Deck charts", printer, media), mode("Sea maps", printer, media)
    group = media.media_class
    for one in (lent, other, None):
        fallbacks.set_fallback(group, printer, one, user)
    file = editing.attach(kept, "sheet.pdf", b"%PDF-1.4", "", user)
    editing.detach(file.pk, user)
    readiness.load_media(printer.pk, media, user)
    items = [(n.what, n.before, n.after, n.who) for n in noted(group, kept, printer)]
    assert items == [
        ("Media in it", "", "Kelp Synthetic 190", user),
        ("File", "sheet.pdf", "", user),
        ("File", "", "sheet.pdf", user),
        ("Lent on Petrel 44", "Sea maps", "", user),
        ("Lent on Petrel 44", "Deck charts", "Sea maps", user),
        ("Lent on Petrel 44", "", "Deck charts", user),
    ]
    page = client.get(f"/media-classes/{group.pk}/").content.decode()
    assert (
        "Lent on Petrel 44: Deck charts to Sea maps" in page
        and "Lent on Petrel 44: Sea maps taken away" in page
    )
    made = people.add_person("olga", "Olga", "Stern", "a long password", "operator", None, user)
    people.set_person(made, "operator", printer.site, user)
    rules.set_rules(ShopRules.current().version, {"check_days": 14, "double_reading": False}, user)
    people.make_key(user, "front desk")
    people.end_key(user.program_keys.get().pk, user)
    page = client.get("/shop/").content.decode()
    for words in (
        "Account: olga",
        "Site of Olga Stern: Quay Street",
        "30 to 14",
        "Charts are read twice: yes to no",
        "front desk taken away",
    ):
        assert words in page, words


def test_files_are_kept_beside_records_and_never_run_in_a_browser(
    client: Client, kept: MediaPreset, user: User
) -> None:
    for name, data, kind in (
        ("photo.png", b"\x89PNG\r\n\x1a\n123", "image/png"),
        ("../../evil.html", b"<script>alert(1)</script>", "application/octet-stream"),
        ("logo.svg", b"<svg onload='x'/>", "application/octet-stream"),
    ):
        client.post(
            f"/presets/{kept.pk}/files/", {"file": SimpleUploadedFile(name, data), "note": "<i>n</i>"}
        )
        found = editing.files_of(kept).get(kind=kind, size=len(data))
        answer = client.get(f"/kept-files/{found.pk}/")
        assert (
            answer.content == data
            and answer["Content-Type"] == kind
            and answer["X-Content-Type-Options"] == "nosniff"
        )
        assert ("attachment" in answer["Content-Disposition"]) == (
            kind == "application/octet-stream"
        ) and "/" not in found.name
    page = client.get(f"/presets/{kept.pk}/").content.decode()
    assert "&lt;i&gt;n" in page and "<script>alert" not in page
    client.post(f"/kept-files/{found.pk}/remove/")
    assert editing.files_of(kept).count() == 2
    with pytest.raises(BadInput, match="MB"):
        editing.attach(kept, "big", b"x" * (editing.MOST_BYTES + 1), "", user)
    with pytest.raises(BadInput, match="empty"):
        editing.attach(kept, "none", b"", "", user)


def test_html_in_names_is_shown_as_text_everywhere(client: Client, printer: Printer, user: User) -> None:
    nasty = "<img src=x onerror=alert(1)>"
    media = paper(f"Media {nasty}", f"Class {nasty}", f"Maker {nasty}")
    held = preset(media, printer, {"vacuum": 40}, f"Preset {nasty}")
    made = mode(f"Mode {nasty}", printer, media, note=nasty, preset=held)
    for address in (
        "/",
        "/modes/",
        f"/modes/{made.pk}/",
        "/media/",
        f"/media/{media.pk}/",
        f"/presets/{held.pk}/",
        f"/media-classes/{media.media_class_id}/",
        "/media-classes/lend/",
        f"/modes/{made.pk}/edit/",
        f"/media/{media.pk}/history/",
        f"/printers/{printer.pk}/slots/",
        "/readiness/",
        f"/modes/best/?media={media.pk}",
        "/packs/",
        "/curves/",
        "/limits/",
        "/builds/new/",
        "/shop/",
    ):
        page = client.get(address).content.decode()
        assert "<img src=x" not in page, address


# --- states, evidence, editions --------------------------------------------------------------


def test_a_release_names_what_is_missing_and_an_exception_needs_a_reason(
    printer: Printer, media: Media, user: User, client: Client
) -> None:
    made = mode("Deck charts", printer, media, state="ready")
    facts = {e["rule"]: e for e in evidence(made)}
    assert (
        not facts["double reading"]["ok"]
        and facts["profile quality"]["ok"]
        and facts["passing check"]["text"] == "it was never checked"
    )
    part = client.get(f"/modes/{made.pk}/evidence/").content.decode()
    assert "it was never checked" in part and "Release with an exception" in part
    refused = client.post(f"/modes/{made.pk}/release/", {"version": 1, "note": "x"})
    assert refused.status_code == 409 and "it was never checked" in refused.content.decode()
    made.refresh_from_db()
    assert made.state == "ready" and made.editions.count() == 0
    client.post(
        f"/modes/{made.pk}/release/",
        {"version": 1, "note": "x", "exception": "a supplier's setting, checked there"},
    )
    made.refresh_from_db()
    edition = made.editions.get()
    assert (
        made.state == "released"
        and edition.exception.startswith("a supplier")
        and not all(e["ok"] for e in edition.evidence)
    )
    assert "a supplier" in made.history.first().history_change_reason


def test_the_shops_rules_decide_what_is_enough(printer: Printer, media: Media, user: User) -> None:
    made = mode("Deck charts", printer, media, state="ready")
    rules.set_rules(
        ShopRules.current().version, {"profile_error": 0.3, "double_reading": False, "check_days": 30}, user
    )
    facts = {e["rule"]: e for e in evidence(made)}
    assert (
        "double reading" not in facts
        and "0.40 dE00" in facts["profile quality"]["text"]
        and not facts["profile quality"]["ok"]
    )
    with pytest.raises(BadInput, match="changed by somebody else"):
        rules.set_rules(1, {"check_days": 5}, user)
    with pytest.raises(BadInput):
        rules.set_rules(ShopRules.current().version, {"check_days": 0}, user)


def test_a_draft_is_handed_in_sent_back_and_released(printer: Printer, media: Media, user: User) -> None:
    maker = person("tobias", Role.TECHNICIAN)
    made = mode("Deck charts", printer, media, state="building")
    made = services.hand_in(made.pk, 1, maker, "ready")
    assert made.state == "ready"
    with pytest.raises(NotAllowed):
        release_outside(made.pk, 2, "x", "y", maker)
    with pytest.raises(BadInput, match="say what is to be done"):
        services.send_back(made.pk, 2, user, "")
    whole = "dry longer: " + "the solids of the second sheet still marked the third one, " * 4
    made = services.send_back(made.pk, 2, user, whole)
    assert made.state == "building" and made.history.first().history_change_reason == f"sent back: {whole}"
    with pytest.raises(BadInput, match="at most 1000 letters, this one has"):
        services.hand_in(made.pk, 3, maker, "x" * 1001)
    made = services.hand_in(made.pk, 3, maker, "dried")
    made = release_outside(made.pk, 4, "in use", "checked by hand", user)
    assert made.state == "released" and made.released_by == user
    with pytest.raises(BadInput, match="only a draft"):
        services.hand_in(made.pk, 5, maker, "again")
    assert services.retire_mode(made.pk, 5, user, "replaced").state == "retired"


def test_whatever_nobody_wants_is_retired_and_can_be_brought_back(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    wrong = mode("Wrongly mapped", printer, media, state="ready")
    client.post(f"/modes/{wrong.pk}/retire/", {"version": 1, "why": "came with the wrong printer"})
    wrong.refresh_from_db()
    assert wrong.state == "retired" and "Restore to use" in client.get(f"/modes/{wrong.pk}/").content.decode()
    with pytest.raises(BadInput, match="retired already"):
        services.retire_mode(wrong.pk, 2, user, "again")
    with pytest.raises(BadInput, match="bring it back first"):
        services.release_mode(wrong.pk, user, "x")
    client.post(f"/modes/{wrong.pk}/bring-back/", {"version": 2, "why": "it was right"})
    wrong.refresh_from_db()
    assert (
        wrong.state == "ready" and wrong.history.first().history_change_reason == "brought back: it was right"
    )
    with pytest.raises(BadInput, match="only a retired mode"):
        services.bring_back(wrong.pk, 3, user, "again")
    bare = mode("Never finished", printer, media, state="retired")
    bare.curves = ""
    bare.save()
    assert services.bring_back(bare.pk, 1, user, "go on").state == "building"


def test_a_record_goes_only_when_nothing_rests_on_it(
    client: Client, printer: Printer, media: Media, kept: MediaPreset, user: User
) -> None:
    made = mode("Deck charts", printer, media, preset=kept)
    editing.attach(kept, "sheet.pdf", b"%PDF-1.4", "", user)
    page = client.get(f"/presets/{kept.pk}/").content.decode()
    assert "It stays: it is used by 1 print mode, 1 file." in page
    refused = client.post(f"/presets/{kept.pk}/remove/", {"version": 1, "why": "double"})
    assert refused.status_code == 409 and MediaPreset.objects.filter(pk=kept.pk).exists()
    made.preset = None
    made.save()
    editing.detach(editing.files_of(kept).get().pk, user)
    for form, words in (
        ({"version": 1, "why": ""}, "ay why"),
        ({"version": 7, "why": "double"}, "somebody else"),
    ):
        refused = client.post(f"/presets/{kept.pk}/remove/", form)
        assert refused.status_code == 409 and words in refused.content.decode()
    page = client.post(
        f"/presets/{kept.pk}/remove/", {"version": 1, "why": "double"}, follow=True
    ).content.decode()
    assert "was removed" in page and not MediaPreset.objects.filter(pk=kept.pk).exists()
    last = MediaPreset.history.filter(id=kept.pk).first()
    assert (last.history_type, last.history_change_reason, last.history_user) == (
        "-",
        "removed: double",
        user,
    )
    for kind, record in (
        ("media", media),
        ("printers", printer),
        ("ink-sets", printer.ink_sets.get()),
        ("media-classes", media.media_class),
    ):
        with pytest.raises(BadInput, match="so it stays"):
            editing.remove(KINDS[kind], record.pk, record.version, user, "x")
    with pytest.raises(BadInput, match="retired, not removed"):
        editing.remove(KINDS["modes"], made.pk, 1, user, "x")


def test_an_edition_stays_what_it_was_and_its_pack_prints_it(
    client: Client, printer: Printer, media: Media, kept: MediaPreset, user: User
) -> None:
    made = mode("Deck charts", printer, media, state="ready", preset=kept)
    release_outside(made.pk, 1, "March", "by hand", user)
    then = made.curves
    kept.refresh_from_db()
    set_value(kept, "vacuum", 80, user, "later")
    made = PrintMode.objects.get(pk=made.pk)
    made.curves, made.limits, made.version = (
        CurveSet.straight(dict.fromkeys("CMYK", 0.6)).to_csv(),
        {"C": 60.0},
        made.version + 1,
    )
    made.save()
    assert client.get(f"/modes/{made.pk}/editions/1/").status_code == 200
    answer = client.get(f"/modes/{made.pk}/editions/1/pack.zip")
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        found = json.loads(archive.read("manifest.json"))
        packed = found["modes"][0]
        assert archive.read(packed["curves"]).decode() == then
        assert archive.read(packed["profile"]) == bytes(made.profile.data)
    assert packed["limits"]["C"] == 90 and packed["handling_in_force"]["vacuum"] == {
        "value": 60.0,
        "unit": "%",
        "source": "preset",
    }
    assert found["presets"][0]["handling"]["vacuum"] == 60 and packed["edition"] == 1


def test_what_operators_print_with_is_changed_by_leads_alone_and_makes_an_edition(
    printer: Printer, media: Media, user: User
) -> None:
    made, maker = mode("Deck charts", printer, media), person("tobias", Role.TECHNICIAN)
    with pytest.raises(NotAllowed, match="signed in as technician"):
        set_value(made, "vacuum", 60, maker, "x")
    set_value(made, "vacuum", 60, user, "it lifted")
    assert made.editions.get().content["in_force"]["vacuum"]["value"] == 60
