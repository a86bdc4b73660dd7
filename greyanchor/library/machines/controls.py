"""Simulated machines: their behaviour changed from their page."""

from __future__ import annotations

from collections.abc import Mapping

from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.devices.ports import Control, ControlsPort
from greyanchor.library.machines.connections import opened, printer_port
from greyanchor.library.models import Printer


def controls_of(printer: Printer) -> list[Control]:
    """What can be changed of the simulation behind a printer; empty for a real machine."""
    port = printer_port(printer)
    return port.controls() if isinstance(port, ControlsPort) else []


@needs(MAKE)
@transaction.atomic
def set_controls(printer: Printer, values: Mapping[str, float]) -> None:
    """Change how a simulated machine behaves from now on."""
    with opened(printer) as port:
        if not isinstance(port, ControlsPort):
            raise BadInput(f"{printer.name} is not simulated; it behaves as it does")
        port.control(values)


@needs(MAKE)
@transaction.atomic
def tune(printer: Printer, number: int, key: str, value: float) -> None:
    """Change a value at the panel of a simulated machine, as a technician does at a real one."""
    with opened(printer) as port:
        if not isinstance(port, ControlsPort):
            raise BadInput(f"{printer.name} is not simulated; tune it at its own panel")
        port.tune(number, key, value)
