"""Several drop sizes: how much of a tone is printed with which."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

MOST = 3
#: how sharply dots stop becoming more and begin to become larger
_BEND = 4.0


def usual(count: int) -> tuple[float, ...]:
    """Volumes of one to three sizes, as shares of the largest."""
    return tuple((i + 1) / count for i in range(count))


def coverage(tone: Array, volumes: Sequence[float]) -> Array:
    """Share of places (n, sizes) that hold a drop of at least each size, smallest first, for tones (n,) 0..1.

    Dots first become more, then larger: where nearly every place has the smallest drop, drops are
    exchanged for the next size, so that at any tone two neighbouring sizes print at most. The ink is the
    tone exactly.

    Raises `BadInput` for volumes that do not rise to 1.
    """
    sizes = np.array(volumes, dtype=float)
    if not 1 <= len(sizes) <= MOST or sizes[-1] != 1.0 or (np.diff(sizes, prepend=0.0) <= 0).any():
        raise BadInput(
            f"drop volumes rise to 1, {MOST} at most; these are {', '.join(f'{v:g}' for v in volumes)}"
        )
    t = np.clip(np.asarray(tone, dtype=float), 0.0, 1.0)
    if len(sizes) == 1:
        return t[:, None]
    many = t / sizes[0]
    dots = many / (1.0 + many**_BEND) ** (1.0 / _BEND)
    end = (1.0 / sizes[0]) / (1.0 + sizes[0] ** -_BEND) ** (1.0 / _BEND)
    dots = np.maximum(dots + (1.0 - end) * t**8, t)
    mean = np.where(dots > 0, t / np.maximum(dots, 1e-12), sizes[0])
    mean = np.clip(mean, sizes[0], 1.0)
    dots = np.where(t > 0, t / mean, 0.0)
    out = np.zeros((len(t), len(sizes)))
    out[:, 0] = dots
    for i in range(1, len(sizes)):
        share = np.clip((mean - sizes[i - 1]) / (sizes[i] - sizes[i - 1]), 0.0, 1.0)
        out[:, i] = dots * share
    return out


@lru_cache(maxsize=8)
def cuts(volumes: tuple[float, ...]) -> np.ndarray[Any, Any]:
    """For each tone of 16 bits, the thresholds (sizes, 65536) below which each size prints."""
    shares = coverage(np.linspace(0.0, 1.0, 65536), volumes)
    return np.ascontiguousarray(np.round(shares * 65535.0).astype(np.uint16).T)
