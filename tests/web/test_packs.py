"""Packs out and in: the same page back, mapping, clashes, all or nothing; loose profiles; the supplier's
catalogue.
"""

from __future__ import annotations

import hashlib
import io
import json
import re
import threading
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from wsgiref.simple_server import WSGIRequestHandler, make_server

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.roles import NotAllowed, Role
from greyanchor.background import queue, work
from greyanchor.core.errors import BadInput
from greyanchor.core.packs import Archive, dump_pack, read_pack, write_archive
from greyanchor.core.packs.archive import file_hash
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.library.models import (
    Edition,
    InkSet,
    Installed,
    KeptText,
    Media,
    MediaClass,
    MediaPreset,
    Offer,
    PackExport,
    PackImport,
    PrintMode,
    Shelf,
)
from greyanchor.library.packs import builder, catalogue, exporting, import_writer, importing
from greyanchor.operations.catalogue_server import Catalogue
from greyanchor.profiles.models import Profile
from tests.web.library_kit import machine, mode, paper, person, preset


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path) -> Path:
    settings.HOME = tmp_path
    return tmp_path


@pytest.fixture
def shop(user: User) -> PrintMode:
    """A released mode with everything a pack can carry."""
    printer, media = machine(), paper()
    held = preset(media, printer, {"vacuum": 60})
    made = mode(
        "Deck charts",
        printer,
        media,
        preset=held,
        handling={"heat_on": 41.0},
        note="dry first",
        last_verdict="pass",
        last_check_summary="fine",
        user=user,
    )
    kept = KeptText.of(
        "CGATS.17\nNUMBER_OF_FIELDS 5\nBEGIN_DATA_FORMAT\nSAMPLE_ID LAB_L LAB_A LAB_B "
        "CMYK_C\nEND_DATA_FORMAT\n"
        "NUMBER_OF_SETS 1\nBEGIN_DATA\n1 50 0 0 10\nEND_DATA\n",
        KeptText.Kind.READINGS,
    )
    made.readings = [{"purpose": "Profile chart", "sha256": kept.sha256}]
    made.released_by, made.released_at = user, made.calibrated_at
    made.save()
    return made


def packed(*modes: PrintMode, **label: str) -> bytes:
    out = io.BytesIO()
    builder.pack_modes([m.pk for m in modes], builder.Label(label.pop("title", "Test"), **label), out)
    return out.getvalue()


def opened(data: bytes) -> dict[str, bytes]:
    """The files of a pack by name."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def rewritten(data: bytes, change: Callable[[dict[str, Any]], None]) -> bytes:
    """A pack somebody else made: its manifest changed, its hashes right."""
    with Archive(data) as archive:
        found = json.loads(archive.read("manifest.json"))
        files = {n: archive.read(n) for n in archive.names() if n != "manifest.json"}
    found.pop("files")
    change(found)
    out = io.BytesIO()
    write_archive(out, dump_pack(found, {n: (lambda d=d: d) for n, d in files.items()}))
    return out.getvalue()


def bring(data: bytes, user: User, choices: dict[str, Any] | None = None, **offer: Any) -> PackImport:
    """A pack through its test, its decision and its writing, as worker and person would."""
    job = importing.receive("test.zip", [data], user, **offer)
    importing.carry_on(job.pk)
    job.refresh_from_db()
    importing.decide(job.pk, choices or {}, user)
    importing.carry_on(job.pk)
    job.refresh_from_db()
    return job


def wipe() -> None:
    """Everything a pack carries, gone."""
    Edition.objects.all().delete()
    PrintMode.objects.all().delete()
    for model in (MediaPreset, Media, MediaClass, KeptText, Profile):
        model.objects.all().delete()


def shown(client: Client, pk: int) -> str:
    """What the page of a mode says, without who looks and numbers of records."""
    page = client.get(f"/modes/{pk}/").content.decode()
    body = re.sub(
        (
            r"<section class=\"panel\"><h2>(History|Editions)</h2>.*?</section>|<section "
            r"class=\"panel\"><h2>Editions.*?</section>"
        ),
        "",
        page,
        flags=re.S,
    )
    body = re.sub(r"<form.*?</form>|<[^>]+>", " ", body[body.index("<h1>") :], flags=re.S)
    return " ".join(body.split())


def test_exported_wiped_and_imported_the_same_page_is_back(
    client: Client, shop: PrintMode, user: User
) -> None:
    before, data = shown(client, shop.pk), packed(shop)
    history, sha = shop.calibrated_at, shop.profile.sha256
    wipe()
    job = bring(data, user, {"state": "packed"})
    back = PrintMode.objects.get()
    assert shown(client, back.pk) == before and job.result["counts"]["created"] == 1
    assert back.profile.sha256 == sha and back.calibrated_at == history and back.released_by == user
    assert KeptText.objects.get(sha256=back.readings[0]["sha256"]).kind == "readings"
    assert [m.name for m in client.get(f"/modes/?brought={job.pk}").context["found"].modes] == ["Deck charts"]
    once, twice = opened(packed(back)), opened(packed(back))
    made = [json.loads(files.pop("manifest.json")) for files in (once, twice)]
    assert all(manifest.pop("made_at") for manifest in made)  # the clock may have gone on
    assert once == twice and made[0] == made[1] and made[0]["modes"][0]["limits"] == shop.limits


def test_the_plan_says_what_would_be_created_and_what_is_left(
    client: Client, shop: PrintMode, user: User
) -> None:
    other = mode("Sea maps", shop.printer, shop.media)
    data = packed(shop, other)
    other.delete()
    client.post("/packs/receive/", {"file": SimpleUploadedFile("p.zip", data)})
    job = PackImport.objects.get()
    importing.carry_on(job.pk)
    job.refresh_from_db()
    assert {m["name"]: m["action"] for m in job.plan["modes"]} == {
        "Deck charts": "same",
        "Sea maps": "create",
    }
    assert {m["name"]: m["action"] for m in job.plan["media"]} == {"Kelp Synthetic 190": "same"}
    page = client.get(f"/packs/{job.pk}/").content.decode()
    assert "<strong>1</strong> print mode created, <strong>1</strong> here already and left" in page
    count = PrintMode.objects.count()
    client.post(
        f"/packs/{job.pk}/import/", {"printers.0": job.plan["printers"][0]["ours"], "state": "review"}
    )
    importing.carry_on(job.pk)
    assert PrintMode.objects.count() == count + 1
    made = PrintMode.objects.get(name="Sea maps")
    assert made.state == "ready" and made.history.first().history_change_reason == "imported from Test 1"
    job.refresh_from_db()
    assert (
        not importing.path_of(job).exists()
        and "Look at the imported modes" in client.get(f"/packs/{job.pk}/").content.decode()
    )
    assert client.post(f"/packs/{job.pk}/import/", {}).status_code == 409


def test_foreign_printers_and_classes_are_mapped_to_ours(shop: PrintMode, user: User) -> None:
    def foreign(values: dict[str, Any]) -> None:
        values["printers"][0]["model"] = "Curlew 36"
        values["media_classes"][0]["name"] = "Polymer sheets"
        values["media"][0] |= {"name": "Shoal Film", "media_class": "Polymer sheets"}
        values["presets"][0] |= {"media": "Shoal Film", "printer": "Curlew 36", "name": "Film firm"}
        values["modes"][0] |= {
            "name": "Film maps",
            "printer": "Curlew 36",
            "media": "Shoal Film",
            "preset": "Film firm",
        }

    data = rewritten(packed(shop), foreign)
    with pytest.raises(BadInput, match="no printer of the pack was mapped"):
        bring(data, user)
    job = bring(
        data,
        user,
        {
            "printers": {"Curlew 36": shop.printer_id},
            "media_classes": {"Polymer sheets": shop.media.media_class_id},
        },
    )
    made = PrintMode.objects.get(name="Film maps")
    assert (
        made.printer == shop.printer
        and made.environment["printer"] == "Petrel 44"
        and made.environment["media"] == "Shoal Film"
    )
    assert (
        made.media.media_class == shop.media.media_class
        and made.preset.printer_model == "Petrel 44"
        and job.result["modes"] == [made.pk]
    )


def test_inks_of_other_channels_are_not_mapped(shop: PrintMode, user: User) -> None:
    seven = InkSet.objects.create(name="Seven", channels=list("CMYKOGV"), kind="UV")
    with pytest.raises(BadInput, match="same channels"):
        bring(packed(shop), user, {"ink_sets": {"Tarn pigment": seven.pk}})
    data = rewritten(packed(shop), lambda m: m["ink_sets"][0].update(light={"LC": "C"}))
    with pytest.raises(BadInput, match="other channels here"):
        bring(data, user)


@pytest.mark.parametrize("way", ["both", "update", "skip"])
def test_a_taken_name_is_kept_beside_updated_or_left(shop: PrintMode, user: User, way: str) -> None:
    data = rewritten(
        packed(shop), lambda m: m["modes"][0].update(limits={"C": 50.0, "M": 50.0, "Y": 50.0, "K": 50.0})
    )
    bring(data, user, {"modes": {"Deck charts": way}})
    shop.refresh_from_db()
    names = set(PrintMode.objects.values_list("name", flat=True))
    if way == "both":
        assert names == {"Deck charts", "Deck charts (2)"} and shop.limits["C"] == 90
    else:
        assert names == {"Deck charts"} and shop.limits["C"] == (50 if way == "update" else 90)
    assert shop.version == (2 if way == "update" else 1)


def test_the_plan_names_each_value_that_differs_and_all_can_be_settled_at_once(
    client: Client, shop: PrintMode, user: User
) -> None:
    second = mode("Sea maps", shop.printer, shop.media)

    def changed(values: dict[str, Any]) -> None:
        values["presets"][0]["handling"] = {"vacuum": 64, "feed": -0.05}
        for m in values["modes"]:
            m |= {"limits": {**m["limits"], "C": 77.5}, "total_ink": 260.0}
        values["modes"][0]["handling"] = {"heat_on": 44.0}

    client.post(
        "/packs/receive/", {"file": SimpleUploadedFile("p.zip", rewritten(packed(shop, second), changed))}
    )
    job = PackImport.objects.get()
    importing.carry_on(job.pk)
    job.refresh_from_db()
    rows = {m["name"]: m["differs"] for m in job.plan["modes"]}
    ink = ["C limit 90.0 % here, 77.5 % in the pack", "total ink 280 % here, 260 % in the pack"]
    assert rows["Sea maps"] == ink
    assert rows["Deck charts"] == [*ink, "Heat on the platen 41 °C here, 44 °C in the pack"]
    values = "Vacuum 60 % here, 64 % in the pack; Feed adjustment not held here, -0.05 % in the pack"
    page = client.get(f"/packs/{job.pk}/").content.decode()
    assert values in page and "With all of them" in page
    client.post(
        f"/packs/{job.pk}/import/",
        {"printers.0": shop.printer_id, "modes.all": "update", "modes.0": "both", "modes.1": "skip"},
    )
    importing.carry_on(job.pk)
    for held in (shop, second):
        held.refresh_from_db()
        assert held.limits["C"] == 77.5 and held.total_ink == 260
    assert PrintMode.objects.count() == 2 and shop.handling == {"heat_on": 44.0}


def test_updating_what_is_released_or_taking_a_release_over_takes_a_lead(shop: PrintMode, user: User) -> None:
    maker = person("tobias", Role.TECHNICIAN)
    data = rewritten(packed(shop), lambda m: m["modes"][0].update(total_ink=200.0))
    for choices in ({"modes": {"Deck charts": "update"}}, {"state": "packed"}):
        with pytest.raises(NotAllowed):
            bring(data, maker, choices)
    assert bring(data, maker).step == "done"
    assert PrintMode.objects.get(name="Deck charts (2)").state == "ready"
    with pytest.raises(NotAllowed):
        importing.receive("x.zip", [data], person("ada", Role.OPERATOR))


def test_a_pack_that_fails_while_it_is_written_leaves_nothing(
    shop: PrintMode, user: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    second = mode("Sea maps", shop.printer, shop.media, limits={"C": 44.0, "M": 44.0, "Y": 44.0, "K": 44.0})
    data = packed(shop, second)
    wipe()
    job = importing.receive("test.zip", [data], user)
    importing.carry_on(job.pk)
    importing.decide(job.pk, {}, user)

    def half(self: Any, values: dict[str, Any]) -> Any:
        if values["name"] == "Sea maps":
            raise RuntimeError("the disk is full")
        return kept(self, values)

    kept = import_writer.PackWriter._mode
    monkeypatch.setattr(import_writer.PackWriter, "_mode", half)
    queue.run(job)
    job.refresh_from_db()
    assert job.state == "failed" and "disk is full" in job.message
    assert (
        not PrintMode.objects.exists()
        and not Media.objects.exists()
        and not Profile.objects.exists()
        and job.step == "write"
    )
    monkeypatch.setattr(import_writer.PackWriter, "_mode", kept)
    importing.again(job.pk, user)
    queue.run(job)
    assert PrintMode.objects.count() == 2, "tried once more, it is all there"


def test_a_refused_pack_says_why_and_is_not_kept(client: Client, shop: PrintMode) -> None:
    data = rewritten(packed(shop), lambda m: m["ink_sets"][0].update(channels=list("CMYKOGV")))
    client.post("/packs/receive/", {"file": SimpleUploadedFile("p.zip", data)})
    job = PackImport.objects.get()
    queue.run(job)
    job.refresh_from_db()
    assert job.state == "failed" and "its profile is of C M Y K" in job.message
    assert (
        "Refused: p.zip" in client.get(f"/packs/{job.pk}/").content.decode()
        and not importing.path_of(job).exists()
    )
    assert client.post("/packs/receive/", {}).status_code == 409


def test_profiles_without_figures_are_measured_and_tampered_figures_are_not_believed(shop: PrintMode) -> None:
    with Archive(packed(shop)) as archive:
        pack = read_pack(archive)
        facts = pack.modes[0]["profile_facts"]
        assert importing._facts_text(archive, facts)["report"]["held_out"]["mean"] == 0.4
        for bad in (
            b"{",
            b"[]",
            json.dumps(
                {
                    "neutral": [],
                    "boundary": [["<script>"]],
                    "report": {},
                    "settings": {},
                    "made_from": {},
                    "version": 4,
                }
            ).encode(),
        ):

            class Fake:
                def sizes(self) -> dict[str, int]:
                    return {facts: 1}

                def read(self, name: str, data: bytes = bad) -> bytes:
                    return data

            assert importing._facts_text(Fake(), facts) is None  # type: ignore[arg-type]


def test_many_modes_share_files_and_a_pack_has_an_end(shop: PrintMode) -> None:
    others = [mode(f"Deck {i}", shop.printer, shop.media) for i in range(4)]
    with Archive(packed(shop, *others)) as archive:
        assert (
            sum(n.endswith(".icc") for n in archive.names()) == 1
            and sum(n.endswith(".csv") for n in archive.names()) == 1
        )
    with pytest.raises(BadInput, match="no print mode to pack"):
        packed()


def test_what_an_address_narrows_to_is_packed(client: Client, shop: PrintMode) -> None:
    mode("Sea maps", shop.printer, shop.media, state="retired")
    answer = client.get("/modes/pack.zip?state=retired")
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        assert [m["name"] for m in json.loads(archive.read("manifest.json"))["modes"]] == ["Sea maps"]
    assert (
        len(
            json.loads(
                zipfile.ZipFile(io.BytesIO(client.get(f"/modes/pack.zip?m={shop.pk}").content)).read(
                    "manifest.json"
                )
            )["modes"]
        )
        == 1
    )


def test_many_modes_are_packed_in_the_background_under_a_label(
    client: Client, shop: PrintMode, user: User, home: Path
) -> None:
    for i in range(exporting.AT_ONCE):
        mode(f"Sea maps {i}", shop.printer, shop.media)
    page = client.get("/modes/pack.zip?state=released")
    assert (
        page["Content-Type"].startswith("text/html")
        and "7 print modes go into one ZIP" in page.content.decode()
    )
    unnamed = client.post("/packs/out/", {"query": "state=released", "title": " "})
    assert unnamed.status_code == 409 and "ive the pack a title" in unnamed.content.decode()
    facts = {
        "query": "state=released",
        "title": "Deck & sea, 2026",
        "maker": "Quay Street",
        "note": "for the other room",
    }
    address = client.post("/packs/out/", facts).url
    job = PackExport.objects.get()
    assert "Packing" in client.get(address).content.decode()
    assert client.get(f"{address}pack.zip").status_code == 409, "not before it is whole"
    queue.run(job)
    page = client.get(address).content.decode()
    sent = client.get(f"{address}pack.zip")
    assert 'filename="Deck---sea--2026.zip"' in sent["Content-Disposition"]
    data = b"".join(sent.streaming_content)  # type: ignore[attr-defined]
    assert "7 print modes" in page and hashlib.sha256(data).hexdigest() in page
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        manifest = json.loads(archive.read("manifest.json"))
    assert len(manifest["modes"]) == 7
    assert [manifest[k] for k in ("title", "maker", "note")] == [
        "Deck & sea, 2026",
        "Quay Street",
        "for the other room",
    ]
    PackExport.objects.update(created_at=timezone.now() - exporting.KEPT * 2)
    exporting.order([shop.pk], builder.Label("Another"), user)
    assert not exporting.path_of(job).exists() and PackExport.objects.get().title == "Another"
    assert client.get(f"{address}pack.zip").status_code == 404


def test_a_pack_that_is_stopped_or_fails_leaves_no_file_and_can_be_begun_again(
    client: Client, shop: PrintMode, user: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    job = exporting.order([shop.pk], builder.Label("Deck"), user)
    with pytest.raises(BadInput, match="nothing to start again"):
        exporting.again(job, user)
    work.begin(PackExport, job.pk)
    client.post(f"/packs/out/{job.pk}/act/", {"act": "stop"})
    with pytest.raises(work.Cancelled):
        exporting.write(job.pk)
    work.end(PackExport, job.pk, PackExport.State.CANCELLED, "cancelled")
    assert not list(importing.folder().iterdir())
    client.post(f"/packs/out/{job.pk}/act/", {"act": "again"})
    PrintMode.objects.filter(pk=shop.pk).delete()
    queue.run(job)
    page = client.get(f"/packs/out/{job.pk}/").content.decode()
    assert "There is no print mode to pack" in page and "Pack it again" in page
    assert not list(importing.folder().iterdir())


# --- loose profiles --------------------------------------------------------------------------


def test_loose_profiles_come_in_at_once_with_channels_and_descriptions(
    client: Client, user: User, built: ProfileResult
) -> None:
    small_profile, title = built.data, "Quay proof — № 1"
    inside = io.BytesIO()
    with zipfile.ZipFile(inside, "w") as archive:
        archive.writestr("a/one.icc", small_profile)
        archive.writestr("readme.txt", "x")
    client.post(
        "/packs/receive/",
        {
            "kind": "profiles",
            "file": [SimpleUploadedFile("p.zip", inside.getvalue()), SimpleUploadedFile("bad.icc", b"no")],
        },
    )
    job = PackImport.objects.get()
    importing.carry_on(job.pk)
    job.refresh_from_db()
    rows = {r["file"]: r for r in job.plan["profiles"]}
    assert (
        rows["a/one.icc"]["channels"] == list("CMYK")
        and rows["a/one.icc"]["title"] == title
        and not rows["a/one.icc"]["against"]
    )
    assert "no ICC profile" in rows["bad.icc"]["against"]
    page = client.get(f"/packs/{job.pk}/").content.decode()
    assert "cannot be taken" in page and title in page
    assert client.post(f"/packs/{job.pk}/import/", {}).status_code == 409
    client.post(f"/packs/{job.pk}/import/", {"take": [rows["a/one.icc"]["at"]]})
    importing.carry_on(job.pk)
    kept = Profile.objects.get()
    assert bytes(kept.data) == small_profile and kept.title == title and kept.report["gamut_volume"] > 1000
    again = importing.receive_profiles([("one.icc", small_profile)], user)
    importing.carry_on(again.pk)
    again.refresh_from_db()
    assert "in the library already" in again.plan["profiles"][0]["against"]


# --- the catalogue ---------------------------------------------------------------------------


class _Quiet(WSGIRequestHandler):
    def log_message(self, *_: Any) -> None:
        pass


@pytest.fixture
def supplier(home: Path, settings: Any) -> Iterator[Path]:
    """The stand-in catalogue over a folder, served by HTTP."""
    folder = home / "offers"
    folder.mkdir()
    server = make_server("127.0.0.1", 0, Catalogue(folder), handler_class=_Quiet)  # type: ignore[arg-type]
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    settings.CATALOGUE_URL = f"http://127.0.0.1:{server.server_port}"
    yield folder
    server.shutdown()
    server.server_close()


def offered(folder: Path, shop: PrintMode, version: str, **mode_facts: Any) -> Path:
    data = rewritten(
        packed(
            shop, title="Kelp for the Petrel 44", maker="Sound & Shoal", key="kelp-petrel", version=version
        ),
        lambda m: m["modes"][0].update(name="Kelp, supplier", **mode_facts),
    )
    path = folder / f"kelp-petrel-{version}.zip"
    path.write_bytes(data)
    return path


def test_a_pack_is_found_fetched_imported_and_marked_when_it_is_newer_there(
    client: Client, shop: PrintMode, user: User, supplier: Path
) -> None:
    offered(supplier, shop, "1.9")
    (supplier / "junk.zip").write_bytes(b"no zip")
    page = client.get("/catalogue/").content.decode()
    assert "Kelp for the Petrel 44" in page and "1.9" in page and "junk" not in page
    for query, seen in (
        ("maker=Sound", True),
        ("maker=Wherry", False),
        ("class=synthetic", True),
        ("printer=Gannet", False),
        ("q=kelp", True),
    ):
        assert ("Fetch</button>" in client.get(f"/catalogue/?{query}").content.decode()) == seen, query
    client.post("/catalogue/fetch/", {"key": "kelp-petrel", "version": "1.9"})
    job = PackImport.objects.get()
    importing.carry_on(job.pk)
    importing.decide(job.pk, {}, user)
    importing.carry_on(job.pk)
    first = PrintMode.objects.get(name="Kelp, supplier")
    assert Installed.objects.get().version == "1.9" and catalogue.newer() == []
    offered(supplier, shop, "1.10", total_ink=222.0)
    client.post("/catalogue/ask/")
    assert [(n.installed.version, n.offer.version) for n in catalogue.newer()] == [("1.9", "1.10")], (
        "1.10 comes after 1.9"
    )
    start = client.get("/").content.decode()
    assert "Newer version there" in start and "1.10" in start
    client.post("/catalogue/fetch/", {"key": "kelp-petrel", "version": "1.10"})
    job = PackImport.objects.latest("pk")
    importing.carry_on(job.pk)
    job.refresh_from_db()
    assert job.choices["modes"] == {"Kelp, supplier": "update"}, (
        "a newer version of what it brought updates it"
    )
    importing.decide(job.pk, {}, user)
    importing.carry_on(job.pk)
    first.refresh_from_db()
    assert first.total_ink == 222 and first.version == 2 and catalogue.newer() == []


def test_without_the_catalogue_everything_works_and_says_so(
    client: Client, shop: PrintMode, supplier: Path, settings: Any
) -> None:
    offered(supplier, shop, "1.0")
    client.get("/catalogue/")
    settings.CATALOGUE_URL = "http://127.0.0.1:9"
    page = client.post("/catalogue/ask/", follow=True).content.decode()
    assert "cannot be reached" in page and "Kelp for the Petrel 44" in page, "the last list stays"
    refused = client.post(
        "/catalogue/fetch/", {"key": "kelp-petrel", "version": "1.0"}, follow=True
    ).content.decode()
    assert "cannot be reached" in refused and not PackImport.objects.exists()
    settings.CATALOGUE_URL = ""
    Shelf.objects.all().delete()
    assert "This shop has no catalogue" in client.get("/catalogue/").content.decode()
    assert client.get("/").status_code == 200


def test_a_pack_that_is_not_what_was_promised_is_not_kept(
    client: Client, shop: PrintMode, supplier: Path
) -> None:
    path = offered(supplier, shop, "1.0")
    client.get("/catalogue/")
    offered(supplier, shop, "1.0", total_ink=111.0)
    page = client.post(
        "/catalogue/fetch/", {"key": "kelp-petrel", "version": "1.0"}, follow=True
    ).content.decode()
    assert (
        "not what the catalogue listed" in page or "sends more than it listed" in page
    ) and not PackImport.objects.exists()
    assert file_hash(path) != Offer.objects.get().sha256 and not list(importing.folder().glob("*.zip"))


@pytest.mark.parametrize(
    "answer",
    [
        b"{",
        b"[]",
        b'{"packs": [{"key": "../x"}]}',
        b'{"packs": [{"key":"a '
        b'b","title":"t","maker":"m","media_class":"c","printer":"p","version":"1","modes":1,'
        b'"size":1,"sha256":"' + b"0" * 64 + b'","note":"","versions":[]}]}',
        b'{"packs": 3}',
    ],
)
def test_an_answer_that_is_no_list_changes_nothing(
    db: None, monkeypatch: pytest.MonkeyPatch, settings: Any, answer: bytes
) -> None:
    settings.CATALOGUE_URL = "http://catalogue.example"
    monkeypatch.setattr("urllib.request.urlopen", lambda *_, **__: io.BytesIO(answer))
    assert catalogue.ask().trouble and not Offer.objects.exists()


def test_the_service_answers_for_what_it_has_alone(shop: PrintMode, supplier: Path) -> None:
    offered(supplier, shop, "1.0")
    service, found = Catalogue(supplier), []

    def ask(path: str, method: str = "GET") -> bytes:
        found.clear()
        return b"".join(
            service(
                {"PATH_INFO": path, "REQUEST_METHOD": method, "QUERY_STRING": ""},
                lambda status, _: found.append(status),
            )
        )

    assert json.loads(ask("/packs"))["packs"][0]["versions"][0]["version"] == "1.0"
    assert ask("/packs/kelp-petrel/1.0.zip")[:2] == b"PK"
    for path in ("/packs/../secret/1.0.zip", "/packs/kelp-petrel/9.zip", "/", "/packs/%2e%2e/1.0.zip"):
        ask(path)
        assert found == ["404 Not Found"], path
    ask("/packs", "POST")
    assert found == ["405 Method Not Allowed"]
