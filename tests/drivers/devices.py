"""Connections of each installed driver for the contract, and what brings files to folder instruments."""

from __future__ import annotations

import os
import time
from pathlib import Path

from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.handling import Ability
from greyanchor.devices.ports import Connection, Machine

ENVIRONMENT = PrintEnvironment(
    printer="Petrel 44", ink_set="Tarn pigment", media="Harbour Proof Semimatt 235"
)
#: what a connection of each driver says
OPTIONS = {
    "standin": {},
    "standin-densitometer": {},
    "standin-light": {},
    "folder": {"folder": "petrel"},
    "ipp": {"address": "ipp://127.0.0.1:631/ipp/print"},
    "lantern": {"tray": "north"},
}


def machine() -> Machine:
    """A printer with memory slots and two settings that have readiness patterns."""
    abilities = {
        "feed": Ability(-2.0, 2.0, 0.01, 0.0),
        "alignment": Ability(-20.0, 20.0, 1.0, 0.0),
    }
    return Machine("Petrel 44", "Petrel 44", "T-1", abilities, 4, "Harbour Proof Semimatt 235", 240.0)


def connection(key: str, home: Path) -> Connection:
    return Connection(OPTIONS[key], {}, home, machine())


def deliver(reached: Connection, name: str, data: bytes) -> None:
    """Put a file into the folder, written a while ago."""
    path = reached.home / reached.options["folder"] / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    os.utime(path, (time.time() - 10, time.time() - 10))
