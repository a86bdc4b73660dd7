"""How a device is reached, and what passes through it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.handling import Abilities

#: measuring methods that a chart is laid out for, as `core.charts.layout.METHODS` names them
METHODS = ("strip", "table", "inline")
#: what a meter of viewing lights is opened for
LIGHT = "light"


@dataclass(frozen=True)
class Option:
    """One thing that a connection has to say, a line of text: a folder, an address, a port."""

    key: str
    label: str
    help: str = ""
    required: bool = True


@dataclass(frozen=True)
class Machine:
    """A printer as its driver meets it; `media` and `thickness` (µm) are what is loaded."""

    name: str
    model: str
    serial: str
    abilities: Abilities = field(default_factory=dict)
    slots: int = 0
    media: str = ""
    thickness: float = 200.0


@dataclass(frozen=True)
class Connection:
    """How a device is reached.

    Attributes
    ----------
    options
        What a person entered, by the key of each `Option`.
    state
        What the driver remembers between calls; it changes in place and is stored by the application.
        Plain values for JSON.
    home
        A folder of the application that drivers may use; options that name folders are inside it.
    machine
        The printer; None for an instrument.
    """

    options: Mapping[str, str]
    state: dict[str, Any]
    home: Path
    machine: Machine | None = None

    def folder(self, key: str) -> Path:
        """The folder that an option names, inside `home`; `BadInput` where it would lie elsewhere."""
        name = str(self.options.get(key, "")).strip()
        found = (self.home / name).resolve()
        if not name or Path(name).is_absolute() or not found.is_relative_to(self.home.resolve()):
            raise BadInput(
                f"{name or 'nothing'} is not a folder inside {self.home}: name one like petrel-sheets"
            )
        return found


@dataclass(frozen=True)
class PrintTicket:
    """What is stored with a print so that it can be found again: plain values for JSON."""

    device: str
    facts: dict[str, Any]


@dataclass(frozen=True)
class PrintedChart:
    """A print as an instrument meets it.

    `chart` has raw device values, `ticket` are the facts of its `PrintTicket` with the key of its driver
    under
    ``driver``, `condition` is the measurement condition, `wet` how much of its drying is still to come, 0..1.
    """

    chart: ReadingSet
    environment: PrintEnvironment
    ticket: Mapping[str, Any]
    condition: str = "M1"
    wet: float = 0.0


@dataclass(frozen=True)
class Control:
    """Something of a simulated device that can be changed on its page."""

    key: str
    label: str
    value: float
    low: float
    high: float
    step: float = 1.0
