"""Lists, pages, forms and files of records."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.accounts import people
from greyanchor.accounts.audit_log import noted
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
    ShopRules,
)
from greyanchor.library.modes import fallbacks
from greyanchor.library.records import editing
from greyanchor.library.records.record_types import KINDS
from greyanchor.library.shop import rules
from tests.web.library_kit import mode, paper, preset
from tests.web.records.conftest import FORM


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
