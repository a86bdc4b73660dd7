"""Statistics of differences: how the differences of a group of patches become one figure."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

Statistic = Callable[[Array], float]

STATISTICS: dict[str, Statistic] = {
    "mean": lambda v: float(np.mean(v)),
    "max": lambda v: float(np.max(v)),
    "p95": lambda v: float(np.percentile(v, 95)),
    "sd": lambda v: float(np.std(v, ddof=1)) if len(v) > 1 else 0.0,
    "best90_max": lambda v: float(np.max(np.sort(v)[: max(1, int(np.ceil(0.9 * len(v))))])),
    "worst10_mean": lambda v: float(np.mean(np.sort(v)[-max(1, int(np.ceil(0.1 * len(v)))) :])),
}
#: how people read the names of statistics
TITLES = {
    "mean": "mean",
    "max": "largest",
    "p95": "95th percentile",
    "sd": "standard deviation",
    "best90_max": "largest of the best 90 %",
    "worst10_mean": "mean of the worst 10 %",
}
_PERCENTILE = re.compile(r"^p(\d{1,2}(?:\.\d)?)$")


def statistic(name: str) -> Statistic:
    """The statistic called `name`: one of `STATISTICS`, or ``pNN``, a percentile linear between ranks.

    Raises `BadInput` for any other name.
    """
    if name in STATISTICS:
        return STATISTICS[name]
    found = _PERCENTILE.match(name)
    if found is None:
        raise BadInput(
            f"statistic {name!r} is not one of {', '.join(STATISTICS)}, or pNN for another percentile"
        )
    rank = float(found.group(1))
    return lambda v: float(np.percentile(v, rank))


def statistic_title(name: str) -> str:
    """`name` in words."""
    return TITLES.get(name, f"{name[1:]}th percentile")
