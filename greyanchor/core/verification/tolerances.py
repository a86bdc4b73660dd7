"""Tolerance sets: criteria with their limits, each naming its source and edition."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from greyanchor.core.colorimetry import Array
from greyanchor.core.errors import BadInput

STATISTICS: dict[str, Callable[[Array], float]] = {
    "mean": lambda v: float(np.mean(v)),
    "max": lambda v: float(np.max(v)),
    "p95": lambda v: float(np.percentile(v, 95)),
    "sd": lambda v: float(np.std(v, ddof=1)) if len(v) > 1 else 0.0,
    "best90_max": lambda v: float(np.max(np.sort(v)[: max(1, int(np.ceil(0.9 * len(v))))])),
    "worst10_mean": lambda v: float(np.mean(np.sort(v)[-max(1, int(np.ceil(0.1 * len(v)))) :])),
}
MEASURES = ("de00", "de76", "dl", "dc", "dh", "dch")
GROUPS = (
    "all", "substrate", "primaries", "chromatic_primaries", "k_solid", "secondaries", "greys", "black", "outer_gamut", "spots",
)  # fmt: skip


@dataclass(frozen=True)
class Criterion:
    """One figure and its limit: a statistic of a difference over a group; ``limit`` None reports only."""

    id: str
    title: str
    group: str
    measure: str
    statistic: str
    limit: float | None

    def __post_init__(self) -> None:
        for name, value, known in (
            ("group", self.group, GROUPS),
            ("measure", self.measure, MEASURES),
            ("statistic", self.statistic, tuple(STATISTICS)),
        ):
            if value not in known:
                raise BadInput(f"criterion {self.id}: {name} {value!r} is not one of {', '.join(known)}")


@dataclass(frozen=True)
class ToleranceSet:
    """A named list of criteria."""

    id: str
    title: str
    source: str
    criteria: tuple[Criterion, ...]


def _iso(edition: str, criteria: tuple[Criterion, ...]) -> ToleranceSet:
    return ToleranceSet(
        f"iso12647-7:{edition}",
        f"ISO 12647-7:{edition}, contract proof",
        f"ISO 12647-7, edition {edition}",
        (*criteria, *_report_only("de00" if edition == "2016" else "de76")),
    )


def _report_only(measure: str) -> tuple[Criterion, ...]:
    return (
        Criterion("best90_max", "Best 90 %, largest", "all", measure, "best90_max", None),
        Criterion("worst10_mean", "Worst 10 %, mean", "all", measure, "worst10_mean", None),
        Criterion("sd", "Standard deviation", "all", measure, "sd", None),
        Criterion(
            "primaries_dh_mean",
            "C M Y solids, mean hue difference",
            "chromatic_primaries",
            "dh",
            "mean",
            None,
        ),
        Criterion(
            "grey_dh_mean_reported", "Composed greys, mean hue difference", "greys", "dh", "mean", None
        ),
    )


SHIPPED = {
    t.id: t
    for t in (
        _iso(
            "2016",
            (
                Criterion("substrate", "Substrate", "substrate", "de00", "max", 3.0),
                Criterion("mean", "All patches, mean", "all", "de00", "mean", 2.5),
                Criterion("p95", "All patches, 95th percentile", "all", "de00", "p95", 5.0),
                Criterion("primaries_max", "C M Y K solids, largest", "primaries", "de00", "max", 3.0),
                Criterion(
                    "primaries_dh_max",
                    "C M Y solids, largest hue difference",
                    "chromatic_primaries",
                    "dh",
                    "max",
                    2.5,
                ),
                Criterion("grey_dch_mean", "Composed greys, mean", "greys", "dch", "mean", 2.0),
                Criterion("grey_dch_max", "Composed greys, largest", "greys", "dch", "max", 3.5),
                Criterion("outer_gamut_mean", "Gamut surface, mean", "outer_gamut", "de00", "mean", 2.5),
                Criterion("spot_max", "Spot colour solids, largest", "spots", "de00", "max", 2.5),
            ),
        ),
        _iso(
            "2013",
            (
                Criterion("substrate", "Substrate", "substrate", "de76", "max", 3.0),
                Criterion("mean", "All patches, mean", "all", "de76", "mean", 3.0),
                Criterion("max", "All patches, largest", "all", "de76", "max", 6.0),
                Criterion("primaries_max", "C M Y K solids, largest", "primaries", "de76", "max", 5.0),
                Criterion(
                    "primaries_dh_max",
                    "C M Y solids, largest hue difference",
                    "chromatic_primaries",
                    "dh",
                    "max",
                    2.5,
                ),
                Criterion("grey_dh_mean", "Composed greys, mean hue difference", "greys", "dh", "mean", 1.5),
                Criterion("outer_gamut_mean", "Gamut surface, mean", "outer_gamut", "de76", "mean", 4.0),
                Criterion("spot_max", "Spot colour solids, largest", "spots", "de00", "max", 2.5),
            ),
        ),
    )
}
_LATER = ("g7-grayscale", "g7-targeted", "g7-colorspace")


def load(name: str) -> ToleranceSet:
    """A shipped set by id, or one from a JSON file."""
    if name in SHIPPED:
        return SHIPPED[name]
    if name in _LATER:
        raise BadInput(
            f"the tolerance set {name} is not in this version; use {', '.join(SHIPPED)} or a JSON file"
        )
    path = Path(name)
    if path.suffix.lower() != ".json":
        raise BadInput(f"no tolerance set {name!r}; use {', '.join(SHIPPED)} or a JSON file")
    try:
        return from_json(path.read_text(encoding="utf-8"), path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"cannot be read: {error}", path.name) from error


def from_json(text: str, source: str) -> ToleranceSet:
    """A set from ``{"id", "title", "source", "criteria": [{"id", "group", "measure", "statistic", "limit"}]}``."""
    try:
        raw = json.loads(text)
    except json.JSONDecodeError as error:
        raise BadInput(f"this is not JSON: {error.msg}", source, error.lineno) from None
    try:
        criteria = tuple(
            Criterion(
                str(c["id"]), str(c.get("title", c["id"])), str(c["group"]), str(c["measure"]), str(c["statistic"]),
                None if c.get("limit") is None else float(c["limit"]),
            )
            for c in raw["criteria"]
        )  # fmt: skip
        if not criteria:
            raise BadInput("the set has no criteria")
        if len({c.id for c in criteria}) != len(criteria):
            raise BadInput("two criteria have the same id")
        if any(c.limit is not None and not 0 < c.limit < 1000 for c in criteria):
            raise BadInput("a limit must be a number above 0")
        return ToleranceSet(
            str(raw["id"]), str(raw.get("title", raw["id"])), str(raw.get("source", "own")), criteria
        )
    except BadInput as error:
        raise error.at(source) from None
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput(f"the tolerance set is incomplete: {error}", source) from None
