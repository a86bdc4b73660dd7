"""Viewing lights: relative spectral power of CIE standard and daylight illuminants, 360..780 nm at 1 nm."""

from __future__ import annotations

import csv
from functools import lru_cache
from pathlib import Path

import numpy as np

from greyanchor.core.errors import BadInput

_TABLE = Path(__file__).parent / "data" / "cie_1nm.csv"
FIXED_LIGHTS = ("A", "F2", "F7", "F11", "LED-B1", "LED-B2", "LED-B3", "LED-B4", "LED-B5")
_NAMED_DAYLIGHT = {"D50": 5003.0, "D55": 5503.0, "D65": 6504.0, "D75": 7504.0}


@lru_cache(maxsize=1)
def cie_table() -> dict[str, np.ndarray]:
    """Columns of the CIE tables at 1 nm, by name: ``nm x y z S0 S1 S2`` and the fixed lights."""
    with _TABLE.open(newline="") as stream:
        rows = list(csv.reader(stream))
    values = np.array(rows[1:], dtype=float)
    return {name: values[:, i] for i, name in enumerate(rows[0])}


def daylight(temperature: float) -> np.ndarray:
    """Relative power of a daylight phase of `temperature` kelvin, shape (421,), 100 at 560 nm.

    CIE 15:2018, 4.1.2: chromaticity on the daylight locus, then S0 + M1 S1 + M2 S2.
    Valid from 4,000 to 25,000 K; anything else raises `BadInput`.
    """
    if not 4000 <= temperature <= 25000:
        raise BadInput(f"daylight of {temperature:g} K lies outside 4000..25000 K; choose a value inside")
    t = float(temperature)
    if t <= 7000:
        x = -4.607e9 / t**3 + 2.9678e6 / t**2 + 0.09911e3 / t + 0.244063
    else:
        x = -2.0064e9 / t**3 + 1.9018e6 / t**2 + 0.24748e3 / t + 0.237040
    y = -3.0 * x * x + 2.870 * x - 0.275
    m = 0.0241 + 0.2562 * x - 0.7341 * y
    m1 = round((-1.3515 - 1.7703 * x + 5.9114 * y) / m, 3)
    m2 = round((0.0300 - 31.4424 * x + 30.0717 * y) / m, 3)
    table = cie_table()
    return table["S0"] + m1 * table["S1"] + m2 * table["S2"]


def light(name: str) -> np.ndarray:
    """Relative power of the light called `name` at 360..780 nm, 1 nm, shape (421,).

    `name` is one of `FIXED_LIGHTS`, a CIE daylight (``D50``), or a temperature (``5600K``).
    """
    wanted = name.strip().upper()
    if wanted in FIXED_LIGHTS:
        return cie_table()[wanted]
    if wanted in _NAMED_DAYLIGHT:
        return daylight(_NAMED_DAYLIGHT[wanted])
    if wanted.endswith("K"):
        try:
            return daylight(float(wanted[:-1]))
        except ValueError as error:
            if isinstance(error, BadInput):
                raise
    known = ", ".join((*_NAMED_DAYLIGHT, *FIXED_LIGHTS))
    raise BadInput(f"no viewing light called {name!r}; use one of {known} or a temperature such as 5600K")
