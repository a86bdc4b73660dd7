"""The stand-in printer and strip reader behind the ports."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.core.colorimetry import Array
from greyanchor.core.environment import PrintEnvironment
from greyanchor.core.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.standin import printed_spectra
from greyanchor.devices.ports import PrintTicket


class StandInPrinter:
    """Prints nothing but a number: the sheet is computed again whenever it is looked at."""

    name = "stand-in printer"

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        chart.values()
        return PrintTicket(self.name, {"seed": number, "age_days": 0.0})


class StandInReader:
    """A strip reader placed on one print of the stand-in printer."""

    name = "stand-in strip reader SR-1042"

    def __init__(
        self,
        chart: ReadingSet,
        environment: PrintEnvironment,
        ticket: Mapping[str, Any],
        reader: StripReader | None = None,
    ) -> None:
        self._chart = chart
        self._reader = reader or StripReader()
        self._seed = int(ticket["seed"])
        self._spectra = _sheet_spectra(
            _Print(chart, environment, self._seed, float(ticket.get("age_days", 0.0)))
        )

    def read_row(self, row: int, reading: int, attempt: int, minutes_since_white: float | None) -> Array:
        assert self._chart.rows is not None
        members = np.flatnonzero(self._chart.rows == row)
        return self._reader.read_row(
            self._spectra[members], (self._seed, reading, row, attempt), minutes_since_white
        )

    def read_all(self, reading: int) -> Array:
        """Every patch with a careful hand, for demo data and benchmarks."""
        return self._reader.measure(self._spectra, (self._seed, reading, 17))


class _Print:
    """A print as a cache key: equal content, equal print."""

    def __init__(self, chart: ReadingSet, environment: PrintEnvironment, seed: int, age_days: float) -> None:
        self.chart, self.environment, self.seed, self.age_days = chart, environment, seed, age_days
        self._key = (chart.content_hash(), environment.content_hash(), seed, age_days)

    def __hash__(self) -> int:
        return hash(self._key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Print) and self._key == other._key


@lru_cache(maxsize=8)
def _sheet_spectra(job: _Print) -> Array:
    spectra = printed_spectra(job.chart, press_for(job.environment), job.seed, job.age_days)
    spectra.setflags(write=False)
    return spectra
