"""The simulated transmission densitometer: films on a light, row by row."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.printing.film_screen import parse_solid
from greyanchor.core.simulation.film import FilmPress, film_named, read_film
from greyanchor.core.simulation.standin import Condition
from greyanchor.devices.ports import Connection, Driver, InstrumentPort, PrintedChart
from greyanchor.devices.standin.driver import KEY as PRINTER_KEY

#: minutes for which its zero holds
_ZERO_MINUTES = 60.0
_SLIPS = 0.03


class StandinDensitometer:
    """Led over the rows of a film by hand, with the slips that hands make; it gives transmission densities
    (n, 2), visual and UV.
    """

    name = "stand-in transmission densitometer TD-0508"

    def __init__(self, slips: float = _SLIPS) -> None:
        self.white_minutes: float | None = _ZERO_MINUTES
        self._slips = slips

    def read_row(
        self, sheet: PrintedChart, row: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        if minutes_since_white is None or minutes_since_white > _ZERO_MINUTES:
            raise NotReadable(
                "the densitometer is not at zero: set it to zero on the bare light, then read the row"
            )
        assert sheet.chart.rows is not None
        seed = (int(sheet.ticket["seed"]), reading, row, attempt, 5)
        seen = read_film(densities_of(sheet)[sheet.chart.rows == row], seed)
        random = np.random.default_rng([*seed, 1])
        if random.random() >= self._slips or len(seen) < 4:
            return seen
        return seen[::-1] if random.random() < 0.5 else seen[:-1]

    def read_all(self, sheet: PrintedChart, reading: int) -> Array:
        """Every patch (n, 2) with a careful hand, for demo data and tests."""
        return read_film(densities_of(sheet), (int(sheet.ticket["seed"]), reading, 19))


def densities_of(sheet: PrintedChart) -> Array:
    """True densities (n, 2) of every patch of a film."""
    film = film_named(sheet.environment.media)
    if film is None:
        raise BadInput(f"{sheet.environment.media} lets no light through")
    ticket: Mapping[str, Any] = sheet.ticket
    drift = tuple(sorted((ticket.get("drift") or {}).items()))
    solid = parse_solid(str(ticket.get("solid") or ""))
    press = FilmPress(film, sheet.environment)
    return press.densities(sheet.chart, int(ticket["seed"]), Condition(drift=drift, wet=sheet.wet), solid)


class DensitometerDriver(Driver):
    """Opens the simulated transmission densitometer, which reads films of simulated printers."""

    key = "standin-densitometer"
    title = "Simulated transmission densitometer"
    opens = frozenset({"strip"})
    transmission = True
    simulated = True

    def instrument(self, connection: Connection, method: str) -> InstrumentPort:
        if method != "strip":
            return super().instrument(connection, method)
        return StandinDensitometer()

    def can_read(self, ticket: Mapping[str, Any]) -> bool:
        return ticket.get("driver") == PRINTER_KEY


driver = DensitometerDriver()
