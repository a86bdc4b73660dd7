"""How much ink a print mode lays down."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.printing.ink_load import LOAD_AT_FULL


@dataclass(frozen=True)
class InkUse:
    """Liquid ink, ml/m2: at most, and for even tints of every channel."""

    most: float
    tints: float


def ink_use(limits: Mapping[str, float], total: float | None, curves: CurveSet | None = None) -> InkUse:
    """Ink of a mode with `limits` and `total` in percent.

    `tints` takes every tone of every channel equally often, one channel at a time: a figure to compare
    modes by, not that of a picture. Without curves, tones are taken to be straight up to the limits.
    """
    sums = sum(limits.values())
    most = min(sums, total) if total else sums
    if curves is None:
        mean = 0.5 * sums / 100.0
    else:
        steps = np.linspace(0.0, 1.0, 101)[:, None].repeat(len(curves.channels), axis=1)
        mean = float(np.sum(np.mean(curves.apply(steps), axis=0)))
    return InkUse(LOAD_AT_FULL * most / 100.0, LOAD_AT_FULL * mean / max(len(limits), 1))
