"""Reading files whose size nobody checked."""

from __future__ import annotations

from pathlib import Path

from greyanchor.core.errors import BadInput


def read_limited(path: str | Path, limit: int) -> bytes:
    """The bytes of a file of at most `limit` bytes; `BadInput` names the file and the reason otherwise."""
    source = Path(path)
    try:
        if source.stat().st_size > limit:
            raise BadInput(f"the file is larger than {limit // 2**20} MB", source.name)
        return source.read_bytes()
    except OSError as error:
        raise BadInput(f"cannot be read: {error.strerror or error}", source.name) from error
