"""A stand-in printer that listens, and print files for it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from threading import Thread
from typing import Any

import numpy as np
import pytest

from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.print_server.machine import MODELS
from greyanchor.devices.print_server.server import PrintServer

MEDIA = "Harbour Proof Semimatt 235"


def print_file(path: Path, width_mm: float = 100.0, length_mm: float = 50.0, **changes: Any) -> Path:
    """Four planes at 600 dpi: half magenta, half bare, and a ticket for a Petrel 44."""
    environment = PrintEnvironment("Petrel 44", "Tarn pigment", MEDIA, 600, 8)
    ticket = {
        "printer": "Petrel 44", "ink_set": "Tarn pigment", "hash": path.stem, "ink_ml": {"M": 1.5},
        "settings": {"environment": environment.as_dict(), "handling": {}}, **changes,
    }  # fmt: skip
    columns, rows = round(width_mm / 25.4 * 600), round(length_mm / 25.4 * 600)
    layout = PlaneLayout(columns, rows, tuple("CMYK"), 1, 600.0)
    writer = PlaneWriter(path, layout, rows, ticket)
    planes = [np.zeros((rows, layout.row_bytes), dtype=np.uint8) for _ in "CMYK"]
    planes[1][:, : layout.row_bytes // 2] = 0xFF
    writer.write(planes)
    writer.close()
    return path


class Running:
    """A printer that is up, can lose its power, and comes back on the same folder and port."""

    def __init__(self, folder: Path, model: str = "petrel-44", clock: float = 1000.0) -> None:
        self.folder, self.model, self.clock, self.port = folder, model, clock, 0
        self.server: PrintServer
        self.up()

    def up(self) -> None:
        made = MODELS[self.model]
        self.server = PrintServer(self.folder, made, MEDIA, made.carriage.width, self.port)
        self.port = self.server.server_address[1]
        self.server.machine.set("clock", self.clock)
        self._thread = Thread(target=self.server.serve_forever, args=(0.02,), daemon=True)
        self._thread.start()

    def power_cut(self) -> None:
        """Nothing more is written; what was in memory alone is gone."""
        self.server.machine._ends.set()
        self.server.shutdown()
        self._thread.join()
        self.server.machine._thread.join()
        self.server.socket.close()

    @property
    def client(self) -> IppClient:
        return IppClient(self.server.address, seconds=5.0)

    def state(self, number: int) -> dict[str, Any]:
        from greyanchor.devices.ipp.encoding import flat

        return flat(self.client.job(number).values())


def until(true: Callable[[], Any], seconds: float = 60.0) -> Any:
    """Wait for something; its value."""
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        if found := true():
            return found
        time.sleep(0.02)
    raise AssertionError("it did not come")


@pytest.fixture
def printer(tmp_path: Path) -> Iterator[Running]:
    running = Running(tmp_path / "spool")
    yield running
    running.server.shutdown()
    running.server.server_close()
