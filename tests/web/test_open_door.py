"""The interface for programs, held to its own description; the watched folder; backup, restore and export."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import sqlite3
import subprocess
import zipfile
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.conf import settings
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone
from jsonschema import Draft202012Validator

from greyanchor.accounts import people
from greyanchor.accounts.models import ProgramKey
from greyanchor.accounts.roles import Role
from greyanchor.api.interface import api
from greyanchor.builds.models import Build
from greyanchor.checks.models import Check, CheckPrint
from greyanchor.core.formats import cgats
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import PackImport, PrintMode
from greyanchor.library.modes import services
from greyanchor.measuring import inbox
from greyanchor.measuring.models import Delivered, ReadingPass, SheetPrint
from greyanchor.measuring.printing import make_chart, print_sheet
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.profiles.models import AimRecord
from tests.conftest import run_in
from tests.web.conftest import accept, found_limits, stage_of
from tests.web.library_kit import machine, mode, paper, person


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path) -> Path:
    settings.HOME, settings.INBOX = tmp_path, tmp_path / "inbox"
    return tmp_path


class Program:
    """Another program with a key; every answer is held to the description."""

    def __init__(self, person_: User) -> None:
        self.key, self.client = people.make_key(person_, "job desk"), Client()
        self.description = api.get_openapi_schema()

    def ask(
        self,
        path: str,
        method: str = "GET",
        data: Any = None,
        kind: str = "application/octet-stream",
        key: str | None = None,
    ) -> Any:
        address, _, query = path.partition("?")
        headers = {"Authorization": f"Bearer {self.key if key is None else key}"}
        answer = self.client.generic(
            method,
            f"/api/v1{address}" + (f"?{query}" if query else ""),
            data or b"",
            content_type=kind,
            headers=headers,
        )
        self._hold(address, method, answer)
        return answer

    def _hold(self, address: str, method: str, answer: Any) -> None:
        template = "/api/v1" + "/".join("{pk}" if part.isdigit() else part for part in address.split("/"))
        operation = self.description["paths"].get(template, {}).get(method.lower())
        if operation is None:
            assert answer.status_code in (401, 404, 405), address
            return
        described = operation["responses"].get(answer.status_code)
        assert described is not None, (
            f"{method} {address} answered {answer.status_code}, which is not described"
        )
        content = described["content"]
        if "application/json" in content:
            schema = {**content["application/json"]["schema"], "components": self.description["components"]}
            Draft202012Validator(schema).validate(answer.json())
        else:
            assert answer["Content-Type"] in content


@pytest.fixture
def shelf(user: User) -> list[PrintMode]:
    printer, media = machine(), paper()
    return [
        mode("Deck charts", printer, media, user=user, last_verdict="pass"),
        mode("Archive", printer, media, state="retired", passes=12),
    ]


def test_the_description_is_one_and_names_every_address() -> None:
    found = Client().get("/api/v1/openapi.json").json()
    assert found["openapi"] == "3.1.0"
    for schema in found["components"]["schemas"].values():
        Draft202012Validator.check_schema(schema)
    assert {path.removeprefix("/api/v1") for path in found["paths"]} == {
        "/modes",
        "/modes/{pk}",
        "/modes/{pk}/profile.icc",
        "/modes/{pk}/pack.zip",
        "/packs",
        "/packs/{pk}",
        "/checks",
        "/checks/{pk}",
        "/charts",
        "/charts/{pk}/chart.txt",
        "/readings",
    }, "addresses that other programs already use"


def test_a_program_fetches_the_right_mode_with_its_profile_and_pack(
    shelf: list[PrintMode], user: User
) -> None:
    program = Program(user)
    assert (
        program.ask("/modes?q=dekc").json()["total"] == 1
        and program.ask("/modes?q=zebra").json()["total"] == 0
    )
    one = program.ask("/modes?q=deck&state=released").json()["modes"][0]
    assert one["name"] == "Deck charts" and one["speed_m2h"] > 1
    whole = program.ask(f"/modes/{one['id']}").json()
    assert whole["limits"]["C"] == 90 and whole["handling"]["vacuum"] == {
        "value": 50,
        "unit": "%",
        "source": "printer",
    }
    assert program.ask(f"/modes/{one['id']}/profile.icc").content == bytes(shelf[0].profile.data)
    with zipfile.ZipFile(io.BytesIO(program.ask(f"/modes/{one['id']}/pack.zip").content)) as archive:
        assert json.loads(archive.read("manifest.json"))["modes"][0]["name"] == "Deck charts"
    assert (
        program.ask("/modes/999").status_code == 404
        and program.ask(f"/modes/{one['id']}/pack.zip?edition=7").status_code == 404
    )


def test_without_a_key_with_an_ended_one_and_beyond_the_role(shelf: list[PrintMode], user: User) -> None:
    program = Program(user)
    for key in ("", "ga_wrong", "x" * 500):
        answer = program.ask("/modes", key=key)
        assert answer.status_code == 401 and "WWW-Authenticate" in answer
    assert ProgramKey.objects.get().digest != program.key and ProgramKey.objects.get().used_at is None
    assert program.ask("/modes", "DELETE").status_code == 405
    assert program.ask("/modes").status_code == 200
    assert ProgramKey.objects.get().used_at is not None
    people.end_key(ProgramKey.objects.get().pk, user)
    assert program.ask("/modes").status_code == 401
    operator = Program(person("ada", Role.OPERATOR))
    assert (
        operator.ask("/packs", "POST", b"PK", "application/zip").status_code == 403
        and not PackImport.objects.exists()
    )
    gone = person("left", Role.LEAD)
    program = Program(gone)
    gone.is_active = False
    gone.save()
    assert program.ask("/modes").status_code == 401


def test_a_session_opens_no_door_and_a_key_is_shown_once(client: Client, user: User) -> None:
    assert client.get("/api/v1/modes").status_code == 401
    client.post("/shop/keys/make/", {"name": "job desk"})
    page = client.get("/shop/").content.decode()
    key = page.split('<code class="mono">')[1].split("<")[0]
    assert key.startswith("ga_") and key not in client.get("/shop/").content.decode()
    assert Client().get("/api/v1/modes", headers={"Authorization": f"Bearer {key}"}).status_code == 200
    other = person("tobias", Role.TECHNICIAN)
    with pytest.raises(ValueError, match="no such key"):
        people.end_key(ProgramKey.objects.get().pk, other)


def test_a_pack_is_delivered_and_its_import_followed(shelf: list[PrintMode], user: User) -> None:
    program = Program(user)
    data = program.ask(f"/modes/{shelf[0].pk}/pack.zip").content
    made = program.ask("/packs?name=deck.zip", "POST", data, "application/zip")
    assert made.status_code == 202 and PackImport.objects.get().name == "deck.zip"
    assert program.ask(f"/packs/{made.json()['id']}").json()["step"] == "test"
    assert program.ask("/packs", "POST").status_code == 422
    assert program.ask("/packs", "POST", b"x" * (41 * 2**20), "application/zip").status_code == 413


# --- readings from elsewhere -----------------------------------------------------------------


@pytest.fixture
def printed(build: Build, user: User) -> SheetPrint:
    return print_sheet(
        stage_of(build, "ink-limits").sheet_print.pk, user, timezone.now() - timedelta(hours=1)
    )


def readings_text(job: SheetPrint, number: int = 1) -> bytes:
    return cgats.dumps(careful_reading(job, number)).encode()


def test_a_program_delivers_a_reading_to_the_chart_it_belongs_to(
    printed: SheetPrint, user: User, build: Build
) -> None:
    program = Program(user)
    found = program.ask("/charts").json()["charts"]
    assert [c["print"] for c in found] == [printed.pk] and found[0]["patches"] == len(printed.chart.patches)
    chart = cgats.loads(program.ask(f"/charts/{printed.pk}/chart.txt").content, "chart.txt")
    assert chart.ids == printed.chart.patches.ids and np.allclose(chart.device, printed.chart.patches.device)
    made = program.ask("/readings?name=pass1.txt", "POST", readings_text(printed), "text/plain")
    assert made.status_code == 201 and made.json() == {"outcome": "taken", "reason": "", "print": printed.pk}
    assert (
        program.ask(
            f"/readings?print={printed.pk}", "POST", readings_text(printed, 2), "text/plain"
        ).status_code
        == 201
    )
    assert printed.passes.count() == 2 and stage_of(build, "ink-limits").result
    twice = program.ask(f"/readings?print={printed.pk}", "POST", readings_text(printed, 2), "text/plain")
    assert twice.status_code == 422 and "figures of pass 2 once more" in twice.json()["reason"]
    for body in (b"nonsense", b"", cgats.dumps(printed.chart.patches).encode()):
        refused = program.ask("/readings", "POST", body, "text/plain")
        assert refused.status_code == 422, body[:20]
    assert printed.passes.count() == 2


def test_checks_are_told_to_programs(shelf: list[PrintMode], user: User) -> None:
    made = Check.objects.create(
        mode=shelf[0],
        tolerances="x",
        verdict="pass",
        summary="s",
        readings="r",
        readings_hash="h",
        criteria=[{"id": "mean"}],
    )
    program = Program(user)
    assert program.ask(f"/checks?mode={shelf[0].pk}&verdict=pass").json()["total"] == 1
    assert program.ask("/checks?verdict=fail").json()["total"] == 0
    for odd in ("x", "9" * 30):
        assert program.ask(f"/checks?mode={odd}").json()["total"] == 0
    assert program.ask("/readings", "POST", b"no form", "multipart/form-data").status_code == 400
    assert program.ask(f"/checks/{made.pk}").json()["criteria"] == [{"id": "mean"}]


def settle(folder: Path) -> None:
    """Date the files of a folder back, as if they had been written a while ago."""
    for path in folder.iterdir():
        if path.is_file() and not path.is_symlink():
            os.utime(path, (path.stat().st_atime, path.stat().st_mtime - 10))


def test_files_in_the_watched_folder_are_taken_or_refused_with_a_reason(
    printed: SheetPrint, client: Client
) -> None:
    inbox.collect()  # makes the folder
    folder = Path(settings.INBOX)
    (folder / "good.txt").write_bytes(readings_text(printed))
    (folder / "bad.csv").write_text("nothing here")
    (folder / "note.docx").write_text("not ours")
    (folder / "link.txt").symlink_to("/etc/hostname")
    assert inbox.collect() == [], "a file that may still be written is left"
    settle(folder)
    facts = {d.name: d for d in inbox.collect()}
    assert (
        facts["good.txt"].outcome == "taken"
        and facts["good.txt"].sheet_print == printed
        and facts["bad.csv"].outcome == "refused"
    )
    assert (folder / "taken" / "good.txt").exists() and "bad.csv" in (
        folder / "refused" / "bad.csv.reason.txt"
    ).read_text()
    assert sorted(p.name for p in folder.iterdir() if not p.is_dir()) == ["link.txt", "note.docx"]
    assert printed.passes.count() == 1 and inbox.collect() == []
    page = client.get("/files/").content.decode()
    assert "good.txt" in page and "bad.csv" in page and "watched folder" in page
    (folder / "good.txt").write_bytes(readings_text(printed, 2))
    settle(folder)
    inbox.collect()
    assert (folder / "taken" / "good-2.txt").exists() and printed.passes.count() == 2


def test_readings_that_could_be_of_two_prints_are_left_to_a_person(
    printed: SheetPrint, user: User, build: Build
) -> None:
    twin = SheetPrint.objects.get(pk=printed.pk)
    twin.pk = None
    twin.save()
    stage = stage_of(build, "linearization")
    stage.state, stage.sheet_print = "open", twin
    stage.save()
    made = inbox.deliver("one.txt", readings_text(printed), "program", user)
    assert made.outcome == "refused" and "could be of" in made.reason and printed.passes.count() == 0
    assert (
        inbox.deliver("one.txt", readings_text(printed), "program", user, printed).outcome
        == Delivered.Outcome.TAKEN
    )
    named = inbox.deliver(f"Print-{printed.pk} second.txt", readings_text(printed, 2), "watched folder", None)
    assert named.outcome == "taken" and printed.passes.count() == 2 and twin.passes.count() == 0
    nobody = inbox.deliver("print-4711.txt", readings_text(printed), "watched folder", None)
    assert "there is no print 4711" in nobody.reason


def test_a_file_that_says_which_chart_it_was_read_from_belongs_to_it(
    printed: SheetPrint, user: User, build: Build
) -> None:
    """Two charts of the same patches wait; the descriptor of the readings is the title of one of them."""
    twin = SheetPrint.objects.get(pk=printed.pk)
    twin.pk, twin.chart = (
        None,
        make_chart("ink-limit", printed.chart.patches.device, "another chart", build.print_environment),
    )
    twin.save()
    stage = stage_of(build, "linearization")
    stage.state, stage.sheet_print = "open", twin
    stage.save()
    found = readings_text(printed)
    title = f'DESCRIPTOR\t"{printed.chart.title}"'.encode()
    assert title in found
    silent = inbox.deliver("a.txt", found.replace(title, b'DESCRIPTOR\t"job"'), "watched folder", None)
    assert "could be of" in silent.reason
    made = inbox.deliver("b.txt", found, "watched folder", None)
    assert made.outcome == "taken" and made.sheet_print == printed


def test_what_is_decided_on_waits_for_no_readings(
    printed: SheetPrint, user: User, build: Build, client: Client
) -> None:
    assert list(inbox.open_prints()) == [printed]
    for number in (1, 2):
        inbox.deliver("p.txt", readings_text(printed, number), "program", user)
    assert (
        list(inbox.open_prints()) == [printed]
        and "Charts that wait" in client.get("/files/").content.decode()
    )
    accept(build, "ink-limits", user, found_limits(stage_of(build, "ink-limits")))
    assert printed not in inbox.open_prints()
    late = inbox.deliver("p.txt", readings_text(printed, 3), "program", user, printed)
    assert "waits for no readings" in late.reason and printed.passes.count() == 2
    services.retire_mode(build.mode_id, build.mode.history.latest().version, user, "called off")
    assert not inbox.open_prints().exists(), "a mode that is put away waits for nothing"


def test_an_older_strip_is_not_in_the_way_of_a_new_one(
    printed: SheetPrint, user: User, aim: AimRecord, build: Build
) -> None:
    """Last week's print of the same chart was judged: today's readings can only be of today's."""
    shared = {"mode": build.mode, "aim": aim, "tolerances": "iso12647-7:2016", "started_by": user}
    build.stages.update(state="waiting")
    prints = []
    for _ in range(2):
        one = SheetPrint.objects.get(pk=printed.pk)
        one.pk = None
        one.save()
        prints.append(one)
    old, new = prints
    verdict = Check.objects.create(
        mode=build.mode, aim=aim, tolerances="x", verdict="pass", summary="s", readings="r", readings_hash="h"
    )
    CheckPrint.objects.create(sheet_print=old, made_check=verdict, **shared)
    reading = keep_whole_pass(old, careful_reading(old, 1), "test", user)
    assert list(inbox.open_prints()) == [old], "its second reading may still come"
    CheckPrint.objects.filter(sheet_print=old).update(made_check=verdict)
    later = CheckPrint.objects.create(sheet_print=new, **shared)
    assert list(inbox.open_prints()) == [new], "once the next strip is there, the last one is done"
    later.delete()
    ReadingPass.objects.filter(pk=reading.pk).update(finished_at=timezone.now() - timedelta(days=7))
    assert not inbox.open_prints().exists(), "nobody reads it again after a week"
    CheckPrint.objects.create(sheet_print=new, **shared)
    made = inbox.deliver("strip.txt", readings_text(new), "watched folder", None)
    assert made.outcome == "taken" and made.sheet_print == new


# --- backup, restore, export -----------------------------------------------------------------

ATTACH = """
import django; django.setup()
from greyanchor.library.records import editing
from greyanchor.library.models import MediaPreset
editing.attach(MediaPreset.objects.first(), "sheet.pdf", b"%PDF-1.4 hello", "", None)
"""
RUN = "import django; django.setup()\nfrom greyanchor.library.models import Media\n"
RESTORE_EACH = """
import sys
from greyanchor.cli import main
for name in sys.argv[1:]:
    try:
        main(["restore", name])
    except SystemExit as ended:
        print(ended.code)
"""


@pytest.fixture(scope="module")
def kept_home(served_home: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A home with people, machines, a file beside a record and a pack, made once."""
    where = tmp_path_factory.mktemp("kept") / "home"
    shutil.copytree(served_home, where)
    made = run_in(where, "-c", ATTACH)
    assert made.returncode == 0, made.stderr
    (where / "catalogue").mkdir()
    (where / "catalogue" / "offer.zip").write_bytes(b"a pack")
    return where


@pytest.fixture
def shop(kept_home: Path, tmp_path: Path) -> Any:
    """A home of its own, and a way to run things in it."""
    where = tmp_path / "home"
    shutil.copytree(kept_home, where)

    def run(*command: str) -> subprocess.CompletedProcess[str]:
        return run_in(where, *command, cwd=tmp_path)

    return run, where


def test_a_backup_is_verified_and_brings_everything_back(shop: Any, tmp_path: Path) -> None:
    run, where = shop
    made = run("-m", "greyanchor.cli", "backup", "all.zip")
    assert made.returncode == 0 and "verified" in made.stdout, made.stderr
    nowhere = run("-m", "greyanchor.cli", "backup", "no/where.zip")
    assert nowhere.returncode == 2 and "make it first" in nowhere.stderr and "Traceback" not in nowhere.stderr
    run(
        "-c",
        RUN
        + (
            "Media.objects.filter(presets=None).delete(); "
            "Media.objects.filter(name__startswith='Harbour').update(name='Lost')"
        ),
    )
    (where / "catalogue" / "offer.zip").unlink()
    back = run("-m", "greyanchor.cli", "restore", "all.zip")
    assert back.returncode == 0 and "what was here is kept in before-restore-" in back.stdout, back.stderr
    found = run(
        "-c", RUN + "print(Media.objects.filter(name__startswith='Harbour').count(), Media.objects.count())"
    ).stdout
    assert found.split() == ["1", "10"] and (where / "catalogue" / "offer.zip").read_bytes() == b"a pack"
    undo = run("-m", "greyanchor.cli", "restore", str(next(where.glob("before-restore-*.zip"))))
    assert (
        undo.returncode == 0
        and run("-c", RUN + "print(Media.objects.filter(name='Lost').count())").stdout.strip() == "1"
    )


def _harmed(path: Path, tmp_path: Path) -> dict[str, bytes]:
    """A sound backup, harmed in five ways."""
    with zipfile.ZipFile(path) as archive:
        files = {n: archive.read(n) for n in archive.namelist()}
    flipped = bytearray(path.read_bytes())
    flipped[len(flipped) // 3] ^= 0xFF
    base = tmp_path / "newer.sqlite3"
    base.write_bytes(files["greyanchor.sqlite3"])
    opened = sqlite3.connect(base)
    with opened:
        opened.execute(
            "INSERT INTO django_migrations (app, name, applied) VALUES ('library', '0099_later', "
            "'2030-01-01')"
        )
    opened.close()
    found = json.loads(files["backup.json"])
    found["rows"]["django_migrations"] += 1
    found["files"]["greyanchor.sqlite3"]["sha256"] = hashlib.sha256(base.read_bytes()).hexdigest()

    def zipped(content: dict[str, bytes]) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in content.items():
                archive.writestr(name, data)
        return out.getvalue()

    return {
        "no ZIP file": b"x" * 500,
        "damaged": bytes(flipped),
        "does not hold the files": zipped({n: d for n, d in files.items() if "offer" not in n}),
        "no backup": zipped({**files, "backup.json": b'{"format": "else"}'}),
        "newer program": zipped(
            {**files, "greyanchor.sqlite3": base.read_bytes(), "backup.json": json.dumps(found).encode()}
        ),
    }


def test_harmed_backups_are_refused_and_nothing_is_touched(shop: Any, tmp_path: Path) -> None:
    run, where = shop
    run("-m", "greyanchor.cli", "backup", "all.zip")
    with sqlite3.connect(where / "greyanchor.sqlite3") as live:
        live.execute("UPDATE library_media SET name = 'Kept' WHERE name LIKE 'Harbour%'")
    live.close()
    harmed = _harmed(tmp_path / "all.zip", tmp_path)
    for number, data in enumerate(harmed.values()):
        (tmp_path / f"bad{number}.zip").write_bytes(data)
    refused = run("-c", RESTORE_EACH, *(f"bad{n}.zip" for n in range(len(harmed))))
    assert refused.stdout.split() == ["2"] * len(harmed)
    for reason, line in zip(harmed, refused.stderr.splitlines(), strict=True):
        assert line.startswith("greyanchor: ") and reason in line
    with sqlite3.connect(where / "greyanchor.sqlite3") as live:
        assert live.execute("SELECT count(*) FROM library_media WHERE name = 'Kept'").fetchone() == (1,)
    live.close()
    assert not list(where.glob("before-restore-*"))


def test_everything_comes_out_as_open_files(shop: Any, tmp_path: Path) -> None:
    run, _ = shop
    made = run("-m", "greyanchor.cli", "export", "open.zip")
    assert made.returncode == 0, made.stderr
    with zipfile.ZipFile(tmp_path / "open.zip") as archive:
        names = archive.namelist()
        media = json.loads(archive.read("library/media.json"))
        assert len(media) == 10 and {
            "library/presets.json",
            "library/printers-history.json",
            "checks/checks.csv",
            "spot-colours.csv",
        } <= set(names)
        attached = next(n for n in names if n.startswith("files/"))
        assert archive.read(attached) == b"%PDF-1.4 hello"
        assert set(json.loads(archive.read("files.json"))) == set(names) - {"files.json"}
