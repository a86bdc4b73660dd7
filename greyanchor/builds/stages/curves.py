"""Curves as stages store them: as CSV, in small for a drawing, and where their handles are."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.builds.stages.base import rounded
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.linearization import HANDLES


def curve_facts(curves: CurveSet) -> dict[str, Any]:
    """``curves_csv``, ``curves`` and ``handles`` of a result, percent."""
    grid = np.linspace(0.0, 1.0, curves.outputs.shape[1])
    named = list(enumerate(curves.channels))
    return {
        "curves_csv": curves.to_csv(),
        "curves": {c: rounded(100.0 * curves.outputs[i][::31]) for i, c in named},
        "handles": {c: [_handle(h, grid, curves.outputs[i]) for h in HANDLES] for i, c in named},
    }


def _handle(at: float, grid: Any, outputs: Any) -> list[float]:
    return [round(100 * at), round(float(100 * np.interp(at, grid, outputs)), 2)]
