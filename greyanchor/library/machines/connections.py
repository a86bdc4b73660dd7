"""The devices of the shop: which driver reaches each, and opening them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.devices.ports import (
    LIGHT,
    Connection,
    Driver,
    FileInstrumentPort,
    InstrumentPort,
    Machine,
    PrinterPort,
    QueuePort,
    RowInstrumentPort,
    SheetInstrumentPort,
)
from greyanchor.devices.registry import driver_named, drivers
from greyanchor.library.models import DeviceConnection, Media, Printer


def machine_of(printer: Printer, media: Media | None = None) -> Machine:
    """A printer as its driver meets it, with what is loaded, or with other `media`."""
    media = media or printer.loaded_media
    return Machine(
        name=printer.name,
        model=printer.model,
        serial=printer.serial,
        abilities=printer.ability_map,
        slots=printer.slots,
        media=media.name if media else "",
        thickness=float(media.thickness if media else 200),
    )


def connection_of(record: DeviceConnection, media: Media | None = None) -> Connection:
    """A record as drivers know it; `state` is the record's own, so that changes of it can be saved."""
    machine = machine_of(record.printer, media) if record.printer else None
    return Connection(record.options, record.state, settings.DEVICES_HOME, machine)


# --- printers --------------------------------------------------------------------------------


def driver_of(printer: Printer | None) -> Driver | None:
    """The driver that reaches a printer; None where sheets are printed from files."""
    record = DeviceConnection.objects.filter(printer=printer).first() if printer else None
    return drivers().get(record.driver) if record else None


def printer_port(printer: Printer | None, media: Media | None = None) -> PrinterPort | None:
    """A printer through its driver, to look at; None where sheets are printed from files.

    `media` takes the place of what is loaded.
    """
    record = DeviceConnection.objects.select_related("printer__loaded_media").filter(printer=printer).first()
    if printer is None or record is None:
        return None
    return driver_named(record.driver).printer(connection_of(record, media))


def queue_of(printer: Printer | None) -> QueuePort | None:
    """Where a printer takes print files; None where no driver reaches that."""
    record = DeviceConnection.objects.select_related("printer__loaded_media").filter(printer=printer).first()
    if printer is None or record is None:
        return None
    return driver_named(record.driver).queue(connection_of(record))


@contextmanager
def opened(printer: Printer) -> Iterator[PrinterPort]:
    """A printer through its driver, held by this transaction; what the driver remembers is saved at the end.

    `BadInput` for a printer that no driver reaches.
    """
    found = DeviceConnection.objects.select_for_update(of=("self",)).select_related("printer__loaded_media")
    record = found.filter(printer=printer).first()
    if record is None:
        raise BadInput(f"{printer.name} has no driver: print from the files, or connect it under Devices")
    yield driver_named(record.driver).printer(connection_of(record))
    record.save(update_fields=["state"])


# --- instruments -----------------------------------------------------------------------------


def instrument_for(
    site: Site | None, method: str, ticket: Mapping[str, Any], transmission: bool = False
) -> RowInstrumentPort | SheetInstrumentPort | None:
    """The first instrument of a site that reads a print here; None where readings can only come as files.

    Without a site, instruments of every site are asked. `transmission` asks for one that reads films.
    """
    found = DeviceConnection.objects.filter(printer=None, method=method)
    for record in found.filter(site=site) if site else found:
        driver = drivers().get(record.driver)
        if driver is None or driver.transmission != transmission or not driver.can_read(ticket):
            continue
        port = driver.instrument(connection_of(record), method)
        if not isinstance(port, FileInstrumentPort):
            return port
    return None


def file_instruments() -> list[tuple[DeviceConnection, FileInstrumentPort]]:
    """Instruments of every site whose passes arrive as files."""
    out = []
    found = DeviceConnection.objects.filter(printer=None).exclude(method=LIGHT)
    for record in found.select_related("site"):
        driver = drivers().get(record.driver)
        port: InstrumentPort | None = (
            driver.instrument(connection_of(record), record.method) if driver else None
        )
        if isinstance(port, FileInstrumentPort):
            out.append((record, port))
    return out


# --- changing them ---------------------------------------------------------------------------


@dataclass(frozen=True)
class Choice:
    """What a person chose for a device: a driver, none for files alone, and its options."""

    driver: str
    options: Mapping[str, str]

    def words(self) -> str:
        """For the audit log."""
        if not self.driver:
            return "files"
        named = driver_named(self.driver)
        shown = ", ".join(f"{o.label.lower()} {self.options.get(o.key, '')}" for o in named.options)
        return f"{named.title}, {shown}" if shown else named.title


@needs(MAKE)
@transaction.atomic
def connect_printer(printer: Printer, choice: Choice, user: User | None) -> None:
    """Say which driver reaches a printer; without one, sheets are printed from files."""
    record = DeviceConnection.objects.filter(printer=printer).first()
    before = Choice(record.driver, record.options).words() if record else "files"
    after = choice.words()
    if not choice.driver:
        DeviceConnection.objects.filter(printer=printer).delete()
    else:
        record = record or DeviceConnection(printer=printer, site=printer.site)
        record.state = record.state if record.driver == choice.driver else {}
        record.site = printer.site
        _save(record, choice, "printer")
    note(printer, "Driver", before, after, user)


@needs(MAKE)
@transaction.atomic
def add_instrument(site: Site, method: str, choice: Choice, user: User | None) -> DeviceConnection:
    """Add an instrument to a site."""
    made = DeviceConnection(site=site, method=method)
    _save(made, choice, method)
    note(site, f"Instrument, {made.get_method_display()}", "", choice.words(), user)
    return made


@needs(MAKE)
@transaction.atomic
def remove_instrument(pk: int, user: User | None) -> None:
    """Take an instrument away; what it read stays."""
    found = DeviceConnection.objects.filter(pk=pk, printer=None).select_related("site").first()
    if found is None:
        raise BadInput("there is no such instrument")
    words = f"Instrument, {found.get_method_display()}"
    note(found.site, words, Choice(found.driver, found.options).words(), "", user)
    found.delete()


def _save(record: DeviceConnection, choice: Choice, opens: str) -> None:
    driver = driver_named(choice.driver)
    if opens not in driver.opens:
        raise BadInput(f"{driver.title} has nothing for {opens}")
    record.driver = choice.driver
    record.options = {o.key: str(choice.options.get(o.key, "")).strip() for o in driver.options}
    driver.check(connection_of(record))
    record.save()
