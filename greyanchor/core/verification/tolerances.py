"""Tolerance sets: criteria with their limits, each set naming its source and edition."""

from __future__ import annotations

import json
from dataclasses import dataclass
from math import isfinite
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.verification.groups import GROUPS
from greyanchor.core.verification.query import Query, is_query
from greyanchor.core.verification.statistics import statistic

#: differences by name, with the unit that figures carry
MEASURES = {
    "de00": "dE00",
    "de76": "dE*ab",
    "dl": "dL*",
    "dc": "dC*",
    "dh": "dH",
    "dch": "dCh",
    "wdl": "wdL*",
    "wdch": "wdCh",
}
MOST_CRITERIA = 200


@dataclass(frozen=True)
class Criterion:
    """One figure and its limit: a statistic of a difference over a group.

    Attributes
    ----------
    id, title
        Key, and what people read.
    group
        One of `GROUPS`, or a query on device values such as ``C >= 50 and K = 0``.
    measure
        One of `MEASURES`; differences of one sign are taken as amounts.
    statistic
        See `statistics.statistic`.
    limit
        Largest figure that passes; None reports only.
    warning
        Figure from which a pass is marked near limit its limit, or None.
    weight
        How much the criterion counts in the grade, 0 for nothing.
    """

    id: str
    title: str
    group: str
    measure: str
    statistic: str
    limit: float | None
    warning: float | None = None
    weight: float = 1.0

    def __post_init__(self) -> None:
        try:
            if not self.id or len(self.id) > 60:
                raise BadInput("an id has 1 to 60 characters")
            if is_query(self.group):
                Query(self.group).check_channels(tuple("CMYK"))
            elif self.group not in GROUPS:
                raise BadInput(f"group {self.group!r} is not one of {', '.join(GROUPS)}, nor a query")
            if self.measure not in MEASURES:
                raise BadInput(f"measure {self.measure!r} is not one of {', '.join(MEASURES)}")
            if self.measure in ("wdl", "wdch") and self.group not in ("greys", "black"):
                raise BadInput(
                    f"{self.measure} is weighted along the grey scales: use the group greys or black"
                )
            statistic(self.statistic)
            for name, value in (("limit", self.limit), ("warning", self.warning)):
                if value is not None and not (isfinite(value) and 0 < value < 1000):
                    raise BadInput(f"a {name} must be a number above 0")
            if self.warning is not None and (self.limit is None or self.warning > self.limit):
                raise BadInput("a warning needs a limit, and lies under it")
            if not (isfinite(self.weight) and 0 <= self.weight <= 100):
                raise BadInput("a weight is a number from 0 to 100")
        except BadInput as error:
            raise BadInput(f"criterion {self.id}: {error.reason}") from None

    def as_dict(self) -> dict[str, Any]:
        """Plain values; what is as usual is left out."""
        facts: dict[str, Any] = {
            "id": self.id,
            "title": self.title,
            "group": self.group,
            "measure": self.measure,
            "statistic": self.statistic,
            "limit": self.limit,
        }
        if self.warning is not None:
            facts["warning"] = self.warning
        if self.weight != 1.0:
            facts["weight"] = self.weight
        return facts


@dataclass(frozen=True)
class Grade:
    """A named band: given to a passing check whose score is at most `up_to` (percent of the limits used)."""

    name: str
    up_to: float


@dataclass(frozen=True)
class ToleranceSet:
    """A named list of criteria.

    `grades` are bands from best to worst; without them a check passes or fails. A check that fails has
    no grade.
    """

    id: str
    title: str
    source: str
    criteria: tuple[Criterion, ...]
    edition: str = ""
    grades: tuple[Grade, ...] = ()

    def __post_init__(self) -> None:
        if not 0 < len(self.criteria) <= MOST_CRITERIA:
            raise BadInput(
                f"the set has {len(self.criteria) or 'no'} criteria; 1 to {MOST_CRITERIA} are taken"
            )
        if len({c.id for c in self.criteria}) != len(self.criteria):
            raise BadInput("two criteria have the same id")
        if all(c.limit is None for c in self.criteria):
            raise BadInput("no criterion has a limit, so that nothing could be judged")
        bands = [g.up_to for g in self.grades]
        if bands != sorted(set(bands)) or any(not 0 < b <= 100 for b in bands):
            raise BadInput(
                "grades stand from best to worst, each up to a rising share of the limits, 1 to 100 %"
            )

    @property
    def main_measure(self) -> str:
        """The difference that patches are reported in: that of the criteria over all patches, else dE00."""
        main = [c.measure for c in self.criteria if c.group == "all" and c.measure in ("de00", "de76")]
        return main[0] if main else "de00"

    def grade(self, score: float) -> str:
        """Name of the band for a score in percent; empty where the set has no grades."""
        return next(
            (g.name for g in self.grades if score <= g.up_to + 1e-9),
            self.grades[-1].name if self.grades else "",
        )

    def as_dict(self) -> dict[str, Any]:
        """Plain values that `from_dict` reads."""
        facts: dict[str, Any] = {
            "id": self.id,
            "title": self.title,
            "source": self.source,
            "edition": self.edition,
            "criteria": [c.as_dict() for c in self.criteria],
        }
        if self.grades:
            facts["grades"] = [{"name": g.name, "up_to": g.up_to} for g in self.grades]
        return facts

    def to_json(self) -> str:
        """JSON text that `from_json` reads."""
        return json.dumps(self.as_dict(), indent=1, ensure_ascii=False) + "\n"


def from_dict(raw: Any) -> ToleranceSet:
    """A set from plain values; `BadInput` names the criterion and what is wrong with it."""
    try:
        criteria = tuple(
            Criterion(
                str(c["id"]),
                str(c.get("title", c["id"]))[:120],
                str(c["group"]),
                str(c["measure"]),
                str(c["statistic"]),
                _optional(c.get("limit")),
                _optional(c.get("warning")),
                float(c.get("weight", 1.0)),
            )
            for c in raw["criteria"]
        )
        return ToleranceSet(
            str(raw["id"]),
            str(raw.get("title", raw["id"])),
            str(raw.get("source", "own")),
            criteria,
            str(raw.get("edition", "")),
            tuple(Grade(str(g["name"]), float(g["up_to"])) for g in raw.get("grades", ())),
        )
    except BadInput:
        raise
    except KeyError as error:
        raise BadInput(f"the tolerance set is incomplete: {error.args[0]} is missing") from None
    except (TypeError, ValueError, AttributeError) as error:
        raise BadInput(f"the tolerance set is not built as it should be: {error}") from None


def _optional(value: Any) -> float | None:
    return None if value is None else float(value)


def from_json(text: str, source: str) -> ToleranceSet:
    """A set from ``{"id", "title", "source", "criteria": [{"id", "group", "measure", "statistic",
    "limit"}]}``.

    Raises `BadInput` that names `source` and the criterion that cannot be.
    """
    try:
        raw = json.loads(text)
    except json.JSONDecodeError as error:
        raise BadInput(f"this is not JSON: {error.msg}", source, error.lineno) from None
    except RecursionError:
        raise BadInput("this JSON is nested too deeply", source) from None
    try:
        return from_dict(raw)
    except BadInput as error:
        raise error.at(source) from None
