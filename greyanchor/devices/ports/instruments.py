"""What the application asks of instruments and of meters of light."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from greyanchor.core.colour.colorimetry import Array
from greyanchor.devices.ports.connections import Control, PrintedChart


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
