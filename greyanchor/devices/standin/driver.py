"""The driver of the simulated devices."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.devices.ports import Connection, Driver, InstrumentPort, PrinterPort
from greyanchor.devices.standin.printer import StandinPrinter
from greyanchor.devices.standin.readers import StandinSheetReader, StandinStripReader

KEY = "standin"


class StandinDriver(Driver):
    """Opens simulated printers and the readers that can read their sheets, and no others."""

    key = KEY
    title = "Simulated devices"
    opens = frozenset({"printer", "strip", "table", "inline"})
    simulated = True

    def printer(self, connection: Connection) -> PrinterPort:
        return StandinPrinter(connection)

    def instrument(self, connection: Connection, method: str) -> InstrumentPort:
        return StandinStripReader() if method == "strip" else StandinSheetReader(method)

    def can_read(self, ticket: Mapping[str, Any]) -> bool:
        return ticket.get("driver") == self.key
