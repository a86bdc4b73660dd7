"""Passes over a film: whether their densities agree, which the lightness of a dense patch does not show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.transmission import NAMES

#: what two readings of one place may differ by: this much of density, and this share of what it is
_ALLOWED, _ALLOWED_SHARE = 0.03, 0.03


@dataclass(frozen=True)
class DensityGap:
    """How far passes over a film lie apart in transmission density.

    Attributes
    ----------
    largest
        Largest difference of any patch between any two passes, density.
    patch, kind, difference, allowed
        The patch that differs most for its density, in which density (*visual* or *UV*), by how much, and
        what readings of one film may differ by there.
    """

    largest: float
    patch: str
    kind: str
    difference: float
    allowed: float

    @property
    def acceptable(self) -> bool:
        """Whether no patch differs by more than readings of one film do."""
        return self.difference <= self.allowed


def density_gap(ids: Sequence[str], passes: Sequence[Array]) -> DensityGap | None:
    """Passes over one film held against each other: densities (n, 2) each, in the order of `ids`.

    A dense patch lets so little light through that its lightness is the same whatever it is read as, so
    films are compared by density. None where there is nothing that all passes have.
    """
    stack = np.stack(passes)
    gaps, means = stack.max(axis=0) - stack.min(axis=0), stack.mean(axis=0)
    allowed = _ALLOWED + _ALLOWED_SHARE * np.abs(means)
    over = np.where(np.isfinite(gaps), gaps / allowed, -1.0)
    if over.max() < 0.0:
        return None
    patch, kind = np.unravel_index(int(over.argmax()), over.shape)
    return DensityGap(
        largest=float(np.nanmax(gaps)),
        patch=ids[int(patch)],
        kind=NAMES[int(kind)],
        difference=float(gaps[patch, kind]),
        allowed=float(allowed[patch, kind]),
    )
