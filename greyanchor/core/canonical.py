"""One form for values that are equal, whatever kept them: databases write some numbers in another way."""

from __future__ import annotations

from typing import Any


def canonical(value: Any) -> Any:
    """A JSON value in the form that every database gives back: a whole number is an integer, zero has no
    sign, and what is neither list nor mapping stays as it is.
    """
    if isinstance(value, float) and value.is_integer():
        return int(value)
    if isinstance(value, dict):
        return {str(k): canonical(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [canonical(v) for v in value]
    return value
