"""The devices of the demo: every printer and instrument is simulated."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from greyanchor.accounts.models import Site
from greyanchor.devices.ports import LIGHT, METHODS
from greyanchor.devices.standin.densitometer import DensitometerDriver
from greyanchor.devices.standin.driver import KEY
from greyanchor.devices.standin.light_meter import LightMeterDriver
from greyanchor.library.machines.controls import set_controls
from greyanchor.library.models import DeviceConnection, Printer


def connect_all() -> None:
    """Simulated devices for every printer that has none, and for every site without instruments."""
    for printer in Printer.objects.filter(connection=None):
        DeviceConnection.objects.create(site_id=printer.site_id, printer=printer, driver=KEY)
    for site in Site.objects.all():
        if not site.connections.filter(printer=None).exists():
            for method in METHODS:
                DeviceConnection.objects.create(site=site, method=method, driver=KEY)
            DeviceConnection.objects.create(site=site, method="strip", driver=DensitometerDriver.key)
            DeviceConnection.objects.create(site=site, method=LIGHT, driver=LightMeterDriver.key)


class Listening(NamedTuple):
    """A model of the stand-in printer, and where it listens."""

    name: str
    address: str


#: which stand-in printer stands for a printer of the demo
_MODELS = {"Petrel 44": "petrel-44", "Gannet 64": "gannet-64-seven", "Dunlin 24": "dunlin-24"}


def listening_printers(address: Callable[[], str]) -> list[tuple[Listening, str, float]]:
    """Give every simulated printer of the demo an address; the model, media and width of each."""
    found = []
    records = DeviceConnection.objects.filter(driver=KEY, printer__model__in=_MODELS)
    for record in records.select_related("printer__loaded_media"):
        printer = record.printer
        assert printer is not None
        record.options = {**record.options, "address": address()}
        record.save(update_fields=["options"])
        loaded = printer.loaded_media
        media = loaded.name if loaded else "Harbour Proof Semimatt 235"
        width = min(float(loaded.width_mm), float(printer.width_mm)) if loaded else float(printer.width_mm)
        found.append((Listening(_MODELS[printer.model], record.options["address"]), media, width))
    return found


def drift(printer: Printer, inks: dict[str, float], paper_b: float = 0.0) -> None:
    """Let a simulated printer drift: ink volumes by channel, 1.0 as on the first day, and another paper."""
    volumes = {c: 100.0 * v for c, v in inks.items()}
    set_controls(printer, volumes | {"paper_b": paper_b})
