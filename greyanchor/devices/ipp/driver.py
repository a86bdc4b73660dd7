"""The driver of printers that speak the Internet Printing Protocol."""

from __future__ import annotations

from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.ipp.queue import IppQueue
from greyanchor.devices.ports import Connection, Driver, Option, PrinterPort, PrintTicket, QueuePort


class IppPrinter:
    """A printer whose charts are printed from files; print files go to its queue."""

    name = "IPP printer"

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        """Charts have to be printed raw, which IPP alone does not promise."""
        raise BadInput("charts of this printer are printed from their files, raw; see the sheet's page")


class IppDriver(Driver):
    """Opens any printer that takes TIFF print files by IPP."""

    key = "ipp"
    title = "Printer by IPP"
    opens = frozenset({"printer"})
    charts = False
    options = (Option("address", "Address", "such as ipp://printer.example:631/ipp/print"),)

    def check(self, connection: Connection) -> None:
        super().check(connection)
        IppClient(connection.options["address"].strip())

    def printer(self, connection: Connection) -> PrinterPort:
        return IppPrinter()

    def queue(self, connection: Connection) -> QueuePort | None:
        return IppQueue(IppClient(connection.options["address"].strip()))


driver = IppDriver()
