"""What a process remembers of records that never change: charts, prints and finished passes as arrays."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import RLock
from typing import Any

from cachetools import LRUCache

#: how many values a process remembers; the longest unused is forgotten first
SIZE = 96
_values: LRUCache[Hashable, Any] = LRUCache(maxsize=SIZE)
_lock = RLock()


def remembered(key: Hashable, make: Callable[[], Any]) -> Any:
    """What `make` gave for `key` before, or gives now.

    Two threads that ask at once may both make a value; they are given the same one.
    """
    with _lock:
        if key in _values:
            return _values[key]
    made = make()
    with _lock:
        return _values.setdefault(key, made)


def remember(key: Hashable, value: Any) -> Any:
    """Put `value` into memory under `key`, and give it back."""
    with _lock:
        _values[key] = value
    return value
