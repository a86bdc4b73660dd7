"""Backup and restore while the application runs, and everything as open files."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from greyanchor.background import growth
from greyanchor.core.errors import BadInput
from greyanchor.core.packs.archive import Archive, checked_name, file_hash
from greyanchor.operations import databases

FORMAT, VERSION = "grey-anchor-backup", 1
#: copies of databases, one of which each backup holds
_KINDS = {"greyanchor.sqlite3", "greyanchor.pgdump"}
#: beginning of the names of folders that hold a backup on its way, before the number of its process
_UNFINISHED = ".backup-"
#: folders of the home that belong to the shop; queue and secret key are of one machine and stay with it
FOLDERS = (
    "packs",
    "catalogue",
    "inbox",
    "devices",
    "files/artwork",
    "files/print-files",
    "files/prints",
    "files/thumbnails",
)


def _home() -> Path:
    from django.conf import settings

    return Path(settings.HOME)


def _folder(name: str) -> Path:
    """Where a folder of the shop is; some may be outside the home."""
    from django.conf import settings

    base, _, rest = name.partition("/")
    moved = {
        "inbox": settings.INBOX,
        "devices": settings.DEVICES_HOME,
        "files": settings.MEDIA_ROOT,
        "packs": settings.PACKS or _home() / "packs",
    }
    return Path(moved.get(base, _home() / base)) / rest


def _place(file: str) -> Path:
    """Where a file of a backup belongs."""
    name = next(f for f in FOLDERS if file.startswith(f"{f}/"))
    return _folder(name) / file.removeprefix(f"{name}/")


def backup(target: Path) -> dict[str, Any]:
    """Write database and files to one ZIP while the application runs, read it back, and say what it holds.

    The database is copied by its own means, so that it is of one moment. The file stands under its name only
    once it was verified.
    """
    database = databases.of_this_shop()
    if not database.exists():
        raise BadInput("there is no database yet, so there is nothing to back up")
    target, partial = beside(target)
    _clear(target.parent)
    with tempfile.TemporaryDirectory(dir=target.parent, prefix=f"{_UNFINISHED}{os.getpid()}-") as folder:
        copy = Path(folder) / database.FILE
        counts = database.copy(copy)
        files = {database.FILE: copy, **dict(_files())}
        facts: dict[str, Any] = {
            "format": FORMAT,
            "version": VERSION,
            "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
            "rows": counts,
            "files": {},
        }
        try:
            with zipfile.ZipFile(partial, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as archive:
                for name, path in files.items():
                    facts["files"][name] = {"sha256": file_hash(path), "bytes": path.stat().st_size}
                    archive.write(path, name)
                archive.writestr("backup.json", json.dumps(facts, indent=1))
            _verified(partial)
            os.replace(partial, target)
        finally:
            partial.unlink(missing_ok=True)
    return facts


def _clear(folder: Path) -> None:
    """Take away what backups left behind whose process was killed."""
    for left in folder.glob(f"{_UNFINISHED}*-*"):
        number = left.name.removeprefix(_UNFINISHED).partition("-")[0]
        if number.isdecimal() and not Path(f"/proc/{number}").exists():
            shutil.rmtree(left, ignore_errors=True)


def beside(target: Path) -> tuple[Path, Path]:
    """Where a file is to stand, and what it is called until it is whole."""
    whole = target.resolve()
    if not whole.parent.is_dir():
        raise BadInput(f"there is no folder {whole.parent}; make it first", target.name)
    return whole, whole.with_name(f".{whole.name}.part")


def _files() -> Iterator[tuple[str, Path]]:
    """Files of the shop by their names in a backup; what can be had again any time is left out."""
    again = growth.made_again()
    for name in FOLDERS:
        folder = _folder(name)
        for path in sorted(folder.rglob("*")):
            plain = path.is_file() and not path.is_symlink() and not path.name.startswith("out-")
            if plain and path not in again:
                yield f"{name}/{path.relative_to(folder).as_posix()}", path


def _verified(path: Path) -> dict[str, Any]:
    """The manifest of a backup whose every file is what it says."""
    with _Large(path, path.name) as archive:
        try:
            values: Any = json.loads(archive.read("backup.json"))
        except (KeyError, ValueError, RecursionError):
            raise BadInput("this is no backup of Grey Anchor", path.name) from None
        if not isinstance(values, dict) or values.get("format") != FORMAT or values.get("version") != VERSION:
            raise BadInput(f"this is no backup of version {VERSION}", path.name)
        files = _listed(values, path.name)
        if set(files) != set(archive.names()) - {"backup.json"} or not _KINDS & set(files):
            raise BadInput("the backup does not hold the files it says", path.name)
        for name, facts in files.items():
            try:
                digest = archive.digest(name)
            except (zipfile.BadZipFile, OSError) as error:
                raise BadInput(f"{name} in the backup is damaged ({error})", path.name) from None
            if digest != facts["sha256"]:
                raise BadInput(f"{name} in the backup is damaged: its SHA-256 differs", path.name)
    return values


def _listed(values: dict[str, Any], source: str) -> dict[str, dict[str, Any]]:
    """The files of a manifest by name. `BadInput` for a list that is none, and for files that no backup has:
    those would land where they do not belong.
    """
    files, rows = values.get("files"), values.get("rows")
    if (
        not isinstance(files, dict)
        or not isinstance(rows, dict)
        or not all(isinstance(f, dict) and isinstance(f.get("sha256"), str) for f in files.values())
    ):
        raise BadInput("the list of what the backup holds cannot be read", source)
    foreign = [n for n in files if n not in _KINDS and not n.startswith(tuple(f"{f}/" for f in FOLDERS))]
    if foreign:
        raise BadInput(f"the backup holds {foreign[0][:80]!r}, which no backup of this program has", source)
    return files


class _Large(Archive):
    """An archive of our own making, whose files may be larger than those of a pack."""

    @staticmethod
    def _checked(infos: Any) -> Any:
        return {checked_name(i.filename): i for i in infos}

    def pieces(self, name: str) -> Iterator[bytes]:
        with self._zip.open(self._infos[name]) as opened:
            yield from iter(lambda: opened.read(1 << 20), b"")

    def digest(self, name: str) -> str:
        found = hashlib.sha256()
        for piece in self.pieces(name):
            found.update(piece)
        return found.hexdigest()


def restore(source: Path, say: Callable[[str], None]) -> dict[str, Any]:
    """Put a backup in place of what is here, while the application runs; what was here is backed up first.

    Everything is unpacked and verified beside the live data, and files that are not there yet are put in
    place; only then is the database replaced, in one transaction that other processes wait for.
    """
    if not source.exists():
        raise BadInput("there is no such file", source.name)
    found = _verified(source)
    database, home = databases.of_this_shop(), _home()
    if database.FILE not in found["files"]:
        raise BadInput(
            "this backup is of another kind of database; restore it into a shop of that kind, then "
            "`greyanchor move --to` this one",
            source.name,
        )
    with tempfile.TemporaryDirectory(dir=home) as name, _Large(source) as archive:
        folder = Path(name)
        for file in found["files"]:
            target = folder / file
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as opened:
                for piece in archive.pieces(file):
                    opened.write(piece)
        try:
            database.examine(folder / database.FILE, found["rows"])
        except BadInput as error:
            raise error.at(source.name) from None
        if database.exists():
            before = home / f"before-restore-{datetime.now(UTC):%Y%m%d-%H%M%S}.zip"
            backup(before)
            say(f"what was here is kept in {before.name}")
        places = {folder / f: _place(f) for f in found["files"] if f != database.FILE}
        _put({f: p for f, p in places.items() if not p.exists()})
        began = time.monotonic()
        database.put_back(folder / database.FILE, found["rows"])
        _put({f: p for f, p in places.items() if f.exists()})
        say(f"the shop waited {time.monotonic() - began:.1f} s for the switch")
    database.prove()
    _migrate()
    return found


def _put(files: dict[Path, Path]) -> None:
    for file, place in files.items():
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(file, place)


def _migrate() -> None:
    from django.db import connections

    from greyanchor.operations import tables

    connections.close_all()
    tables.bring_up_to_date()
    growth.put_back()
