"""Viewing lights: relative spectral power of CIE standard and daylight illuminants, 360..780 nm at 1 nm."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from greyanchor.core.errors import BadInput

_TABLE = Path(__file__).parent.parent / "data" / "cie_1nm.csv"
FIXED_LIGHTS = ("A", "F2", "F7", "F11", "LED-B1", "LED-B2", "LED-B3", "LED-B4", "LED-B5")
_NAMED_DAYLIGHT = {"D50": 5003.0, "D55": 5503.0, "D65": 6504.0, "D75": 7504.0}


@dataclass(frozen=True)
class MeasuredLight:
    """A light as measured where prints are looked at: relative power at 360..780 nm, 1 nm (421 values)."""

    name: str
    power: tuple[float, ...]

    @classmethod
    def of(cls, name: str, wavelengths: np.ndarray, power: np.ndarray) -> MeasuredLight:
        """From rising `wavelengths` in nm (n,) and their relative power (n,).

        Interpolated linearly; the ends are held. Raises `BadInput` for ranges and powers that are no light.
        """
        nm, values = np.asarray(wavelengths, dtype=float), np.asarray(power, dtype=float)
        if len(nm) < 8 or not (np.isfinite(nm).all() and np.isfinite(values).all()):
            raise BadInput("a measured light needs at least eight wavelengths with a number each")
        if (np.diff(nm) <= 0).any():
            raise BadInput("the wavelengths of the light do not rise")
        if nm[0] > 400 or nm[-1] < 700 or np.diff(nm).max() > 20:
            raise BadInput(
                f"the light is measured from {nm[0]:g} to {nm[-1]:g} nm; 400 to 700 nm at 20 nm or "
                "closer "
                "are needed"
            )
        top = float(values.max())
        if top <= 0:
            raise BadInput("the light holds no energy: all its powers are zero or less")
        if values.min() < -0.02 * top:
            raise BadInput(f"the light has a power below zero at {nm[int(values.argmin())]:g} nm")
        seen = (nm >= 420) & (nm <= 680)
        if np.mean(values[seen] > 0.001 * top) < 0.5:
            raise BadInput(
                "the light is dark over most of 420 to 680 nm: colours cannot be reported under it"
            )
        fine = np.interp(cie_table()["nm"], nm, np.maximum(values, 0.0))
        return cls(name, tuple(float(v) for v in 100.0 * fine / top))


Light = str | MeasuredLight


def light_name(light: Light) -> str:
    """What a light is called."""
    return light if isinstance(light, str) else light.name


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


def light(name: Light) -> np.ndarray:
    """Relative power of the light called `name` at 360..780 nm, 1 nm, shape (421,).

    `name` is one of `FIXED_LIGHTS`, a CIE daylight (``D50``), a temperature (``5600K``), or a
    `MeasuredLight`.

    Raises `BadInput` for a name that is none of these.

    >>> light("D50").shape
    (421,)
    >>> bool(light("5600K")[200] > 0)
    True
    """
    if isinstance(name, MeasuredLight):
        return np.array(name.power)
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
