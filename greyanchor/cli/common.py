"""What the commands share: writing whole files, saying things, reading measured files, percents by ink."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.measurement.readings import ReadingSet


def write(path: str, data: str | bytes) -> None:
    """Write a whole file or none: a failed write leaves what was there."""
    target = Path(path)
    partial = target.with_name(target.name + ".part")
    try:
        partial.write_bytes(data.encode() if isinstance(data, str) else data)
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)


def say(as_json: bool, facts: dict[str, Any], lines: list[str]) -> None:
    """One JSON object, or lines for people."""
    click.echo(json.dumps(facts) if as_json else "\n".join(lines))


def channels_of(text: str) -> tuple[str, ...]:
    """Channel names: one letter each, or with commas between, such as ``C,M,Y,K,LC,LM``."""
    channels = tuple(p.strip() for p in text.split(",")) if "," in text else tuple(text.upper())
    letters = "," in text or text.isalpha()
    if not all(channels) or not letters or not 1 <= len(channels) <= 8 or len(set(channels)) != len(channels):
        raise BadInput(
            f"channels {text!r} are not understood; give one letter each, such as CMYK, or names with commas "
            "between, such as C,M,Y,K,LC,LM"
        )
    return channels


def limits_of(text: str | None) -> dict[str, float]:
    """Ink limits as fractions, from ``C=90,M=85``."""
    return _percents(text, "limit", 5, 100)


def drift_of(text: str | None) -> tuple[tuple[str, float], ...]:
    """Ink volumes as factors, from ``C=110``."""
    return tuple(_percents(text, "drift", 50, 150).items())


def _percents(text: str | None, what: str, low: float, high: float) -> dict[str, float]:
    found: dict[str, float] = {}
    for part in (text or "").replace(" ", "").split(","):
        if not part:
            continue
        name, _, value = part.partition("=")
        try:
            number = float(value)
        except ValueError:
            number = -1.0
        if not name or not low <= number <= high:
            raise BadInput(
                f"{what} {part!r} is not understood; write C=90,M=85 with percent from {low:g} to {high:g}"
            )
        found[name.upper()] = number / 100.0
    return found


def read_measured(path: str) -> ReadingSet:
    """Readings from a file; `BadInput` when it holds a chart alone."""
    from greyanchor.core.formats import readings_file

    readings = readings_file.read(path)
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values", path)
    return readings
