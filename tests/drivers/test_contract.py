"""Every installed driver keeps to the contract, and the contract notices one that does not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from greyanchor.core.calibration.film import SHORT, dot_chart
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.film_screen import SOLID, solid_text
from greyanchor.devices.contract import ContractBroken, check_driver, check_reader
from greyanchor.devices.folder.driver import FolderDriver
from greyanchor.devices.folder.instrument import FolderInstrument
from greyanchor.devices.ports import Arrival, Connection, Driver, Option, PrintedChart, PrintTicket
from greyanchor.devices.registry import driver_named, drivers, drivers_for
from greyanchor.devices.standin.densitometer import StandinDensitometer
from greyanchor.devices.standin.driver import StandinDriver
from greyanchor.devices.standin.printer import StandinPrinter
from greyanchor.devices.standin.readers import StandinStripReader
from tests.drivers.devices import ENVIRONMENT, connection, deliver


@pytest.mark.parametrize("key", sorted(drivers()))
def test_every_installed_driver_keeps_to_the_contract(key: str, tmp_path: Path) -> None:
    check_driver(driver_named(key), connection(key, tmp_path), ENVIRONMENT, deliver)


def test_the_registry_says_what_there_is(tmp_path: Path) -> None:
    assert {"standin", "folder"} <= set(drivers())
    assert {d.key for d in drivers_for("printer")} >= {"standin", "folder"}
    assert drivers_for("no such method") == []
    with pytest.raises(BadInput, match=r"driver abacus is not installed here; installed are .*folder"):
        driver_named("abacus")


# --- drivers that break one rule each --------------------------------------------------------


class WithPrinter(StandinDriver):
    """The simulated devices with another printer."""

    def __init__(self, printer: type[StandinPrinter]) -> None:
        self.made = printer

    def printer(self, connection: Connection) -> StandinPrinter:
        return self.made(connection)


class WithReader(StandinDriver):
    """The simulated devices with another strip reader."""

    def __init__(self, reader: type[StandinStripReader]) -> None:
        self.made = reader

    def instrument(self, connection: Connection, method: str) -> Any:
        return self.made() if method == "strip" else super().instrument(connection, method)


class SameTicket(StandinPrinter):
    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        return super().print_chart(chart, environment, 7)


class NoPlainFacts(StandinPrinter):
    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        ticket = super().print_chart(chart, environment, number)
        return replace(ticket, facts={**ticket.facts, "number": np.float64(number), "at": {1, 2}})


class ChangesTheChart(StandinPrinter):
    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        ticket = super().print_chart(chart, environment, number)
        object.__setattr__(chart, "device", chart.values() * 0.5)
        return ticket


class AnySlot(StandinPrinter):
    def send(self, number: int, name: str, values: Mapping[str, float]) -> None:
        super().send(number if number > 0 else 1, name, values)


class ForgetsHalf(StandinPrinter):
    def read(self, number: int) -> tuple[str, dict[str, float]]:
        name, held = super().read(number)
        return name, dict(list(held.items())[:1])


class WideMisfit(StandinPrinter):
    def misfit(self, setting: str, values: Any, unit: float) -> Array:
        return np.full(len(values), 3.0)


class NoPicture(StandinPrinter):
    def picture(self, environment: PrintEnvironment, raw: Array, number: int) -> bytes:
        return b"<svg/>"


class AnyDrift(StandinPrinter):
    def control(self, values: Mapping[str, float]) -> None:
        self._state["drift"] = {c: values.get(c, 100.0) / 100.0 for c in "CMYK"}


class ShortRow(StandinStripReader):
    def read_row(self, sheet: PrintedChart, *where: Any) -> Array:
        return super().read_row(sheet, *where)[:-1]


class Percent(StandinStripReader):
    def read_row(self, sheet: PrintedChart, *where: Any) -> Array:
        return super().read_row(sheet, *where) * 100.0


class NeedsNoWhite(StandinStripReader):
    def read_row(
        self, sheet: PrintedChart, row: int, reading: int, attempt: int, minutes_since_white: float | None
    ) -> Array:
        return super().read_row(sheet, row, reading, attempt, 0.0)


class Guessing(StandinStripReader):
    def read_row(self, sheet: PrintedChart, row: int, reading: int, *rest: Any) -> Array:
        return super().read_row(sheet, row, reading, *rest) * (1.0 if reading == 1 else 0.5)


class Nameless(StandinDriver):
    key = " "


class Unknown(StandinDriver):
    opens = frozenset({"printer", "by scent"})


class Lenient(FolderDriver):
    def check(self, connection: Connection) -> None:
        return None


class TwoOfOneKey(FolderDriver):
    options = (Option("folder", "Folder"), Option("folder", "Another"))


class Crashing(Driver):
    """Opens nothing but a strip reader, and falls over when it is asked for another."""

    key, title, opens = "crashing", "Crashing", frozenset({"strip"})

    def instrument(self, connection: Connection, method: str) -> Any:
        return {"strip": StandinStripReader()}[method]


class WithFiles(FolderDriver):
    """Folders with another instrument."""

    def __init__(self, instrument: type[FolderInstrument]) -> None:
        self.made = instrument

    def instrument(self, connection: Connection, method: str) -> Any:
        return self.made(connection.folder("folder"))


class NeverPutAway(FolderInstrument):
    def put_away(self, arrival: Arrival, taken: bool, reason: str = "") -> None:
        return None


class Trimmed(FolderInstrument):
    def arrivals(self) -> Any:
        return (replace(a, data=a.data.strip()) for a in super().arrivals())


@pytest.mark.parametrize(
    ("key", "broken", "sentence"),
    [
        ("standin", WithPrinter(SameTicket), "prints of two numbers have the same ticket"),
        ("standin", WithPrinter(NoPlainFacts), "not made of plain values"),
        ("standin", WithPrinter(ChangesTheChart), "printing changed the chart"),
        ("standin", WithPrinter(AnySlot), "slot 0: not refused"),
        ("standin", WithPrinter(ForgetsHalf), "slot 1 holds"),
        ("standin", WithPrinter(WideMisfit), "outside -1..1"),
        ("standin", WithPrinter(NoPicture), "a picture is a PNG"),
        ("standin", WithPrinter(AnyDrift), "beyond its range: not refused"),
        ("standin", WithReader(ShortRow), "spectra are"),
        ("standin", WithReader(Percent), "reflectance lies outside"),
        ("standin", WithReader(NeedsNoWhite), "white calibration is missing"),
        ("standin", WithReader(Guessing), "two readings of one print do not agree"),
        ("standin", Nameless(), "the key is a word"),
        ("standin", Unknown(), "by scent"),
        ("standin", Crashing(), "KeyError in place of BadInput"),
        ("folder", Lenient(), "options without folder: not refused"),
        ("folder", TwoOfOneKey(), "two options have one key"),
        ("folder", WithFiles(NeverPutAway), "arrives again"),
        ("folder", WithFiles(Trimmed), "did not arrive as delivered"),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_a_broken_driver_is_noticed(key: str, broken: Driver, sentence: str, tmp_path: Path) -> None:
    with pytest.raises(ContractBroken, match=sentence):
        check_driver(broken, connection(key, tmp_path), ENVIRONMENT, deliver)


# --- folders ---------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["", "..", "../elsewhere", "/tmp/elsewhere"])
def test_a_folder_outside_the_devices_folder_is_refused(name: str, tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="(?i)folder"):
        FolderDriver().check(Connection({"folder": name}, {}, tmp_path / "devices"))


def test_a_print_that_cannot_be_written_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from greyanchor.devices.contract import sample_chart
    from greyanchor.devices.folder import printer

    def full(*_: object) -> bytes:
        raise OSError(28, "No space left on device")

    port = FolderDriver().printer(connection("folder", tmp_path))
    monkeypatch.setattr(printer.sheet_pdf, "pdf", full)
    with pytest.raises(BadInput, match="cannot be written .*No space left"):
        port.print_chart(sample_chart(), ENVIRONMENT, 5)
    assert list((tmp_path / "petrel").iterdir()) == []
    monkeypatch.undo()
    port.print_chart(sample_chart(), ENVIRONMENT, 5)
    with pytest.raises(BadInput, match="is in the folder already"):
        port.print_chart(sample_chart(), ENVIRONMENT, 5)


def test_the_densitometer_gives_densities_of_films(tmp_path: Path) -> None:
    """It reads films of the simulated printer, and its readings keep to the contract as any other's."""
    chart, _ = lay_out(dot_chart(SHORT), ("K",))
    chart = replace(chart, meta={**chart.meta, SOLID: solid_text({"K": 90.0})})
    environment = PrintEnvironment(
        "Petrel 44", "Tarn pigment, films", "Clearwater Film 125", screen="am:lpi=60,dot=round"
    )
    ticket = StandinPrinter(connection("standin", tmp_path)).print_chart(chart, environment, 77)
    sheet = PrintedChart(chart, environment, {**ticket.facts, "driver": "standin"}, "T")
    check_reader(StandinDensitometer(slips=0.0), sheet, transmission=True)
    with pytest.raises(ContractBroken, match="spectra are"):
        check_reader(StandinDensitometer(slips=0.0), sheet)
