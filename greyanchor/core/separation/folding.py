"""A table of what comes out for R G B, as fine as each part of it needs.

A node every five steps of 8 bits says most colours to a thousandth. A cell where the chain bends gets a table
of its own with a node at every step, once a picture has used it often enough to be worth it; until then its
colours are computed one by one.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import numpy as np

from greyanchor.core.parallel import each
from greyanchor.core.separation.kernels import CELLS, FINER

Pixels = np.ndarray[Any, Any]
#: how far (fraction of full ink) a cell may be off half way between its nodes
TOLERANCE = 0.0015
#: colours computed one by one in a cell before it gets a table
_WORTH_IT = 400
_UNFILLED = -1
_FULL = 65535
_NODES = (FINER + 1) ** 3


class Folding:
    """The table and what is known of its cells.

    Parameters
    ----------
    amounts
        Gives amounts (n, inks) of 16 bits for pixels (n, 3) of 16 bits.
    inks
        How many there are.
    """

    def __init__(self, amounts: Callable[[Pixels], Pixels], inks: int) -> None:
        self._amounts = amounts
        self._inks = inks
        axis = np.round(np.linspace(0, _FULL, 2 * CELLS + 1)).astype(np.uint16)
        nodes = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1).reshape(-1, 3)
        parts = np.array_split(nodes, max(1, len(nodes) // 100_000))
        found = np.concatenate(each(amounts, parts)).reshape(*([2 * CELLS + 1] * 3), inks)
        bent = _worst(found).reshape(-1) > TOLERANCE * _FULL
        self._slots = np.where(bent, _UNFILLED, 0).astype(np.int32)
        self._uses = np.zeros(CELLS**3, dtype=np.int32)
        self._base = (CELLS + 1) ** 3 * inks
        # room for every bent cell: memory that is never written is never taken
        self._table = np.empty(self._base + int(bent.sum()) * _NODES * inks, dtype=np.float32)
        self._table[: self._base] = found[::2, ::2, ::2].reshape(-1)
        self._filled = 0
        self._lock = threading.Lock()

    @property
    def bent(self) -> float:
        """Share of cells that need more than the table of the whole."""
        return float((self._slots != 0).mean())

    def arrays(self, full: float) -> tuple[np.float32, Pixels, Pixels, Pixels]:
        """What the loop over a picture reads; `full` is the picture's largest value."""
        return np.float32(CELLS / full), self._table, self._slots, self._uses

    def learn(self) -> None:
        """Make tables for the cells that were used often enough."""
        if not (self._uses > _WORTH_IT).any():
            return
        with self._lock:
            cells = np.flatnonzero((self._uses > _WORTH_IT) & (self._slots == _UNFILLED))
            self._uses[cells] = 0
            for part in np.array_split(cells, max(1, len(cells) // 512)):
                self._fill(part)

    def _fill(self, cells: Pixels) -> None:
        corners = np.stack(np.unravel_index(cells, (CELLS,) * 3), axis=1)
        steps = np.stack(np.meshgrid(*([np.arange(FINER + 1)] * 3), indexing="ij"), axis=-1).reshape(-1, 3)
        places = (corners[:, None] * FINER + steps[None]).reshape(-1, 3)
        pixels = np.round(places * (_FULL / (CELLS * FINER))).astype(np.uint16)
        found = self._amounts(pixels).reshape(-1)
        begin = self._base + self._filled * _NODES * self._inks
        self._table[begin : begin + len(found)] = found
        self._slots[cells] = np.arange(self._filled + 1, self._filled + 1 + len(cells))
        self._filled += len(cells)


def _worst(found: Pixels) -> Pixels:
    """How far each cell is off half way between its nodes (CELLS, CELLS, CELLS), from amounts on a lattice
    twice as fine.
    """
    nodes = found[::2, ::2, ::2].astype(np.float32)
    worst = np.zeros((CELLS,) * 3, dtype=np.float32)
    corner = {b: nodes[tuple(slice(v, CELLS + v) for v in b)] for b in np.ndindex(2, 2, 2)}
    for place in np.ndindex(3, 3, 3):
        if 1 not in place:
            continue
        # half way along an edge of the cell's tetrahedra: the mean of its two ends
        low, high = tuple(v // 2 for v in place), tuple((v + 1) // 2 for v in place)
        asked = found[tuple(slice(v, 2 * CELLS - 1 + v, 2) for v in place)]
        off = np.abs(0.5 * (corner[low] + corner[high]) - asked).max(axis=-1)
        worst = np.maximum(worst, off)
    return worst
