"""What every driver keeps to. Its author runs `check_driver` in a test of the driver; docs/drivers.md.

Each function raises `ContractBroken` with a sentence for the first thing that is not so.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

import numpy as np

from greyanchor.core.charts.layout import lay_out, layout_of
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.transmission import HIGHEST, LOWEST
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ports import (
    LIGHT,
    METHODS,
    Connection,
    ControlsPort,
    Driver,
    FileInstrumentPort,
    LightMeterPort,
    Machine,
    MemoryPort,
    PatternPort,
    PrintedChart,
    PrintTicket,
    RowInstrumentPort,
    SheetInstrumentPort,
    ViewPort,
)

#: how often a reading may go wrong before an instrument is taken to read nothing
ATTEMPTS = 8
#: reflectance factors an instrument may give: brightened paper reflects more than falls on it
REFLECTANCE = (-0.01, 2.0)
_BANDS = 36


class ContractBroken(AssertionError):
    """A driver does not keep to the contract."""


def _hold(condition: bool, sentence: str) -> None:
    if not condition:
        raise ContractBroken(sentence)


def sample_chart() -> ReadingSet:
    """A chart of forty patches of C M Y K for a strip reader, raw values, without readings."""
    ramps = np.repeat(np.linspace(0.1, 1.0, 10), 4)[:, None] * np.tile(np.eye(4), (10, 1))
    return lay_out(ramps, tuple("CMYK"), meta={"DESCRIPTOR": "Contract chart"})[0]


def check_driver(
    driver: Driver,
    connection: Connection,
    environment: PrintEnvironment,
    deliver: Callable[[Connection, str, bytes], None] | None = None,
) -> None:
    """Hold a driver to everything that it opens.

    Parameters
    ----------
    connection
        Options that work. Its `machine` is the printer, for a driver that opens one.
    environment
        One that the printer can print under.
    deliver
        Brings a file to an instrument whose passes arrive as files, as its own program does.
    """
    check_description(driver, connection)
    ticket: dict[str, Any] = {}
    if "printer" in driver.opens and driver.charts:
        ticket = check_printer(driver, connection, environment)
    elif "printer" in driver.opens:
        check_queue_alone(driver, connection, environment)
    if LIGHT in driver.opens:
        check_light_meter(driver.light_meter(Connection(connection.options, {}, connection.home)))
    else:
        refuses(partial(driver.light_meter, connection), "a light meter")
    for method in METHODS:
        if method not in driver.opens:
            refuses(partial(driver.instrument, connection, method), f"an instrument for {method}")
            continue
        port = driver.instrument(Connection(connection.options, {}, connection.home), method)
        if isinstance(port, FileInstrumentPort):
            if deliver is None:
                raise ContractBroken("a driver of file instruments is checked with `deliver`")
            check_file_instrument(port, partial(deliver, connection))
        elif ticket and driver.can_read(ticket):
            chart = lay_out(sample_chart().values(), tuple("CMYK"), method=method)[0]
            check_reader(port, PrintedChart(chart, environment, ticket), driver.transmission)


def check_light_meter(port: LightMeterPort) -> None:
    """A meter of viewing lights, as a careful hand leads it."""
    _hold(isinstance(port, LightMeterPort), "light_meter gives a LightMeterPort")
    _hold(bool(port.name), "a light meter has a name")
    since = None
    if port.dark_minutes is not None:
        _hold(port.dark_minutes > 0, "it remembers what dark is for some minutes")
        refuses(partial(port.read_light, "Contract", 0, 0, None), "a light before it knows what dark is")
        _until_read(port.zero)
        since = 0.0
    found = _until_read(lambda attempt: port.read_light("Contract", 0, attempt, since))
    nm, power = np.asarray(found.wavelengths), np.asarray(found.power)
    _hold(nm.ndim == 1 and nm.shape == power.shape, "a light has one power for each wavelength")
    _hold(bool((np.diff(nm) > 0).all()), "the wavelengths of a light rise")
    _hold(bool(np.isfinite(power).all()), "the powers of a light are numbers")


def _until_read(act: Callable[[int], Any]) -> Any:
    for attempt in range(ATTEMPTS):
        try:
            return act(attempt)
        except NotReadable as error:
            _hold(bool(str(error).strip()), "what the hands shall do is said in words")
    raise ContractBroken("a careful hand cannot make it read")


def check_description(driver: Driver, connection: Connection) -> None:
    """Key, title, options and what it opens."""
    _hold(bool(driver.key) and driver.key == driver.key.strip(), "the key is a word that never changes")
    _hold(bool(driver.title.strip()), "the title is shown to people, so it is not empty")
    _hold(bool(driver.opens), "a driver opens a printer or an instrument")
    unknown = driver.opens - {"printer", LIGHT, *METHODS}
    _hold(not unknown, f"it opens {', '.join(sorted(unknown))}, which the application does not know")
    keys = [option.key for option in driver.options]
    _hold(len(keys) == len(set(keys)), "two options have one key")
    driver.check(connection)
    for option in (o for o in driver.options if o.required):
        without = {k: v for k, v in connection.options.items() if k != option.key}
        short = Connection(without, {}, connection.home, connection.machine)
        refuses(partial(driver.check, short), f"options without {option.key}")
    if "printer" not in driver.opens:
        refuses(lambda: driver.printer(connection), "a printer")


def check_queue_alone(driver: Driver, connection: Connection, environment: PrintEnvironment) -> None:
    """A printer that takes print files alone has a queue, and says so when it is given a chart."""
    _hold(driver.queue(connection) is not None, "a printer that prints no charts takes print files")
    port = driver.printer(connection)
    _hold(bool(port.name), "a printer has a name")
    refuses(lambda: port.print_chart(sample_chart(), environment, 4101), "a chart")


def check_printer(driver: Driver, connection: Connection, environment: PrintEnvironment) -> dict[str, Any]:
    """A printer and whatever else it can do; gives the facts of its first print as they are stored."""
    port = driver.printer(connection)
    _hold(bool(port.name), "a printer has a name")
    chart = sample_chart()
    before = chart.content_hash()
    tickets = [port.print_chart(chart, environment, number) for number in (4101, 4102)]
    for ticket in tickets:
        _hold(isinstance(ticket, PrintTicket), "print_chart gives a PrintTicket")
        _hold(bool(ticket.device), "a ticket names its device")
        _plain(ticket.facts, "the facts of a ticket")
    _hold(tickets[0].facts != tickets[1].facts, "prints of two numbers have the same ticket")
    _hold(chart.content_hash() == before, "printing changed the chart")
    _plain(connection.state, "the state of a connection")
    nothing = ReadingSet(ids=("1",), channels=("X",), device=np.zeros((1, 1)))
    kept = copy.deepcopy(connection.state)
    try:
        port.print_chart(nothing, environment, 4103)
    except BadInput:
        _hold(connection.state == kept, "a print that was refused changed the state")
    for port_type, check in _OPTIONAL:
        if isinstance(port, port_type):
            check(port, connection)
    if isinstance(port, ViewPort):
        check_view(port, environment)
    facts = {**tickets[0].facts, "driver": driver.key}
    _hold(isinstance(driver.can_read(facts), bool), "can_read answers yes or no")
    return facts


def check_memory(port: MemoryPort, connection: Connection) -> None:
    """Slots keep what was sent, and refuse what the machine cannot do without changing."""
    machine = connection.machine or Machine("", "", "")
    _hold(machine.slots > 0 and bool(machine.abilities), "memory is checked on a machine with slots")
    values = {key: ability.low for key, ability in machine.abilities.items()}
    _hold(port.read(machine.slots) == ("", {}), "a slot that was never filled is empty")
    port.send(1, "Contract", values)
    name, held = port.read(1)
    _hold(name == "Contract" and held == values, f"slot 1 holds {name} {held}, not what was sent")
    for number in (0, machine.slots + 1):
        refuses(partial(port.send, number, "Contract", values), f"slot {number}")
    refuses(lambda: port.send(1, "Other", {"no such setting": 1.0}), "a setting that the machine has not")
    _hold(port.read(1) == (name, held), "settings that were refused changed the slot")
    _plain(connection.state, "the state of a connection")


def check_patterns(port: PatternPort, connection: Connection) -> None:
    """Nozzles inside the head, the same when asked again, and misfits from -1 to 1."""
    closed = port.closed("C", 739_000, 0)
    _hold(all(0 <= n < port.nozzles for n in closed), "a closed nozzle lies outside the head")
    _hold(port.closed("C", 739_000, 0) == closed, "closed nozzles differ when asked twice")
    for setting in (connection.machine or Machine("", "", "")).abilities:
        for found in (
            port.misfit(setting, [0.0, 1.0], 1.0),
            port.read_misfit(setting, [0.0, 1.0], 1.0, 3),
        ):
            _hold(np.shape(found) == (2,), f"the misfit of {setting} has one figure for each value")
        seen = port.misfit(setting, [0.0, 1.0], 1.0)
        _hold(bool(np.all(np.abs(seen) <= 1.0)), f"a misfit of {setting} lies outside -1..1")


def check_view(port: ViewPort, environment: PrintEnvironment) -> None:
    """A picture that is a PNG, and colours for every patch."""
    raw = sample_chart().values()
    _hold(port.picture(environment, raw, 1).startswith(b"\x89PNG\r\n\x1a\n"), "a picture is a PNG")
    lab = port.look(environment, raw)
    _hold(np.shape(lab) == (len(raw), 3) and bool(np.all(np.isfinite(lab))), "look gives Lab of every patch")


def check_controls(port: ControlsPort, connection: Connection) -> None:
    """Controls show what they are set to, and refuse what is out of range."""
    controls = port.controls()
    values = {c.key: c.value for c in controls}
    first = controls[0]
    refuses(lambda: port.control({**values, first.key: first.high + 1.0}), f"{first.label} beyond its range")
    _hold({c.key: c.value for c in port.controls()} == values, "a control that was refused changed something")
    port.control({**values, first.key: first.low})
    _hold(port.controls()[0].value == first.low, f"{first.label} does not keep what it is set to")
    port.control(values)
    _plain(connection.state, "the state of a connection")


def check_reader(
    port: RowInstrumentPort | SheetInstrumentPort, sheet: PrintedChart, transmission: bool = False
) -> None:
    """Spectra of the patches it was asked for, or densities of a film, the same within noise when read again;
    never without white.
    """
    bands, (low, high) = (2, (LOWEST, HIGHEST)) if transmission else (_BANDS, REFLECTANCE)
    what, lies = ("densities", "a density lies") if transmission else ("spectra", "reflectance lies")
    _hold(bool(port.name), "an instrument has a name")
    assert sheet.chart.rows is not None and sheet.chart.sheets is not None
    if isinstance(port, RowInstrumentPort):
        count = int(np.sum(sheet.chart.rows == 1))

        def read(reading: int, attempt: int, white: float | None) -> Array:
            return port.read_row(sheet, 1, reading, attempt, white)
    else:
        count = int(np.sum(sheet.chart.sheets == 1))
        if port.needs_corners:
            corners = [port.corner(sheet, which, 1, 1, 1) for which in range(3)]
            _hold(all(np.shape(c) == (2,) for c in corners), "a corner is two figures, mm")
            gaps = np.diff(np.array(corners), axis=0)
            wanted = np.diff(np.array(layout_of(sheet.chart).corners(1)), axis=0)
            _hold(bool(np.all(np.abs(gaps - wanted) < 5.0)), "the corners are not those of the sheet")

        def read(reading: int, attempt: int, white: float | None) -> Array:
            return port.read_sheet(sheet, 1, reading, attempt, white)

    found = [_reading(partial(read, number)) for number in (1, 2)]
    for spectra in found:
        _hold(np.shape(spectra) == (count, bands), f"{what} are ({count}, {bands}), not {spectra.shape}")
        inside = np.isfinite(spectra) & (spectra >= low) & (spectra <= high)
        _hold(bool(np.all(inside)), f"{lies} outside what a print can have")
    _hold(float(np.mean(np.abs(found[0] - found[1]))) < 0.05, "two readings of one print do not agree")
    if port.white_minutes is not None:
        for white in (None, port.white_minutes + 1.0):
            try:
                read(3, 1, white)
            except NotReadable:
                continue
            raise ContractBroken("it reads although its white calibration is missing or too old")


def check_file_instrument(port: FileInstrumentPort, deliver: Callable[[str, bytes], None]) -> None:
    """A file arrives whole and once; it does not come back when it was used or refused."""
    _hold(bool(port.name), "an instrument has a name")
    _hold(list(port.arrivals()) == [], "something arrives before anything was delivered")
    for name, taken in (("first.txt", True), ("second.txt", False), ("first.txt", True)):
        data = f"readings of {name}\n".encode()
        deliver(name, data)
        found = list(port.arrivals())
        _hold([(a.name, a.data) for a in found] == [(name, data)], f"{name} did not arrive as delivered")
        port.put_away(found[0], taken, "" if taken else "not a chart of ours")
        _hold(list(port.arrivals()) == [], f"{name} arrives again after it was put away")


def refuses(act: Callable[[], object], what: str) -> None:
    """Hold that `act` raises `BadInput`, and no other error."""
    try:
        act()
    except BadInput:
        return
    except Exception as error:
        raise ContractBroken(f"{what}: {type(error).__name__} in place of BadInput") from error
    raise ContractBroken(f"{what}: not refused")


def _reading(read: Callable[[int, float | None], Array]) -> Array:
    for attempt in range(1, ATTEMPTS + 1):
        try:
            return np.asarray(read(attempt, 0.0))
        except NotReadable:
            continue
    raise ContractBroken(f"nothing could be read in {ATTEMPTS} attempts")


def _plain(values: Mapping[str, Any], what: str) -> None:
    try:
        same = json.loads(json.dumps(values)) == values
    except (TypeError, ValueError):
        same = False
    _hold(same, f"{what} is not made of plain values for JSON: {values!r}")


_OPTIONAL: tuple[tuple[Any, Callable[[Any, Connection], None]], ...] = (
    (MemoryPort, check_memory),
    (PatternPort, check_patterns),
    (ControlsPort, check_controls),
)
__all__ = [
    "ContractBroken",
    "check_controls",
    "check_description",
    "check_driver",
    "check_file_instrument",
    "check_memory",
    "check_patterns",
    "check_printer",
    "check_queue_alone",
    "check_reader",
    "check_view",
    "sample_chart",
]
