"""Results that take long and never change for their inputs, kept for every process and the next start."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Hashable
from importlib.metadata import version
from pathlib import Path
from typing import Any

from django.core.cache import cache

import greyanchor.core

_NOTHING = object()


def _edition() -> str:
    """What this engine is: its version, and when its files were written."""
    core = Path(greyanchor.core.__file__).parent
    newest = max(p.stat().st_mtime_ns for p in core.rglob("*.py"))
    return f"{version('greyanchor')} {newest}"


#: what another engine made is not taken
_EDITION = _edition()


def kept(key: Hashable, make: Callable[[], Any]) -> Any:
    """What `make` gave for `key` in any process of this version, or gives now.

    `key` must name everything that the result is made from, as text that is the same in every process.
    """
    name = hashlib.sha256(repr((_EDITION, key)).encode()).hexdigest()
    found = cache.get(name, _NOTHING)
    if found is _NOTHING:
        found = make()
        cache.set(name, found, None)
    return found
