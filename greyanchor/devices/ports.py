"""What the application asks of printers and instruments. docs/drivers.md shows how to write a driver.

A package offers a driver by the entry point group ``greyanchor.drivers``, which names an instance of a
subclass of `Driver`. Everything but `Driver` is a protocol: a class with these methods is enough.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

from greyanchor.core.colour.colorimetry import Array
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


# --- printers --------------------------------------------------------------------------------


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


@dataclass(frozen=True)
class Control:
    """Something of a simulated device that can be changed on its page."""

    key: str
    label: str
    value: float
    low: float
    high: float
    step: float = 1.0


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


# --- instruments -----------------------------------------------------------------------------


@runtime_checkable
class RowInstrumentPort(Protocol):
    """Reads rows of patches, one at a time, by hand."""

    name: str
    #: minutes that a white calibration holds; None for an instrument that needs none
    white_minutes: float | None

    def read_row(
        self, sheet: PrintedChart, row: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        """Spectra (n, 36) of a row, counted from 1, or transmission densities (n, 2); raises `NotReadable`
        with what to do with the hands.
        """
        ...


@runtime_checkable
class SheetInstrumentPort(Protocol):
    """Reads whole sheets alone."""

    name: str
    white_minutes: float | None
    needs_corners: bool

    def corner(self, sheet: PrintedChart, which: int, number: int, reading: int, attempt: int) -> Array:
        """Where the head stands (2,), mm, after a hand set it on corner `which` (0, 1, 2) of sheet
        `number`.
        """
        ...

    def read_sheet(
        self, sheet: PrintedChart, number: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        """Spectra (n, 36) of every patch of sheet `number`, or transmission densities (n, 2); raises
        `NotReadable`.
        """
        ...


@dataclass(frozen=True)
class Arrival:
    """A file that an instrument's own program delivered; `refused` says why it could not be read at all."""

    name: str
    data: bytes = b""
    refused: str = ""


@runtime_checkable
class FileInstrumentPort(Protocol):
    """An instrument with a program of its own, whose passes arrive as files."""

    name: str

    def arrivals(self) -> Iterator[Arrival]:
        """Files that are whole and were not put away yet."""
        ...

    def put_away(self, arrival: Arrival, taken: bool, reason: str = "") -> None:
        """The application is done with a file: it was used, or refused for a reason."""
        ...


@dataclass(frozen=True)
class LightReading:
    """A light as an instrument saw it: rising `wavelengths` in nm (n,) and `power` (n,), in W/m2/nm where
    `is_absolute`.
    """

    wavelengths: Array
    power: Array
    is_absolute: bool = True


@runtime_checkable
class LightMeterPort(Protocol):
    """Measures the light that falls on a place, through a diffuser."""

    name: str
    #: minutes for which it remembers what dark is; None for one that needs no calibration
    dark_minutes: float | None

    def zero(self, attempt: int) -> None:
        """Learn what dark is, with the cap on; raises `NotReadable` where light comes in."""
        ...

    def read_light(
        self, place: str, spot: int, attempt: int, minutes_since_dark: float | None
    ) -> LightReading:
        """The light in the middle of a place (spot 0) or at one of its corners (1 to 4); raises
        `NotReadable` with what to do with the hands.
        """
        ...


@runtime_checkable
class LightControlsPort(Protocol):
    """A simulated light meter, whose places can be changed."""

    def light_controls(self, place: str) -> list[Control]:
        """What can be changed of a place, as it stands."""
        ...

    def control_light(self, place: str, values: Mapping[str, float]) -> None:
        """Change it; `BadInput` for a value out of range, and then nothing is changed."""
        ...


InstrumentPort = RowInstrumentPort | SheetInstrumentPort | FileInstrumentPort


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
