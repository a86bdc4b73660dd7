"""Files that every machine of a shop reaches: a folder that all share, or a bucket (S3) with a folder of this
machine before it, which holds what was made or fetched here.
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from django.conf import settings
from django.core.files import File
from django.core.files.storage import default_storage


def _plain() -> bool:
    """Whether the files are in a folder, and not in a bucket."""
    try:
        default_storage.path("x")
    except NotImplementedError:
        return False
    return True


def local(name: str) -> Path:
    """A file as a path of this machine, fetched where it is not here; it may not be there at all."""
    path = Path(settings.MEDIA_ROOT) / name
    if not _plain():
        if not path.exists() and name and default_storage.exists(name):
            _fetch(name, path)
        return path
    return Path(default_storage.path(name))


def _fetch(name: str, path: Path) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name(f".{secrets.token_hex(6)}-{path.name}")
    try:
        with default_storage.open(name, "rb") as there, partial.open("wb") as here:
            for chunk in iter(lambda: there.read(1 << 20), b""):
                here.write(chunk)
        os.replace(partial, path)
    finally:
        partial.unlink(missing_ok=True)


def share(name: str) -> None:
    """Let other machines have a file that was made here; nothing where all share a folder."""
    path = Path(settings.MEDIA_ROOT) / name
    if _plain() or not path.exists():
        return
    if path.is_dir():
        for part in sorted(path.iterdir()):
            share(f"{name}/{part.name}")
        return
    with path.open("rb") as content:
        if default_storage.exists(name):
            default_storage.delete(name)
        default_storage.save(name, File(content))


def remove(name: str) -> None:
    """Take a file away, here and for everybody."""
    (Path(settings.MEDIA_ROOT) / name).unlink(missing_ok=True)
    if not _plain() and default_storage.exists(name):
        default_storage.delete(name)
