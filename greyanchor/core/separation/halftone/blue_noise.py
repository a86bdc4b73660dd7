"""Blue-noise screens: each ink has a mask of its own, so that their dots do not beat with one another."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

#: dots along each side of a mask
SIDE = 256
MASKS = Path(__file__).with_name("masks.npz")
COUNT = 8


@lru_cache(maxsize=1)
def _shipped() -> dict[str, np.ndarray[Any, Any]]:
    with np.load(MASKS) as found:
        return {name: found[name] for name in found.files}


def mask(ink: int) -> np.ndarray[Any, Any]:
    """Ranks (256, 256) of 0..65535 of the mask of the ink at a place in printing order."""
    return _shipped()[f"mask{ink % COUNT}"]
