"""Where a profile errs: patch by patch against its readings, and round trips over whole planes of colour."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.formats.icc import IccProfile
from greyanchor.core.measurement.readings import ReadingSet, as_inks

#: colours missed by more than this (dE00) on the way to ink and back cannot be printed
OUT_OF_REACH = 3.0


@dataclass(frozen=True)
class FitMap:
    """Patches of the characterization data against the finished profile: ids, inks (n, channels), read and
    predicted Lab (n, 3) and their dE00 (n,)."""

    ids: tuple[str, ...]
    inks: Array
    read: Array
    predicted: Array
    differences: Array

    def worst(self, count: int) -> list[int]:
        """Positions of the patches that are farthest off."""
        return [int(i) for i in np.argsort(-self.differences, kind="stable")[:count]]


def fit_map(profile: IccProfile, readings: ReadingSet, read: Array) -> FitMap:
    """Hold `profile` to patches that read as Lab `read` (n, 3)."""
    inks = readings.inks()
    predicted = profile.device_to_lab(as_inks(inks, profile.inks))
    return FitMap(readings.ids, inks, read, predicted, delta_e_2000(predicted, read))


def round_trip_plane(
    profile: IccProfile, lightness: float, reach: float = 100.0, side: int = 51
) -> tuple[Array, Array]:
    """a* or b* of the nodes (n,), n = `side`, and dE00 (n, n) of colours at `lightness` sent to ink and
    back.

    Rows run along b* and columns along a*, both rising to `reach`; colours out of reach are NaN.
    """
    axis = np.linspace(-reach, reach, side)
    b, a = np.meshgrid(axis, axis, indexing="ij")
    lab = np.column_stack([np.full(a.size, lightness), a.ravel(), b.ravel()])
    back = profile.device_to_lab(profile.lab_to_device(lab))
    error = delta_e_2000(lab, back).reshape(side, side)
    return axis, np.where(error > OUT_OF_REACH, np.nan, error)
