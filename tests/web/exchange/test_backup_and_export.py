"""Backup, restore, and everything as open files."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import sqlite3
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run_in

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
    assert "the shop waited" in back.stdout
    found = run(
        "-c", RUN + "print(Media.objects.filter(name__startswith='Harbour').count(), Media.objects.count())"
    ).stdout
    assert found.split() == ["1", "11"] and (where / "catalogue" / "offer.zip").read_bytes() == b"a pack"
    undo = run("-m", "greyanchor.cli", "restore", str(next(where.glob("before-restore-*.zip"))))
    assert (
        undo.returncode == 0
        and run("-c", RUN + "print(Media.objects.filter(name='Lost').count())").stdout.strip() == "1"
    )


def _odd(change: dict[str, Any]) -> bytes:
    return json.dumps({"format": "grey-anchor-backup", "version": 1, "rows": {}, **change}).encode()


def _harmed(path: Path, tmp_path: Path) -> dict[str, bytes]:
    """A sound backup, harmed in every way that was met."""
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
    keyed = json.loads(files["backup.json"])
    key = b"an attacker's own key"
    keyed["files"]["secret.key"] = {"sha256": hashlib.sha256(key).hexdigest(), "bytes": len(key)}
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
        "'secret.key', which no backup": zipped(
            {**files, "secret.key": key, "backup.json": json.dumps(keyed).encode()}
        ),
        "cannot be read": zipped({**files, "backup.json": _odd({"files": [1, 2]})}),
        "list of what the backup holds": zipped({**files, "backup.json": _odd({"files": {"x": 7}})}),
        "is no backup of version": zipped({**files, "backup.json": b"[1, 2]"}),
        "newer program": zipped(
            {**files, "greyanchor.sqlite3": base.read_bytes(), "backup.json": json.dumps(found).encode()}
        ),
    }


def test_harmed_backups_are_refused_and_nothing_is_touched(shop: Any, tmp_path: Path) -> None:
    run, where = shop
    key_before = (where / "secret.key").read_bytes()
    left = tmp_path / ".backup-999999-killed"
    left.mkdir()
    run("-m", "greyanchor.cli", "backup", "all.zip")
    assert not left.exists(), "what a killed backup left behind is taken away"
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
    assert (where / "secret.key").read_bytes() == key_before


def test_everything_comes_out_as_open_files(shop: Any, tmp_path: Path) -> None:
    run, _ = shop
    run(
        "-c",
        RUN
        + "from greyanchor.profiles.models import SpotRecord; "
        + "SpotRecord.objects.create(name='Buoy red', lightness=46, a=62, b=38)",
    )
    made = run("-m", "greyanchor.cli", "export", "open.zip")
    assert made.returncode == 0, made.stderr
    with zipfile.ZipFile(tmp_path / "open.zip") as archive:
        names = archive.namelist()
        media = json.loads(archive.read("library/media.json"))
        assert len(media) == 11 and {
            "library/presets.json",
            "library/printers-history.json",
            "checks/checks.csv",
        } <= set(names)
        assert b"Buoy red,100,46" in archive.read("spot-colours/001-House-colours.csv")
        attached = next(n for n in names if n.startswith("files/"))
        assert archive.read(attached) == b"%PDF-1.4 hello"
        assert set(json.loads(archive.read("files.json"))) == set(names) - {"files.json"}
