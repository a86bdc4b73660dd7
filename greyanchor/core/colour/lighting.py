"""What a viewing light is: its spectrum, chromaticity, correlated colour temperature and illuminance."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.illuminants import MeasuredLight, cie_table, daylight
from greyanchor.core.errors import BadInput

_TABLE = Path(__file__).parent.parent / "data" / "lighting.npz"
#: wavelengths of a `LightSpectrum`, nm
NM = np.arange(300, 781)
#: where the 10 degree tables begin in it
SEEN = slice(80, 481)
#: lm/W of light at 555 nm (CIE 15)
EFFICACY = 683.0
#: second radiation constant, m K (CODATA 2018)
_C2 = 1.438776877e-2
_COLDEST, _HOTTEST = 1000.0, 25000.0
#: the search for the nearest black body: how often it narrows, and by how much each time
_ROUNDS, _FINER = 5, 12
#: distance from the Planckian locus past which a colour temperature says nothing (CIE 15)
NO_WHITE = 0.05


@lru_cache(maxsize=1)
def tables() -> dict[str, Array]:
    """``observer10`` (401, 3), ``tcs`` (401, 14) and ``ces`` (401, 99) at 380..780 nm, 1 nm; ``daylight``
    (481, 3) at 300..780 nm.
    """
    with np.load(_TABLE) as held:
        return {name: np.asarray(held[name], dtype=float) for name in held.files}


@dataclass(frozen=True)
class LightSpectrum:
    """A light.

    Attributes
    ----------
    name
        What it is called.
    power
        At 300..780 nm, 1 nm (481,): W/m2/nm where `is_absolute`, else in any unit. Zero where it was not
        measured.
    first, step
        Lowest wavelength that was measured and the widest distance between two, nm.
    is_absolute
        Whether the scale is known.
    """

    name: str
    power: tuple[float, ...]
    first: float
    step: float
    is_absolute: bool = False

    @classmethod
    def of(
        cls, name: str, wavelengths: npt.ArrayLike, power: npt.ArrayLike, is_absolute: bool = False
    ) -> LightSpectrum:
        """From rising `wavelengths` in nm (n,) and powers (n,); interpolated linearly, the red end is held.

        Raises `BadInput` for ranges and powers that are no light.
        """
        nm, values = np.asarray(wavelengths, dtype=float), np.asarray(power, dtype=float)
        MeasuredLight.of(name, nm, values)
        fine = np.interp(NM, nm, np.maximum(values, 0.0), left=0.0)
        return cls(
            name,
            tuple(float(v) for v in fine),
            float(max(nm[0], NM[0])),
            float(np.diff(nm).max()),
            is_absolute,
        )

    @property
    def measured(self) -> MeasuredLight:
        """The same as colours are reported under, 100 at the top."""
        seen = max(self.first, 360) <= NM
        return MeasuredLight.of(self.name, NM[seen], np.array(self.power)[seen])

    @property
    def seen(self) -> Array:
        """Power at 380..780 nm (401,)."""
        return np.array(self.power)[SEEN]


def illuminance(light: LightSpectrum) -> float | None:
    """lx; None where the scale of the spectrum is not known (CIE 15: 683 times its sum with y bar)."""
    if not light.is_absolute:
        return None
    return float(EFFICACY * (light.seen @ cie_table()["y"][20:]))


def _observer(degrees: int) -> Array:
    if degrees == 10:
        return tables()["observer10"]
    table = cie_table()
    return np.column_stack([table["x"], table["y"], table["z"]])[20:]


def uv_1976(power: Array, degrees: int = 10) -> Array:
    """u' v' (..., 2) of powers (..., 401) at 380..780 nm, for the observer of 2 or 10 degrees (CIE 1976)."""
    xyz = np.asarray(power, dtype=float) @ _observer(degrees)
    below = xyz[..., 0] + 15.0 * xyz[..., 1] + 3.0 * xyz[..., 2]
    return np.stack([4.0 * xyz[..., 0] / below, 9.0 * xyz[..., 1] / below], axis=-1)


def planckian(temperature: float) -> Array:
    """Relative power (401,) of a black body at 380..780 nm, 1 at 560 nm (CIE 15)."""
    nm = NM[SEEN] * 1e-9

    def law(at: Array | float) -> Array:
        return np.asarray(at) ** -5.0 / np.expm1(_C2 / (np.asarray(at) * temperature))

    return np.asarray(law(nm) / law(560e-9))


def _uv_1960(power: Array) -> Array:
    return uv_1976(power, 2) * (1.0, 2.0 / 3.0)


@lru_cache(maxsize=1)
def _locus() -> tuple[Array, Array]:
    """Black bodies evenly apart in reciprocal temperature: K (n,) and u v (n, 2)."""
    kelvin = 1e6 / np.linspace(1e6 / _HOTTEST, 1e6 / _COLDEST, 400)
    return kelvin, _uv_1960(np.array([planckian(k) for k in kelvin]))


def colour_temperature(power: Array) -> tuple[float, float]:
    """Correlated colour temperature, K, and distance from the Planckian locus in u v of 1960, above it
    positive, of a power (401,) at 380..780 nm, 2 degree observer.

    The nearest black body is found by search, which is what the table and its parabola of Ohno (2013)
    approximate. From 1,000 to 25,000 K; colours that far from the locus are no white have the nearest all the
    same, see `NO_WHITE`.
    """
    uv = _uv_1960(np.asarray(power, dtype=float))
    kelvin, locus = _locus()
    nearest = int(((locus - uv) ** 2).sum(axis=1).argmin())
    ends = 1e6 / kelvin[max(nearest - 1, 0)], 1e6 / kelvin[min(nearest + 1, len(kelvin) - 1)]
    low, high = min(ends), max(ends)
    for _ in range(_ROUNDS):
        mireds = np.linspace(low, high, 2 * _FINER + 1)
        bodies = np.array([planckian(1e6 / m) for m in mireds])
        at = int(((_uv_1960(bodies) - uv) ** 2).sum(axis=1).argmin())
        low, high = mireds[max(at - 1, 0)], mireds[min(at + 1, len(mireds) - 1)]
    temperature = 1e6 / float(mireds[at])
    away = uv - _uv_1960(planckian(temperature))
    return temperature, float(np.copysign(np.hypot(*away), away[1]))


def daylight_seen(temperature: float) -> Array:
    """CIE daylight (401,) at 380..780 nm; `BadInput` outside 4,000 to 25,000 K."""
    return daylight(temperature)[20:]


def daylight_from_300(temperature: float) -> Array:
    """CIE daylight (481,) at 300..780 nm, 100 at 560 nm."""
    fine = daylight(temperature)
    table = cie_table()
    # the shares of S1 and S2 that its visible part was made of
    basis = np.column_stack([table["S1"], table["S2"]])
    m, *_ = np.linalg.lstsq(basis, fine - table["S0"], rcond=None)
    held = tables()["daylight"]
    return np.asarray(held[:, 0] + held[:, 1:] @ m)


def from_d50(power: Array) -> float:
    """Distance in u'10 v'10 of a power (401,) from D50, as ISO 3664 asks for it."""
    return float(np.hypot(*(uv_1976(power) - uv_1976(daylight_seen(5003.0)))))


def reference(temperature: float, blend: bool) -> Array:
    """The light (401,) that colours are rendered against at a temperature.

    CIE 13.3: a black body below 5,000 K, daylight from there on. With `blend` as CIE 224 and ANSI/IES TM-30
    have it: daylight takes over from 4,000 to 5,000 K, both scaled to one luminance.
    """
    if not blend:
        return planckian(temperature) if temperature < 5000.0 else daylight_seen(temperature)
    share = float(np.clip((temperature - 4000.0) / 1000.0, 0.0, 1.0))
    y = cie_table()["y"][20:]
    made = np.zeros(len(y))
    if share < 1.0:
        body = planckian(temperature)
        made += (1.0 - share) * body / (body @ y)
    if share > 0.0:
        day = daylight_seen(temperature)
        made += share * day / (day @ y)
    return made


def check_white(temperature: float, distance: float) -> None:
    """`BadInput` where a light has a colour rather than a white."""
    if abs(distance) > NO_WHITE:
        raise BadInput(
            f"the light is no white: it lies {abs(distance):.3f} from the black bodies in u v (nearest "
            f"{temperature:.0f} K); colour rendering says nothing of it"
        )
