"""The driver of printers and instruments that are reached by folders."""

from __future__ import annotations

from greyanchor.devices.folder.instrument import FolderInstrument
from greyanchor.devices.folder.printer import FolderPrinter
from greyanchor.devices.ports import Connection, Driver, InstrumentPort, Option, PrinterPort


class FolderDriver(Driver):
    """A printer whose own program prints what is put into a folder, and instruments that write files into
    one.
    """

    key = "folder"
    title = "Folder"
    options = (Option("folder", "Folder", "inside the folder of devices, for example petrel-sheets"),)
    opens = frozenset({"printer", "strip", "table", "inline"})

    def check(self, connection: Connection) -> None:
        super().check(connection)
        connection.folder("folder")

    def printer(self, connection: Connection) -> PrinterPort:
        return FolderPrinter(connection.folder("folder"))

    def instrument(self, connection: Connection, method: str) -> InstrumentPort:
        return FolderInstrument(connection.folder("folder"))
