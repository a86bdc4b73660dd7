"""Spot colours: solids and tints by name, and what they should measure."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import BANDS, Array
from greyanchor.core.errors import BadInput

_TINT = re.compile(r"^(?P<name>.*\S)\s+(?P<tint>\d{1,3}(?:\.\d+)?)\s*%$")
#: paper that a tint of a spot colour is mixed toward when nothing better is known, Lab
USUAL_PAPER = (95.0, 0.0, -2.0)


def tint_of(text: str) -> tuple[str, float]:
    """``Buoy red 50 %`` -> (``Buoy red``, 50.0); a name alone is the solid, 100.0."""
    found = _TINT.match(text.strip())
    if found is None:
        return text.strip(), 100.0
    tint = float(found.group("tint"))
    return (found.group("name"), tint) if 0 < tint <= 100 else (text.strip(), 100.0)


@dataclass(frozen=True)
class SpotColour:
    """A spot colour.

    Attributes
    ----------
    name
        What jobs call it.
    lab
        The solid, Lab (3,), D50 2 degree, absolute.
    tints
        Measured aims of tints by percent; what is missing follows SCTV.
    spectrum
        Reflectance of the solid (36,), 380..730 nm at 10 nm, read under `condition`; empty where it is not
        known.
    over_black
        The solid over black, Lab (3,): how it hides; None where it is not known.
    condition
        Of ISO 13655, ``M0`` to ``M3``.
    """

    name: str
    lab: tuple[float, float, float]
    tints: Mapping[float, tuple[float, float, float]] = field(default_factory=dict)
    spectrum: tuple[float, ...] = ()
    over_black: tuple[float, float, float] | None = None
    condition: str = "M1"

    def __post_init__(self) -> None:
        if not self.name.strip() or len(self.name) > 80:
            raise BadInput("a spot colour needs a name of up to 80 characters")
        for lab in (self.lab, *self.tints.values(), *([self.over_black] if self.over_black else [])):
            if not (np.isfinite(lab).all() and 0 <= lab[0] <= 110 and max(abs(lab[1]), abs(lab[2])) <= 160):
                raise BadInput(f"{self.name}: {lab} is no Lab colour")
        if any(not 0 < t < 100 for t in self.tints):
            raise BadInput(f"{self.name}: tints lie between 0 and 100 %")
        if self.spectrum and not (
            len(self.spectrum) == BANDS
            and np.isfinite(self.spectrum).all()
            and -0.05 <= min(self.spectrum) <= max(self.spectrum) <= 3.0
        ):
            raise BadInput(f"{self.name}: its spectrum is none: {BANDS} reflectance factors are needed")

    def as_dict(self) -> dict[str, Any]:
        """Plain values that `from_dict` reads."""
        facts: dict[str, Any] = {
            "lab": list(self.lab),
            "tints": {f"{t:g}": list(lab) for t, lab in sorted(self.tints.items())},
        }
        if self.spectrum:
            facts |= {"spectrum": list(self.spectrum), "condition": self.condition}
        if self.over_black:
            facts["over_black"] = list(self.over_black)
        return facts

    @classmethod
    def from_dict(cls, name: str, values: Mapping[str, Any]) -> SpotColour:
        """A colour from what `as_dict` gives."""
        tints = {float(t): (float(v[0]), float(v[1]), float(v[2])) for t, v in values["tints"].items()}
        lab, black = values["lab"], values.get("over_black")
        return cls(
            name,
            (float(lab[0]), float(lab[1]), float(lab[2])),
            tints,
            tuple(float(v) for v in values.get("spectrum", ())),
            (float(black[0]), float(black[1]), float(black[2])) if black else None,
            str(values.get("condition", "M1")),
        )

    def aim(self, tint: float, paper: npt.ArrayLike = USUAL_PAPER) -> Array:
        """Lab (3,) of a tint in percent: measured where it was given, else by SCTV on `paper` (Lab).

        ISO 20654 scales 116 f(T/Tn) - 16 of X, Y and Z; along the straight line between paper and solid
        the tone value is the tint.
        """
        if tint >= 100.0:
            return np.array(self.lab)
        for known, lab in self.tints.items():
            if abs(known - tint) < 0.05:
                return np.array(lab)
        ends = responses(np.array([paper, self.lab], dtype=float))
        return _from_responses(ends[0] + tint / 100.0 * (ends[1] - ends[0]))


def responses(lab: Array) -> Array:
    """f(T/Tn) of X, Y, Z (n, 3); Lab is linear in them."""
    fy = (lab[:, 0] + 16.0) / 116.0
    return np.stack([fy + lab[:, 1] / 500.0, fy, fy - lab[:, 2] / 200.0], axis=1)


def _from_responses(f: Array) -> Array:
    return np.array([116.0 * f[1] - 16.0, 500.0 * (f[0] - f[1]), 200.0 * (f[1] - f[2])])
