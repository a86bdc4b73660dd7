"""What an installed driver is."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.devices.ports.connections import Connection, Option
from greyanchor.devices.ports.instruments import InstrumentPort, LightMeterPort
from greyanchor.devices.ports.printers import PrinterPort, QueuePort


class Driver:
    """What an installed driver is: it opens printers, instruments, or both. Subclass it."""

    #: stored with every connection; never change it
    key: str = ""
    title: str = ""
    #: what a connection has to say
    options: tuple[Option, ...] = ()
    #: what it opens: "printer", the measuring methods of `METHODS`, and `LIGHT`
    opens: frozenset[str] = frozenset()
    #: whether its printers print charts; others take print files alone
    charts: bool = True
    #: whether its instruments read films by the light they let through, and give transmission densities
    #: (n, 2), visual and UV, in place of spectra; others read what light is reflected
    transmission: bool = False
    #: devices that are computed: their sheets need not wait until they are dry
    simulated: bool = False

    def check(self, connection: Connection) -> None:
        """Raise `BadInput` for options that cannot work, before a connection is kept."""
        for option in self.options:
            if option.required and not str(connection.options.get(option.key, "")).strip():
                raise BadInput(f"{self.title} needs: {option.label}")

    def printer(self, connection: Connection) -> PrinterPort:
        """The printer behind a connection."""
        raise BadInput(f"{self.title} has no printer")

    def queue(self, connection: Connection) -> QueuePort | None:
        """Where the printer behind a connection takes print files; None where it does not."""
        return None

    def instrument(self, connection: Connection, method: str) -> InstrumentPort:
        """The instrument behind a connection, for a measuring method."""
        raise BadInput(f"{self.title} has no instrument that reads by {method}")

    def light_meter(self, connection: Connection) -> LightMeterPort:
        """The meter of viewing lights behind a connection."""
        raise BadInput(f"{self.title} has no light meter")

    def can_read(self, ticket: Mapping[str, Any]) -> bool:
        """Whether its instruments can read a print; real ones read any."""
        return True
