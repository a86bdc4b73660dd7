"""What a process remembers of records that never change: charts, prints and finished passes as arrays."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any

_KEPT = 96
_memory: OrderedDict[Hashable, Any] = OrderedDict()


def remembered(key: Hashable, make: Callable[[], Any]) -> Any:
    """What `make` gave for `key` before, or gives now; the longest unused is forgotten."""
    if key in _memory:
        _memory.move_to_end(key)
        return _memory[key]
    return remember(key, make())


def remember(key: Hashable, value: Any) -> Any:
    """Put `value` into memory under `key`, and give it back."""
    _memory[key] = value
    while len(_memory) > _KEPT:
        _memory.popitem(last=False)
    return value
