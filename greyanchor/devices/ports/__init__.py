"""What the application asks of printers and instruments. docs/drivers.md shows how to write a driver.

A package offers a driver by the entry point group ``greyanchor.drivers``, which names an instance of a
subclass of `Driver`. Everything but `Driver` is a protocol: a class with these methods is enough.
"""

from greyanchor.devices.ports.connections import (
    LIGHT,
    METHODS,
    Connection,
    Control,
    Machine,
    Option,
    PrintedChart,
    PrintTicket,
)
from greyanchor.devices.ports.drivers import Driver
from greyanchor.devices.ports.instruments import (
    Arrival,
    FileInstrumentPort,
    InstrumentPort,
    LightControlsPort,
    LightMeterPort,
    LightReading,
    RowInstrumentPort,
    SheetInstrumentPort,
)
from greyanchor.devices.ports.printers import (
    ControlsPort,
    MachineState,
    MemoryPort,
    PatternPort,
    PrinterPort,
    PrintState,
    QueuePort,
    ViewPort,
)

__all__ = [
    "LIGHT",
    "METHODS",
    "Arrival",
    "Connection",
    "Control",
    "ControlsPort",
    "Driver",
    "FileInstrumentPort",
    "InstrumentPort",
    "LightControlsPort",
    "LightMeterPort",
    "LightReading",
    "Machine",
    "MachineState",
    "MemoryPort",
    "Option",
    "PatternPort",
    "PrintState",
    "PrintTicket",
    "PrintedChart",
    "PrinterPort",
    "QueuePort",
    "RowInstrumentPort",
    "SheetInstrumentPort",
    "ViewPort",
]
