"""The devices of the demo: every printer and instrument is simulated."""

from __future__ import annotations

from greyanchor.accounts.models import Site
from greyanchor.devices.ports import METHODS
from greyanchor.devices.standin.driver import KEY
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


def drift(printer: Printer, inks: dict[str, float], paper_b: float = 0.0) -> None:
    """Let a simulated printer drift: ink volumes by channel, 1.0 as on the first day, and another paper."""
    volumes = {c: 100.0 * v for c, v in inks.items()}
    set_controls(printer, volumes | {"paper_b": paper_b})
