"""`greyanchor printer`: the stand-in printer as a server."""

from __future__ import annotations

import os
import signal
import threading
import time
from pathlib import Path
from typing import Any

import click

from greyanchor.core.errors import BadInput


def _end_with_keeper() -> None:
    """End when the process that started this printer is gone; one that was started by hand has none."""
    keeper = os.environ.get("GREYANCHOR_KEEPER", "")
    while keeper.isdecimal():
        if os.getppid() != int(keeper):
            os.kill(os.getpid(), signal.SIGTERM)
            return
        time.sleep(1.0)


@click.command()
@click.option("--model", default="petrel-44", show_default=True, help="which of the made-up printers")
@click.option("--media", default="Harbour Proof Semimatt 235", show_default=True, help="what is in it")
@click.option("--width", type=float, help="of the media, mm; the machine's own when left out")
@click.option("--port", type=int, required=True, help="on 127.0.0.1")
@click.option(
    "--folder", help="where it keeps jobs and its state; a folder of its model and port when left out"
)
@click.option(
    "--clock", type=float, default=1.0, show_default=True, help="how many times as fast as a real one"
)
def printer(model: str, media: str, width: float | None, port: int, folder: str | None, clock: float) -> None:
    """The stand-in printer: an IPP server at ipp://127.0.0.1:PORT/ipp/print. Ctrl-C is a power cut."""
    from greyanchor.devices.print_server.machine import MODELS
    from greyanchor.devices.print_server.server import PrintServer

    if model not in MODELS:
        raise BadInput(f"there is no model {model}; there are {', '.join(MODELS)}")
    if not 0 <= port < 65536:
        raise BadInput(f"a port lies between 1 and 65535, not at {port}")
    made = MODELS[model]
    place = Path(folder) if folder else Path("var") / "printers" / f"{model}-{port}"
    server = PrintServer(place, made, media, width or made.carriage.width, port)
    if clock != 1.0:
        server.machine.set("clock", clock)

    def ends(*_: Any) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, ends)
    threading.Thread(target=_end_with_keeper, daemon=True).start()
    click.echo(f"{made.name} with {server.machine.facts['media']} is at {server.address}")
    try:
        server.serve_forever(poll_interval=0.1)
    except KeyboardInterrupt:
        pass
    finally:
        server.server_close()
