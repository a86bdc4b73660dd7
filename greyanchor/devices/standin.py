"""The stand-in printer and its three readers behind the ports."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from PIL import Image

from greyanchor.core.charts.layout import layout_of
from greyanchor.core.colour.colorimetry import Array, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation import faults
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.instrument import SheetReader, StripReader
from greyanchor.core.simulation.standin import Condition, printed_spectra, reading_spot
from greyanchor.devices.ports import PrintTicket


class StandInPrinter:
    """Prints nothing but a number: the sheet is computed again whenever it is looked at."""

    name = "stand-in printer"

    def __init__(self, behaviour: Mapping[str, Any] | None = None) -> None:
        self._behaviour = behaviour or {}

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        channels = press_for(environment).channels
        if chart.channels not in (tuple("CMYK"), channels):
            raise BadInput(
                f"the stand-in printer prints {' '.join(channels)}, not {' '.join(chart.channels)}"
            )
        chart.values()
        facts: dict[str, Any] = {"seed": number, "age_days": 0.0}
        if self._behaviour.get("drift"):
            facts["drift"] = self._behaviour["drift"]
        if any(self._behaviour.get("paper") or ()):
            facts["paper"] = self._behaviour["paper"]
        return PrintTicket(self.name, facts)

    @staticmethod
    def picture(environment: PrintEnvironment, raw: Array, number: int) -> bytes:
        """PNG of raw device values (n, channels) as a person sees them printed, side by side."""
        out = io.BytesIO()
        Image.fromarray(faults.picture(press_for(environment), raw, number)).save(
            out, format="PNG", optimize=True
        )
        return out.getvalue()

    @staticmethod
    def look(environment: PrintEnvironment, raw: Array) -> Array:
        """Lab (n, 3) of raw device values as the eye sees them; nothing is measured."""
        return spectra_to_lab(press_for(environment).spectra(raw))


@dataclass(frozen=True)
class Sheets:
    """A stand-in print as a reader meets it: `wet` is how much of its drying is still to come."""

    chart: ReadingSet
    environment: PrintEnvironment
    ticket: Mapping[str, Any]
    condition: str = "M1"
    wet: float = 0.0

    def spectra(self) -> Array:
        """True reflectance (n, 36) of every patch."""
        told = tuple(sorted((self.ticket.get("drift") or {}).items()))
        paper = tuple(self.ticket.get("paper") or (0.0, 0.0, 0.0))
        age = float(self.ticket.get("age_days", 0.0))

        def sheet(wet: float) -> Array:
            state = Condition(age, told, wet, paper)
            return _sheet_spectra(_Print(self.chart, self.environment, self.seed, state, self.condition))

        if self.wet <= 0:
            return sheet(0.0)
        # between dry and wet by density, so that a drying sheet need not be computed anew every minute
        return np.asarray(np.exp((1.0 - self.wet) * np.log(sheet(0.0)) + self.wet * np.log(sheet(1.0))))

    @property
    def seed(self) -> int:
        return int(self.ticket["seed"])

    @property
    def spot(self) -> Any:
        """What one reading catches of the grain of this print."""
        return reading_spot(press_for(self.environment), layout_of(self.chart).dots)


class StandInReader:
    """A strip reader placed on one print of the stand-in printer."""

    name = "stand-in strip reader SR-1042"

    def __init__(self, sheets: Sheets, reader: StripReader | None = None) -> None:
        self._sheets, self._reader = sheets, reader or StripReader()

    def read_row(self, row: int, reading: int, attempt: int, minutes_since_white: float | None) -> Array:
        chart = self._sheets.chart
        assert chart.rows is not None
        members = np.flatnonzero(chart.rows == row)
        seed = (self._sheets.seed, reading, row, attempt)
        return self._reader.read_row(
            self._sheets.spectra()[members], seed, minutes_since_white, self._sheets.spot
        )

    def read_all(self, reading: int) -> Array:
        """Every patch with a careful hand, for demo data and benchmarks."""
        return self._reader.measure(
            self._sheets.spectra(), (self._sheets.seed, reading, 17), self._sheets.spot
        )


class StandInSheetReader:
    """A measuring table, or the reader inside the printer, with one print of the stand-in printer."""

    def __init__(self, sheets: Sheets, method: str, reader: SheetReader | None = None) -> None:
        self._sheets = sheets
        self.needs_corners = method == "table"
        self.name = NAMES[method]
        self._reader = reader or SheetReader("MT-0311" if method == "table" else "IR-2207")

    def corner(self, which: int, sheet: int, reading: int, attempt: int) -> Array:
        layout = layout_of(self._sheets.chart)
        random = np.random.default_rng([self._sheets.seed, sheet, reading])
        lies = random.uniform([5.0, 5.0], [60.0, 40.0])  # wherever the sheet was put on the table
        seed = (self._sheets.seed, sheet, reading, which, attempt)
        return self._reader.corner(layout.corners(sheet)[which] + lies, seed)

    def read_sheet(self, sheet: int, reading: int, attempt: int, minutes_since_white: float | None) -> Array:
        chart = self._sheets.chart
        members = np.flatnonzero(chart.sheets == sheet)
        seed = (self._sheets.seed, reading, sheet, attempt, 3)
        return self._reader.read_sheet(
            self._sheets.spectra()[members], seed, minutes_since_white, self._sheets.spot
        )


NAMES = {
    "strip": StandInReader.name,
    "table": "stand-in measuring table MT-0311",
    "inline": "stand-in reader inside the printer IR-2207",
}


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
