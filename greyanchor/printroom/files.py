"""Where the print room's files lie: in Django's storage, written whole or not at all."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from django.core.files import File

from greyanchor.background import shared
from greyanchor.core.errors import BadInput

#: largest artwork, bytes
MOST_ARTWORK = 4 * 2**30


local, share, remove = shared.local, shared.share, shared.remove


def place(name: str) -> Path:
    """Where a file that is made here shall stand; its folder is made."""
    path = local(name)
    path.parent.mkdir(parents=True, exist_ok=True)
    return path


def opened(name: str) -> BinaryIO:
    """A kept file, to be read. `BadInput` where it is not kept any more."""
    try:
        return open(local(name), "rb") if name else _gone()
    except FileNotFoundError:
        return _gone()


def _gone() -> BinaryIO:
    raise BadInput("the file is not kept any more; prepare the job again, which makes it as it was")


@contextmanager
def whole(name: str) -> Iterator[Path]:
    """A path to write to, which takes its place under `name` when all went well."""
    path = place(name)
    partial = path.with_name(f".{secrets.token_hex(6)}-{path.name}")
    try:
        yield partial
        os.replace(partial, path)
        share(name)
    finally:
        partial.unlink(missing_ok=True)


def artwork_name(sha256: str) -> str:
    """Where an artwork lies: by its hash, whatever it was called."""
    return f"artwork/{sha256[:2]}/{sha256}"


def take_in(content: File) -> tuple[str, int]:
    """Store a file by its hash, once; its SHA-256 and size."""
    digest, size = hashlib.sha256(), 0
    parts = place(f"artwork/.{secrets.token_hex(8)}.part")
    try:
        with open(parts, "wb") as out:
            for chunk in content.chunks(2**20):
                digest.update(chunk)
                size += len(chunk)
                out.write(chunk)
        sha256 = digest.hexdigest()
        path = place(artwork_name(sha256))
        if not path.exists():
            os.replace(parts, path)
            share(artwork_name(sha256))
        return sha256, size
    finally:
        parts.unlink(missing_ok=True)
