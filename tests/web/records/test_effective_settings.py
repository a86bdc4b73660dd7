"""Handling settings, each with its source."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    Media,
    MediaPreset,
    Printer,
    PrintMode,
)
from greyanchor.library.records import editing
from greyanchor.library.records.effective_settings import in_force, moved_since_built, start_values
from greyanchor.library.records.handling_edits import set_value, start_class
from greyanchor.library.records.record_types import KINDS
from tests.web.library_kit import machine, mode
from tests.web.records.conftest import FORM


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


def test_a_class_says_why_it_holds_a_value_and_forgets_the_reason_with_it(
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
