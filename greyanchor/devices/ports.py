"""What the application asks of a printer and of an instrument."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment


@dataclass(frozen=True)
class PrintTicket:
    """What a printer needs to know to find a print again: it is stored with the print as JSON."""

    device: str
    facts: dict[str, Any]


class PrinterPort(Protocol):
    """Prints charts, raw."""

    name: str

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        """Print `chart` (raw device values) under `environment`; `number` tells prints apart."""
        ...


class RowInstrumentPort(Protocol):
    """Reads rows of patches, one at a time, by hand."""

    name: str

    def read_row(self, row: int, reading: int, attempt: int, minutes_since_white: float | None) -> Array:
        """Spectra (n, 36) of a row, counted from 1; raises `NotReadable` with what to do with the hands."""
        ...


class SheetInstrumentPort(Protocol):
    """Reads whole sheets alone."""

    name: str
    needs_corners: bool

    def corner(self, which: int, sheet: int, reading: int, attempt: int) -> Array:
        """Where the head stands (2,), mm, after a hand set it on corner `which` (0, 1, 2) of a sheet."""
        ...

    def read_sheet(self, sheet: int, reading: int, attempt: int, minutes_since_white: float | None) -> Array:
        """Spectra (n, 36) of every patch of a sheet; raises `NotReadable`."""
        ...
