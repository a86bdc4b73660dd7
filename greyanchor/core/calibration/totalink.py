"""Total ink: the sum past which more ink brings no more darkness."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator

from greyanchor.core.calibration.ramps import smooth
from greyanchor.core.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet

#: L* that 10 % more ink must still bring
LEAST_GAIN = 0.3


@dataclass(frozen=True)
class TotalInk:
    """A recommended total and the ramp it came from.

    `sums` (n,) and `lightness` (n,) are the readings of all channels together; `limit` is a sum of
    fractions (3.0 = 300 %).
    """

    limit: float
    reason: str
    sums: Array
    lightness: Array
    chroma_turn: float


def find_total_ink(readings: ReadingSet, lowest: float = 1.4) -> TotalInk:
    """The sum past which L* falls by less than 0.3 per 10 % of ink, from equal amounts of all channels.

    Raises `BadInput` when the readings have no such ramp of at least five sums.
    """
    device = readings.values()
    equal = (np.ptp(device, axis=1) < 1e-3) & (device.max(axis=1) > 0)
    order = np.flatnonzero(equal)[np.argsort(device[equal].sum(axis=1))]
    sums = device[order].sum(axis=1)
    if len(sums) < 5:
        raise BadInput("no ramp of equal amounts of all channels was found; use a total-ink chart")
    lab = readings.lab()[order]
    fine = np.arange(sums[0], sums[-1] + 1e-9, 0.01)
    level = smooth(sums, lab[:, 0], fine) if len(sums) >= 7 else PchipInterpolator(sums, lab[:, 0])(fine)
    gain = -np.gradient(level, fine) * 0.10
    weak = np.flatnonzero((gain < LEAST_GAIN) & (fine > lowest))
    top = float(sums[-1])
    if len(weak):
        limit = float(np.floor(fine[weak[0]] * 20.0) / 20.0)
        reason = f"past {100 * limit:.0f} % another 10 % of ink darkens by less than {LEAST_GAIN} L*"
    else:
        limit, reason = top, "darkness grows up to the end of the chart"
    turn = float(np.hypot(*(lab[-1, 1:] - lab[int(np.argmin(lab[:, 0])), 1:])))
    return TotalInk(max(limit, lowest), reason, sums, lab[:, 0], turn)
