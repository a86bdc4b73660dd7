"""From draft to released, retired and removed; editions and their changes."""

from __future__ import annotations

import io
import json
import zipfile

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.accounts.roles import NotAllowed, Role
from greyanchor.builds.stages.release_evidence import evidence
from greyanchor.builds.stages.release_evidence import release as release_outside
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    Media,
    MediaPreset,
    Printer,
    PrintMode,
    ShopRules,
)
from greyanchor.library.modes import services
from greyanchor.library.records import editing
from greyanchor.library.records.handling_edits import set_value
from greyanchor.library.records.record_types import KINDS
from greyanchor.library.shop import rules
from tests.web.library_kit import mode, person


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
    assert "Cannot be removed: used by 1 print mode, 1 file." in page
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
