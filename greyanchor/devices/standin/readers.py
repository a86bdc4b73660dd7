"""The three simulated readers: by hand, on a table, inside the printer."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.core.charts.layout import layout_of
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.instrument import SheetReader, StripReader
from greyanchor.core.simulation.standin import Condition, printed_spectra, reading_spot
from greyanchor.devices.ports import PrintedChart

NAMES = {
    "strip": "stand-in strip reader SR-1042",
    "table": "stand-in measuring table MT-0311",
    "inline": "stand-in reader inside the printer IR-2207",
}


class StandinStripReader:
    """A strip reader led over the rows of a simulated print by hand, with the slips that hands make."""

    name = NAMES["strip"]

    def __init__(self, reader: StripReader | None = None) -> None:
        self._reader = reader or StripReader()
        self.white_minutes: float | None = self._reader.calibration_minutes

    def read_row(
        self, sheet: PrintedChart, row: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        assert sheet.chart.rows is not None
        members = np.flatnonzero(sheet.chart.rows == row)
        seed = (_number(sheet), reading, row, attempt)
        spectra = printed(sheet)[members]
        return self._reader.read_row(spectra, seed, minutes_since_white, _spot(sheet))

    def read_all(self, sheet: PrintedChart, reading: int) -> Array:
        """Every patch (n, 36) with a careful hand, for demo data and tests."""
        return self._reader.measure(printed(sheet), (_number(sheet), reading, 17), _spot(sheet))


class StandinSheetReader:
    """A measuring table, or the reader inside the printer."""

    def __init__(self, method: str, reader: SheetReader | None = None) -> None:
        self.needs_corners = method == "table"
        self.name = NAMES[method]
        self._reader = reader or SheetReader("MT-0311" if method == "table" else "IR-2207")
        self.white_minutes: float | None = self._reader.calibration_minutes

    def corner(self, sheet: PrintedChart, which: int, number: int, reading: int, attempt: int) -> Array:
        random = np.random.default_rng([_number(sheet), number, reading])
        lies = random.uniform([5.0, 5.0], [60.0, 40.0])  # wherever the sheet was put on the table
        seed = (_number(sheet), number, reading, which, attempt)
        return self._reader.corner(layout_of(sheet.chart).corners(number)[which] + lies, seed)

    def read_sheet(
        self, sheet: PrintedChart, number: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        members = np.flatnonzero(sheet.chart.sheets == number)
        seed = (_number(sheet), reading, number, attempt, 3)
        spectra = printed(sheet)[members]
        return self._reader.read_sheet(spectra, seed, minutes_since_white, _spot(sheet))


def _number(sheet: PrintedChart) -> int:
    return int(sheet.ticket["seed"])


def _spot(sheet: PrintedChart) -> Any:
    """What one reading catches of the grain of this print."""
    return reading_spot(press_for(sheet.environment), layout_of(sheet.chart).dots)


def printed(sheet: PrintedChart) -> Array:
    """True reflectance (n, 36) of every patch of a print, wet or dry."""
    if sheet.wet <= 0:
        return _spectra(sheet, 0.0)
    # between dry and wet by density, so that a drying sheet need not be computed again every minute
    dry, wet = np.log(_spectra(sheet, 0.0)), np.log(_spectra(sheet, 1.0))
    return np.asarray(np.exp((1.0 - sheet.wet) * dry + sheet.wet * wet))


def _spectra(sheet: PrintedChart, wet: float) -> Array:
    ticket: Mapping[str, Any] = sheet.ticket
    drift = tuple(sorted((ticket.get("drift") or {}).items()))
    paper = tuple(ticket.get("paper") or (0.0, 0.0, 0.0))
    state = Condition(float(ticket.get("age_days", 0.0)), drift, wet, paper)
    return _sheet_spectra(_Print(sheet.chart, sheet.environment, _number(sheet), state, sheet.condition))


class _Print:
    """A print as a cache key: equal content, equal print."""

    def __init__(
        self, chart: ReadingSet, environment: PrintEnvironment, seed: int, state: Condition, condition: str
    ) -> None:
        self.chart, self.environment, self.seed = chart, environment, seed
        self.state, self.condition = state, condition
        self._key = (chart.content_hash(), environment.content_hash(), seed, state, condition)

    def __hash__(self) -> int:
        return hash(self._key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Print) and self._key == other._key


@lru_cache(maxsize=16)
def _sheet_spectra(job: _Print) -> Array:
    press = press_for(job.environment)
    spectra = printed_spectra(job.chart, press, job.seed, job.state, condition=job.condition)
    spectra.setflags(write=False)
    return spectra
