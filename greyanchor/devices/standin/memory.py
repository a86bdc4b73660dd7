"""The memory of the simulated printer: slots that hold handling settings, as a machine holds them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import Abilities, checked

#: letters of a slot's name that the machine keeps
NAME = 24


class SlotMemory:
    """Slots by number. What is sent lands on the steps of the machine; what is tuned at its panel stays until
    it is sent again.

    `state` is what is stored between times; it changes in place.
    """

    def __init__(self, state: dict[str, Any], abilities: Abilities, slots: int) -> None:
        self.state, self.abilities, self.slots = state, abilities, slots

    def _slot(self, number: int) -> str:
        if not 1 <= number <= self.slots:
            raise BadInput(f"the machine has slots 1 to {self.slots}, not {number}")
        return str(number)

    def send(self, number: int, name: str, values: Mapping[str, float]) -> None:
        """Fill a slot; `BadInput` for what the machine cannot do, and then the slot is as it was."""
        held = checked(values, self.abilities)
        self.state[self._slot(number)] = {
            "name": name[:NAME],
            "values": {key: self.abilities[key].nearest(value) for key, value in held.items()},
        }

    def read(self, number: int) -> tuple[str, dict[str, float]]:
        """Name and values of a slot; empty ones for a slot that was never filled."""
        found = self.state.get(self._slot(number))
        return (found["name"], dict(found["values"])) if found else ("", {})

    def tune(self, number: int, key: str, value: float) -> None:
        """Change one value at the machine's own panel."""
        slot = self._slot(number)
        if slot not in self.state:
            raise BadInput(f"slot {number} is empty; send settings to it first")
        held = checked({key: value}, self.abilities)
        self.state[slot]["values"][key] = self.abilities[key].nearest(held[key])
