"""Blue-noise masks by the void-and-cluster method (Ulichney, 1993), made once by `scripts/make_masks.py`.

The neighbourhood falls off exponentially where the paper's is a Gaussian: few dots keep clear of one another
over long distances then, and light tones have as little grain as middle ones.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

Mask = np.ndarray[Any, Any]
#: distance, in dots, over which the neighbourhood that dots keep clear of falls to a third
FALL = 2.2
_REACH = 24


@njit(cache=True, nogil=True)
def _add(energy, kernel, y, x, sign):  # type: ignore[no-untyped-def]
    """Add a dot at (y, x) to the energy of a torus, or take it away."""
    h, w = energy.shape
    reach = kernel.shape[0] // 2
    for dy in range(-reach, reach + 1):
        row = (y + dy) % h
        for dx in range(-reach, reach + 1):
            energy[row, (x + dx) % w] += sign * kernel[dy + reach, dx + reach]


@njit(cache=True, nogil=True)
def _extreme(energy, on, wanted):  # type: ignore[no-untyped-def]
    """The tightest cluster among dots that are on, or the largest void among those that are off."""
    h, w = energy.shape
    best = -1.0 if wanted else 1e18
    at = (0, 0)
    for y in range(h):
        for x in range(w):
            if on[y, x] != wanted:
                continue
            e = energy[y, x]
            if (wanted and e > best) or (not wanted and e < best):
                best, at = e, (y, x)
    return at


@njit(cache=True, nogil=True)
def _ranks(start, kernel):  # type: ignore[no-untyped-def]
    h, w = start.shape
    size = h * w
    on = start.copy()
    energy = np.zeros((h, w))
    count = 0
    for y in range(h):
        for x in range(w):
            if on[y, x]:
                _add(energy, kernel, y, x, 1.0)
                count += 1
    # even the first dots out: move the tightest to the largest void until that is where it came from
    for _ in range(20 * size):
        cy, cx = _extreme(energy, on, True)
        on[cy, cx] = False
        _add(energy, kernel, cy, cx, -1.0)
        vy, vx = _extreme(energy, on, False)
        on[vy, vx] = True
        _add(energy, kernel, vy, vx, 1.0)
        if vy == cy and vx == cx:
            break
    ranks = np.zeros((h, w), dtype=np.int64)
    first, kept = on.copy(), energy.copy()
    for rank in range(count - 1, -1, -1):
        y, x = _extreme(energy, on, True)
        on[y, x] = False
        _add(energy, kernel, y, x, -1.0)
        ranks[y, x] = rank
    on, energy = first, kept
    for rank in range(count, size):
        y, x = _extreme(energy, on, False)
        on[y, x] = True
        _add(energy, kernel, y, x, 1.0)
        ranks[y, x] = rank
    return ranks


def void_and_cluster(height: int, width: int, seed: int) -> Mask:
    """Ranks (height, width), each of 0 .. height * width - 1 once, whose first n are spread evenly for any n.

    The mask repeats without a seam. `seed` chooses among equally good ones.
    """
    random = np.random.default_rng(seed)
    start = np.zeros(height * width, dtype=np.bool_)
    start[random.choice(height * width, max(1, height * width // 10), replace=False)] = True
    reach = min(_REACH, (min(height, width) - 1) // 2)
    d = np.arange(-reach, reach + 1)
    kernel = np.exp(-np.hypot(d[:, None], d[None]) / FALL)
    made: Mask = _ranks(start.reshape(height, width), kernel)
    return made
