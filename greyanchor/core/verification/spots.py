"""Spot colours: solids and tints by name, what they should measure, and files that list them."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, cxf
from greyanchor.core.measurement.readings import ReadingSet

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
    """

    name: str
    lab: tuple[float, float, float]
    tints: Mapping[float, tuple[float, float, float]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if not self.name.strip() or len(self.name) > 80:
            raise BadInput("a spot colour needs a name of up to 80 characters")
        for lab in (self.lab, *self.tints.values()):
            if not (np.isfinite(lab).all() and 0 <= lab[0] <= 110 and max(abs(lab[1]), abs(lab[2])) <= 160):
                raise BadInput(f"{self.name}: {lab} is no Lab colour")
        if any(not 0 < t < 100 for t in self.tints):
            raise BadInput(f"{self.name}: tints lie between 0 and 100 %")

    def as_dict(self) -> dict[str, Any]:
        """Plain values that `from_dict` reads."""
        return {
            "lab": list(self.lab),
            "tints": {f"{t:g}": list(lab) for t, lab in sorted(self.tints.items())},
        }

    @classmethod
    def from_dict(cls, name: str, values: Mapping[str, Any]) -> SpotColour:
        """A colour from what `as_dict` gives."""
        tints = {float(t): (float(v[0]), float(v[1]), float(v[2])) for t, v in values["tints"].items()}
        lab = values["lab"]
        return cls(name, (float(lab[0]), float(lab[1]), float(lab[2])), tints)

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


def gathered(named: Iterable[tuple[str, Array]]) -> dict[str, SpotColour]:
    """Spot colours from names (with tints in them) and Lab (3,); `BadInput` for tints without a solid."""
    solids: dict[str, tuple[float, float, float]] = {}
    tints: dict[str, dict[float, tuple[float, float, float]]] = {}
    for text, lab in named:
        name, tint = tint_of(text)
        value = (float(lab[0]), float(lab[1]), float(lab[2]))
        if tint >= 100.0:
            if name in solids:
                raise BadInput(f"the spot colour {name} is there more than once")
            solids[name] = value
        else:
            tints.setdefault(name, {})[tint] = value
    alone = sorted(set(tints) - set(solids))
    if alone:
        raise BadInput(f"there are tints of {alone[0]}, but no solid of it")
    return {name: SpotColour(name, lab, tints.get(name, {})) for name, lab in solids.items()}


def from_readings(readings: ReadingSet) -> dict[str, SpotColour]:
    """Spot colours among measured patches: all that have names, or all of them where there are no device
    values.
    """
    names = readings.names or (readings.ids if readings.device is None else ())
    lab = readings.lab()
    return gathered((name, lab[i]) for i, name in enumerate(names) if name)


def from_file(data: bytes, source: str) -> dict[str, SpotColour]:
    """Spot colours of a file: CxF/X-4 or other CxF3, a CSV list, or CGATS text with names.

    Raises `BadInput` that names `source` and the colour that cannot be read.
    """
    if not cxf.looks_like(data):
        text = cgats.decode(data)
        if "BEGIN_DATA" not in text:
            return from_csv(text, source)
        return from_readings(cgats.loads(text, source))
    readings = cxf.loads(data, source)
    inks = cxf.spot_inks(data, source)
    if not inks:
        return from_readings(replace(readings, device=None, channels=()))
    lab = dict(zip(readings.ids, readings.lab()))
    try:
        named = []
        for ink, tint, name in inks:
            if tint <= 0:
                continue
            if name not in lab:
                raise BadInput(f"the object {name} of the ink {ink} holds no colour")
            named.append((ink if tint >= 100 else f"{ink} {tint:g} %", lab[name]))
        return gathered(named)
    except BadInput as error:
        raise error.at(source) from None


def from_csv(text: str, source: str) -> dict[str, SpotColour]:
    """Spot colours of a table with the columns name, L, a, b and, where it has tints, tint (percent).

    Commas, semicolons or tabs part the columns; with semicolons or tabs decimals may have commas.
    Raises `BadInput` naming the line.
    """
    lines = text.lstrip("\ufeff").splitlines()
    if not lines:
        raise BadInput("the file is empty", source)
    part = next((p for p in ("\t", ";") if p in lines[0]), ",")
    head = [_plain(h) for h in next(csv.reader([lines[0]], delimiter=part))]
    wanted = {
        "name": ("name", "colour", "color", "spot"),
        "l": ("l", "labl", "lstar"),
        "a": ("a", "laba", "astar"),
        "b": ("b", "labb", "bstar"),
    }
    where = {key: next((i for i, h in enumerate(head) if h in known), -1) for key, known in wanted.items()}
    missing = [key for key, i in where.items() if i < 0]
    if missing:
        raise BadInput(f"the first line names no column {missing[0]}; it needs name, L, a and b", source, 1)
    tint_at = next((i for i, h in enumerate(head) if h in ("tint", "tone", "percent")), -1)
    named = []
    rows = csv.reader(io.StringIO("\n".join(lines[1:])), delimiter=part)
    for number, row in enumerate(rows, start=2):
        if not any(cell.strip() for cell in row):
            continue
        try:
            lab = np.array([_number(row[where[k]], part) for k in "lab"])
            tint = _number(row[tint_at], part) if tint_at >= 0 and row[tint_at].strip() else 100.0
            name = row[where["name"]].strip()
        except (IndexError, ValueError):
            raise BadInput("expected a name and three numbers", source, number) from None
        try:
            SpotColour(name, (lab[0], lab[1], lab[2]))
        except BadInput as error:
            raise BadInput(error.reason, source, number) from None
        named.append((name if tint >= 100 else f"{name} {tint:g} %", lab))
    if not named:
        raise BadInput("the file lists no spot colour", source)
    try:
        return gathered(named)
    except BadInput as error:
        raise error.at(source) from None


def _plain(head: str) -> str:
    return "".join(c for c in head.strip().strip("*").lower() if c.isalnum())


def _number(text: str, part: str) -> float:
    return float(text.strip().rstrip("%").replace(",", ".") if part != "," else text.strip().rstrip("%"))
