"""The memory of a printer, its slots for handling settings, by the Internet Printing Protocol.

A slot is a printer attribute ``handling-slot-N`` of our own: text, JSON of its name and values.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cached_property
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import Abilities, checked
from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.ipp.encoding import Tag, attribute, group
from greyanchor.devices.ipp.names import Operation

#: letters of a slot's name that a printer keeps
NAME = 24
_SLOT = "handling-slot-"


class IppMemory:
    """Slots by number, in the printer itself; see `devices.ports.MemoryPort`.

    `earlier` are slots by number, as they were kept before the printer had an address: a printer that holds
    none takes them over.
    """

    def __init__(
        self, client: IppClient, abilities: Abilities, slots: int, earlier: Mapping[str, Any] | None = None
    ) -> None:
        self.client, self.abilities, self.slots = client, abilities, slots
        self._earlier = earlier or {}

    @cached_property
    def _held(self) -> dict[int, dict[str, Any]]:
        """What the printer says, asked once."""
        found: dict[int, dict[str, Any]] = {}
        for name, held in self.client.printer().items():
            if name.startswith(_SLOT) and name[len(_SLOT) :].isdecimal():
                try:
                    slot = json.loads(str(held.value))
                    found[int(name[len(_SLOT) :])] = {
                        "name": str(slot["name"]),
                        "values": dict(slot["values"]),
                    }
                except (ValueError, KeyError, TypeError):
                    continue  # another program's slot is none of ours
        if not found and self._earlier:
            for number, slot in self._earlier.items():
                self._put(int(number), slot)
                found[int(number)] = dict(slot)
        return found

    def _put(self, number: int, slot: Mapping[str, Any]) -> None:
        self.client.ask(
            Operation.SET_PRINTER_ATTRIBUTES,
            printer=group(attribute(f"{_SLOT}{number}", Tag.TEXT, json.dumps(dict(slot)))),
        )

    def _checked(self, number: int) -> int:
        if not 1 <= number <= self.slots:
            raise BadInput(f"the machine has slots 1 to {self.slots}, not {number}")
        return number

    def send(self, number: int, name: str, values: Mapping[str, float]) -> None:
        """Fill a slot; `BadInput` for what the machine cannot do, and then the slot is as it was."""
        held = checked(values, self.abilities)
        slot = {
            "name": name[:NAME],
            "values": {key: self.abilities[key].nearest(value) for key, value in held.items()},
        }
        known = self._held
        self._put(self._checked(number), slot)
        known[number] = slot

    def read(self, number: int) -> tuple[str, dict[str, float]]:
        """Name and values of a slot; empty ones for a slot that was never filled."""
        found = self._held.get(self._checked(number))
        return (found["name"], dict(found["values"])) if found else ("", {})

    def tune(self, number: int, key: str, value: float) -> None:
        """Change one value, as at the machine's own panel."""
        found = self._held.get(self._checked(number))
        if not found:
            raise BadInput(f"slot {number} is empty; send settings to it first")
        held = checked({key: value}, self.abilities)
        self.send(number, found["name"], {**found["values"], key: held[key]})
