"""A made-up printer, the Lantern: its own program prints every CGATS file that lies in one of its trays."""

from __future__ import annotations

from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ports import Connection, Driver, Option, PrinterPort, PrintTicket

TRAYS = ("north", "south")


class LanternPrinter:
    """Puts each chart into a tray, under its number."""

    name = "Lantern"

    def __init__(self, tray: Path, state: dict[str, int]) -> None:
        self._tray, self._state = tray, state

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        if chart.channels != tuple("CMYK"):
            raise BadInput(f"the Lantern prints C M Y K, not {' '.join(chart.channels)}")
        self._tray.mkdir(parents=True, exist_ok=True)
        (self._tray / f"{number}.txt").write_text(cgats.dumps(chart), encoding="utf-8")
        self._state["prints"] = self._state.get("prints", 0) + 1
        return PrintTicket(self.name, {"number": number, "tray": self._tray.name})


class LanternDriver(Driver):
    """Reaches a tray of the Lantern; it has no instrument, so readings come as files."""

    key = "lantern"
    title = "Lantern trays"
    options = (Option("tray", "Tray", "north or south"),)
    opens = frozenset({"printer"})

    def check(self, connection: Connection) -> None:
        super().check(connection)
        if connection.options["tray"] not in TRAYS:
            raise BadInput(
                f"the Lantern has the trays {' and '.join(TRAYS)}, not {connection.options['tray']}"
            )

    def printer(self, connection: Connection) -> PrinterPort:
        return LanternPrinter(connection.folder("tray"), connection.state)


driver = LanternDriver()
