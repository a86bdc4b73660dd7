"""How what was read of a row lies on what was printed: patches missed, read twice, split or skipped."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.expectation import Expectation, fit_common

#: a patch costs no more than this, so that one that fits nothing decides nothing
CAP = 10.0
#: cost of a reading that lies beyond the row, and of every patch that the alignment slips by
_BEYOND, _SLIP = 5.0, 4.0
#: patches a row may be early or late
REACH = 2


@dataclass(frozen=True)
class Alignment:
    """Which patch each reading is of (n,), counted from the first, and what that costs; negative or past the
    end where it is of none."""

    patches: npt.NDArray[np.int64]
    cost: float

    @property
    def offsets(self) -> npt.NDArray[np.int64]:
        """Patches by which each reading is late (n,); 0 for as asked."""
        return self.patches - np.arange(len(self.patches))


def costs(expected: Expectation, left: Array) -> Array:
    """Half the squared misfit of each patch (n,), capped, from what is left of it (n, 3), Lab."""
    return np.minimum((left**2).sum(axis=1) / (2.0 * expected.spread**2), CAP)


def cost_of(expected: Expectation, measured: Array) -> float:
    """Cost of measured Lab (n, 3) as readings of the patches of `expected`, whatever they have in common
    fitted.
    """
    common, left = fit_common(expected, measured)
    return float(costs(expected, left).sum() + _common_cost(expected, common))


def _common_cost(expected: Expectation, common: Array) -> float:
    return float(0.5 * ((common / expected.scales) ** 2).sum())


def best_slip(expected: Expectation, measured: Array) -> Alignment:
    """The likeliest way in which a row (n, 3) of the right length was read with patches missed or doubled.

    Costs are least over all paths along the row that slip by up to two patches either way (dynamic
    programming), once for each of the ways to begin.
    """
    found: list[Alignment] = []
    for offset in (1, -1, 2, -2, 0):
        patches = np.arange(len(measured)) + offset
        for _ in range(2):
            common = _common_of(expected, measured, patches)
            patches, total = _path(expected, measured, common)
            total += _common_cost(expected, common)
            if any(a.cost <= total and (a.patches == patches).all() for a in found):
                break
            found.append(Alignment(patches, total))
    slipped = [a for a in found if a.offsets.any()]
    return min(slipped, key=lambda a: a.cost, default=Alignment(np.arange(len(measured)), np.inf))


def _common_of(expected: Expectation, measured: Array, patches: npt.NDArray[np.int64]) -> Array:
    inside = (patches >= 0) & (patches < len(expected))
    if inside.sum() < 3:
        return np.zeros(len(expected.scales))
    return fit_common(expected.select(patches[inside]), measured[inside])[0]


def _path(expected: Expectation, measured: Array, common: Array) -> tuple[npt.NDArray[np.int64], float]:
    n = len(measured)
    offsets = np.arange(-REACH, REACH + 1)
    lab = expected.lab + expected.slopes @ common
    at = np.arange(n)[:, None] + offsets[None]
    inside = (at >= 0) & (at < n)
    near = np.clip(at, 0, n - 1)
    squares = ((measured[:, None] - lab[near]) ** 2).sum(axis=2)
    cost = np.where(inside, np.minimum(squares / (2.0 * expected.spread[near] ** 2), CAP), _BEYOND)
    change = _SLIP * np.abs(offsets[:, None] - offsets[None])
    total = cost[0] + _SLIP * np.abs(offsets)
    back = np.zeros((n, len(offsets)), dtype=np.int64)
    for i in range(1, n):
        through = total[:, None] + change
        back[i] = through.argmin(axis=0)
        total = through[back[i], np.arange(len(offsets))] + cost[i]
    place = int(total.argmin())
    best = float(total[place])
    path = np.zeros(n, dtype=np.int64)
    for i in range(n - 1, -1, -1):
        path[i] = at[i, place]
        place = int(back[i, place])
    return path, best
