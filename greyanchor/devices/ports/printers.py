"""What the application asks of printers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol, runtime_checkable

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ports.connections import Control, PrintTicket


class PrinterPort(Protocol):
    """Prints charts, raw."""

    name: str

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        """Print `chart` (raw device values) under `environment`; `number` distinguishes prints.

        `BadInput` says what the printer cannot do; then nothing was printed.
        """
        ...


@runtime_checkable
class MemoryPort(Protocol):
    """A printer that keeps handling settings in numbered slots."""

    def send(self, number: int, name: str, values: Mapping[str, float]) -> None:
        """Fill a slot; `BadInput` for what the machine cannot do, and then the slot is as it was."""
        ...

    def read(self, number: int) -> tuple[str, dict[str, float]]:
        """Name and values of a slot; empty ones for a slot that was never filled."""
        ...


@runtime_checkable
class PatternPort(Protocol):
    """A printer whose readiness patterns are known to the application once they are printed."""

    #: nozzles of one ink on the nozzle pattern
    nozzles: int

    def closed(self, channel: str, day: int, cleanings: int) -> list[int]:
        """Nozzles of an ink that print nothing; `day` is a date as an ordinal, after so many cleanings."""
        ...

    def misfit(self, setting: str, values: Sequence[float], unit: float) -> Array:
        """What is to be seen at each value of a setting (n,), -1 much too little to 1 much too much."""
        ...

    def read_misfit(self, setting: str, values: Sequence[float], unit: float, sheet: int) -> Array:
        """The same as an instrument reads it, without its sign (n,)."""
        ...


@runtime_checkable
class ViewPort(Protocol):
    """A printer whose prints can be looked at on screen."""

    def picture(self, environment: PrintEnvironment, raw: Array, number: int) -> bytes:
        """PNG of raw device values (n, channels) as they print, side by side."""
        ...

    def look(self, environment: PrintEnvironment, raw: Array) -> Array:
        """Lab (n, 3) of raw device values as the eye sees them."""
        ...

    def see_print(
        self,
        environment: PrintEnvironment,
        raw: Array,
        pixel_mm: float,
        handling: Mapping[str, float],
        number: int,
    ) -> Array:
        """sRGB bytes (rows, columns, 3) of a print: `raw` are amounts of ink (rows, columns, inks) of pixels
        of a size, `handling` what it was printed with.
        """
        ...


@dataclass(frozen=True)
class MachineState:
    """What a printer says of itself.

    Attributes
    ----------
    state
        ``idle``, ``printing`` or ``stopped``.
    reasons
        Why it is as it is, in words; empty for nothing out of the ordinary.
    media, width_mm, length_mm
        What is in it, how wide, how much is left; None where it does not say.
    inks
        What is left of each ink, percent.
    model, ink_set
        What it says it is; empty where it does not.
    is_paused
        Whether somebody paused it.
    other_sets
        Ink sets that are part of what runs in it, and can be printed as well.
    """

    state: str
    reasons: tuple[str, ...] = ()
    media: str = ""
    width_mm: float | None = None
    length_mm: float | None = None
    inks: Mapping[str, float] = field(default_factory=dict)
    model: str = ""
    ink_set: str = ""
    is_paused: bool = False
    other_sets: tuple[str, ...] = ()

    @property
    def metres(self) -> float | None:
        """Media that is left."""
        return None if self.length_mm is None else self.length_mm / 1000.0


@dataclass(frozen=True)
class PrintState:
    """A print at the printer.

    Attributes
    ----------
    number
        As the printer counts.
    state
        ``incoming`` without its document, ``waiting``, ``held``, ``printing``, ``stopped``, ``cancelled``,
        ``failed`` or ``done``.
    reason
        In words.
    share
        What of it is printed, 0..1; None where the printer does not say.
    seconds_left
        Until it is printed; None where the printer does not say.
    media_mm, ink_ml
        What it used so far.
    """

    number: int
    state: str
    reason: str = ""
    share: float | None = None
    seconds_left: float | None = None
    media_mm: float | None = None
    ink_ml: Mapping[str, float] = field(default_factory=dict)


class QueuePort(Protocol):
    """A printer that takes print files, one after another.

    All raise `BadInput` where the printer refuses, and `devices.ipp.client.NoAnswer`, which is one, where it
    does not answer: then it is not known what it did.
    """

    def machine(self) -> MachineState:
        """What it says of itself."""
        ...

    def send(self, key: str, name: str, path: Path) -> int:
        """Hand a print file over; its number. `key` is the print's own: a print that is there already is not
        sent again, and one whose document did not arrive gets it.
        """
        ...

    def find(self, key: str) -> PrintState | None:
        """The print of a key; None where the printer has none that may still leave ink on media, or did."""
        ...

    def state_of(self, number: int) -> PrintState:
        """How a print goes."""
        ...

    def act(self, number: int, what: str) -> None:
        """``cancel``, ``hold`` or ``release`` a print."""
        ...

    def pause(self, is_paused: bool) -> None:
        """Stop the machine after what it can finish, or let it go on; `BadInput` where it cannot."""
        ...

    def picture(self, number: int) -> bytes:
        """PNG of the print as it lies on the table; empty where there is none."""
        ...


@runtime_checkable
class ControlsPort(Protocol):
    """A simulated device whose behaviour can be changed."""

    def controls(self) -> list[Control]:
        """What can be changed, as it stands."""
        ...

    def control(self, values: Mapping[str, float]) -> None:
        """Change it; `BadInput` for a value out of range, and then nothing is changed."""
        ...

    def tune(self, number: int, key: str, value: float) -> None:
        """Change one value of a memory slot, as somebody does at the panel of a machine."""
        ...
