"""Whether a light is fit to judge prints under: ISO 3664."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from greyanchor.core.colour.lighting import (
    LightSpectrum,
    check_white,
    colour_temperature,
    from_d50,
    illuminance,
    uv_1976,
)
from greyanchor.core.colour.metamers import ultraviolet_index, visible_index
from greyanchor.core.colour.rendering_index import fidelity, special_indices
from greyanchor.core.errors import BadInput

#: what each limit is of; those that end in _min are the least, as are Ra and the special indices
CRITERIA = {
    "chromaticity": "distance from D50, u'10 v'10",
    "ra": "colour rendering Ra",
    "special_min": "least of R1 to R8",
    "mi_visible": "metamerism, visible",
    "mi_uv": "metamerism, ultraviolet",
    "illuminance_min": "illuminance, lx, at least",
    "illuminance_max": "illuminance, lx, at most",
    "evenness": "least share of the middle's illuminance at the edge",
}
_AT_LEAST = ("ra", "special_min", "illuminance_min", "evenness")
_COMMON = {"chromaticity": 0.005, "ra": 90.0, "special_min": 80.0, "mi_visible": 1.0, "mi_uv": 1.5}


@dataclass(frozen=True)
class Condition:
    """What a viewing light is held to: `limits` by the criteria of `CRITERIA`, and where they come from."""

    key: str
    title: str
    source: str
    limits: Mapping[str, float]

    def __post_init__(self) -> None:
        for name, limit in self.limits.items():
            if name not in CRITERIA:
                raise BadInput(f"{name} is no criterion of a viewing light; known are {', '.join(CRITERIA)}")
            if not (np.isfinite(limit) and limit > 0):
                raise BadInput(f"{CRITERIA[name]}: {limit} is no limit; enter a number above 0")
        if self.limits.get("illuminance_min", 0.0) > self.limits.get("illuminance_max", np.inf):
            raise BadInput("the least illuminance is above the most; exchange them")


CONDITIONS = {
    "P1": Condition(
        "P1",
        "P1, critical comparison",
        "ISO 3664:2009, P1",
        _COMMON | {"illuminance_min": 1500.0, "illuminance_max": 2500.0, "evenness": 0.75},
    ),
    "P2": Condition(
        "P2",
        "P2, practical appraisal",
        "ISO 3664:2009, P2",
        _COMMON | {"illuminance_min": 375.0, "illuminance_max": 625.0, "evenness": 0.75},
    ),
}


@dataclass(frozen=True)
class Judged:
    """One criterion; `verdict` is ``pass``, ``fail`` or ``not tested``."""

    id: str
    value: float | None
    limit: float
    verdict: str


@dataclass(frozen=True)
class LightReport:
    """What a viewing light is worth.

    Attributes
    ----------
    cct, duv
        Correlated colour temperature, K, and distance from the Planckian locus.
    lux
        Illuminance in the middle; None where the scale is not known.
    ra, r9, special, rf, rg
        Colour rendering; `special` are R1 to R14.
    mi_visible, mi_uv
        Metamerism indices; `mi_uv` is None where the light was not measured far enough down.
    duv10_prime
        Distance from D50 in u'10 v'10, at `uv10`.
    criteria
        Held to a `Condition`.
    """

    cct: float
    duv: float
    lux: float | None
    ra: float
    r9: float
    special: tuple[float, ...]
    rf: float
    rg: float
    mi_visible: float
    mi_uv: float | None
    duv10_prime: float
    uv10: tuple[float, float]
    criteria: tuple[Judged, ...] = field(default=())

    @property
    def verdict(self) -> str:
        """``fail`` where one criterion fails."""
        return "fail" if any(c.verdict == "fail" for c in self.criteria) else "pass"

    def as_dict(self) -> dict[str, Any]:
        """Plain values, as the command prints them."""
        return {
            "cct": round(self.cct, 2),
            "duv": round(self.duv, 6),
            "lux": None if self.lux is None else round(self.lux, 2),
            "ra": round(self.ra, 3),
            "r9": round(self.r9, 3),
            "rf": round(self.rf, 3),
            "rg": round(self.rg, 3),
            "mi_visible": round(self.mi_visible, 4),
            "mi_uv": None if self.mi_uv is None else round(self.mi_uv, 4),
            "duv10_prime": round(self.duv10_prime, 6),
            "special": [round(r, 2) for r in self.special],
            "uv10": [round(v, 6) for v in self.uv10],
            "iso3664": {
                "verdict": self.verdict,
                "criteria": [
                    {
                        "id": c.id,
                        "value": None if c.value is None else round(c.value, 6),
                        "limit": c.limit,
                        "verdict": c.verdict,
                    }
                    for c in self.criteria
                ],
            },
        }


def judge(spectrum: LightSpectrum, condition: Condition, lux_around: Sequence[float] = ()) -> LightReport:
    """Everything that is said of a viewing light. `lux_around` are illuminances at other places of the
    surface, which evenness is judged by.

    Raises `BadInput` for a light that has a colour rather than a white.
    """
    power = spectrum.seen
    cct, duv = colour_temperature(power)
    check_white(cct, duv)
    special = special_indices(power)
    rendering = fidelity(power)
    u, v = uv_1976(power)
    lux = illuminance(spectrum)
    found: dict[str, float | None] = {
        "chromaticity": from_d50(power),
        "ra": float(special[:8].mean()),
        "special_min": float(special[:8].min()),
        "mi_visible": visible_index(power),
        "mi_uv": ultraviolet_index(spectrum),
        "illuminance_min": lux,
        "illuminance_max": lux,
        "evenness": min(lux_around) / lux if lux and lux_around else None,
    }
    criteria = [_held(name, found[name], limit) for name, limit in condition.limits.items()]
    return LightReport(
        cct=cct,
        duv=duv,
        lux=lux,
        ra=float(special[:8].mean()),
        r9=float(special[8]),
        special=tuple(float(r) for r in special),
        rf=rendering.rf,
        rg=rendering.rg,
        mi_visible=visible_index(power),
        mi_uv=ultraviolet_index(spectrum),
        duv10_prime=from_d50(power),
        uv10=(float(u), float(v)),
        criteria=tuple(criteria),
    )


def _held(name: str, value: float | None, limit: float) -> Judged:
    if value is None:
        return Judged(name, None, limit, "not tested")
    passes = value >= limit if name in _AT_LEAST else value <= limit
    return Judged(name, value, limit, "pass" if passes else "fail")


def in_words(report: LightReport) -> str:
    """What a viewing light fails by, in one sentence; empty where it passes."""
    said = []
    for c in report.criteria:
        if c.verdict != "fail" or c.value is None:
            continue
        if c.id == "chromaticity":
            side = "warmer" if report.cct < 5003 else "cooler"
            tint = ", greener" if report.duv > 0.005 else ", pinker" if report.duv < -0.002 else ""
            said.append(f"{report.cct:.0f} K is {side} than D50{tint} ({c.value:.4f}, limit {c.limit:g})")
        elif c.id == "illuminance_min":
            said.append(f"{c.value:.0f} lx is too dark (at least {c.limit:g})")
        elif c.id == "illuminance_max":
            said.append(f"{c.value:.0f} lx is too bright (at most {c.limit:g})")
        else:
            said.append(f"{CRITERIA[c.id]} {c.value:.3g}, limit {c.limit:g}")
    return "; ".join(said)
