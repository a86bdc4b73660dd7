"""The driver of the simulated devices."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.ipp.queue import IppQueue
from greyanchor.devices.ports import Connection, Driver, InstrumentPort, Option, PrinterPort, QueuePort
from greyanchor.devices.standin.printer import StandinPrinter
from greyanchor.devices.standin.readers import StandinSheetReader, StandinStripReader

KEY = "standin"


class StandinDriver(Driver):
    """Opens simulated printers and the readers that can read their sheets, and no others."""

    key = KEY
    title = "Simulated devices"
    opens = frozenset({"printer", "strip", "table", "inline"})
    simulated = True
    options = (
        Option(
            "address",
            "Address of its print server",
            "such as ipp://127.0.0.1:8631/ipp/print; without one it prints charts alone",
            required=False,
        ),
    )

    def check(self, connection: Connection) -> None:
        super().check(connection)
        if address := str(connection.options.get("address", "")).strip():
            IppClient(address)

    def queue(self, connection: Connection) -> QueuePort | None:
        address = str(connection.options.get("address", "")).strip()
        return IppQueue(IppClient(address)) if address else None

    def printer(self, connection: Connection) -> PrinterPort:
        return StandinPrinter(connection)

    def instrument(self, connection: Connection, method: str) -> InstrumentPort:
        return StandinStripReader() if method == "strip" else StandinSheetReader(method)

    def can_read(self, ticket: Mapping[str, Any]) -> bool:
        return ticket.get("driver") == self.key
