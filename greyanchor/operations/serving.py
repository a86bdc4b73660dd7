"""The web server: its own processes and a worker, kept running until somebody stops them."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import FrameType
from typing import Any

#: environment variable with the number of the process that keeps another
KEEPER = "GREYANCHOR_KEEPER"
_RESTART_PAUSE, _LOOK_PAUSE = 2.0, 1.0
_BACKLOG = 1024


def orphaned() -> bool:
    """Whether the process that keeps this one was killed; one started by hand has none."""
    keeper = os.environ.get(KEEPER, "")
    return keeper.isdecimal() and os.getppid() != int(keeper)


class Kept:
    """Keeps one process running, and starts another when it dies."""

    def __init__(self, name: str, *options: str, lend: tuple[int, ...] = ()) -> None:
        self._name, self._options, self._lend = name, options, lend
        self._stopping = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep(self) -> None:
        while not self._stopping.is_set():
            self._process = subprocess.Popen(
                [sys.executable, "-m", "greyanchor.cli", self._name, *self._options],
                start_new_session=True,
                env={**os.environ, KEEPER: str(os.getpid())},
                pass_fds=self._lend,
            )
            self._process.wait()
            if not self._stopping.is_set():
                print(f"The {self._name} process stopped; starting another.", file=sys.stderr, flush=True)
                time.sleep(_RESTART_PAUSE)

    def stop(self) -> None:
        self._stopping.set()
        if self._process and self._process.poll() is None:
            self._process.send_signal(signal.SIGINT)
            try:
                self._process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                self._process.kill()


def _interrupt(_signal: int, _frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def _warm() -> None:
    """Read pages and library into memory while nobody waits for them."""
    from django.db import close_old_connections
    from django.urls import get_resolver

    from greyanchor.library.modes.search import warm

    _ = get_resolver().url_patterns
    warm()
    close_old_connections()


def _server(listening: socket.socket) -> Any:
    """A web server at a socket that listens already, which several processes may share."""
    from django.conf import settings
    from waitress.server import create_server

    settings.WHITENOISE_USE_FINDERS = False
    from greyanchor.config.wsgi import application

    threading.Thread(target=_warm, daemon=True).start()
    proxy: dict[str, Any] = {}
    if settings.PROXY:
        believed = {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"}
        proxy = {"trusted_proxy": settings.PROXY, "trusted_proxy_headers": believed}
    return create_server(application, sockets=[listening], threads=6, ident="greyanchor", **proxy)


def web(number: int) -> int:
    """Answer requests at the socket `number` that whoever started this process listens at."""
    signal.signal(signal.SIGTERM, _interrupt)
    server = _server(socket.socket(fileno=number))
    threading.Thread(target=_end_with_keeper, daemon=True).start()
    with suppress(KeyboardInterrupt):
        server.run()
    return 0


def _end_with_keeper() -> None:
    while not orphaned():
        time.sleep(_LOOK_PAUSE)
    os._exit(1)


def serve(port: int, host: str, ready: Callable[[], None] = lambda: None) -> int:
    """Serve until somebody stops it; `ready` is called when pages can be asked for."""
    from django.conf import settings

    from greyanchor.operations import static
    from greyanchor.web import health

    static.collect()
    health.forget_figures()
    listening = socket.socket()
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError as error:
        print(
            f"greyanchor: cannot serve on {host}:{port}: {error.strerror}; choose another with PORT=",
            file=sys.stderr,
        )
        return 2
    listening.listen(_BACKLOG)
    signal.signal(signal.SIGTERM, _interrupt)
    signal.signal(signal.SIGINT, _interrupt)
    others = max(0, settings.WEB_PROCESSES - 1)
    lent = listening.fileno()
    kept = [Kept("web", "--socket", str(lent), lend=(lent,)) for _ in range(others)] + [Kept("worker")]
    server = _server(listening)
    for process in kept:
        process.start()
    ready()
    print(
        f"Grey Anchor is at {settings.URL.geturl() or f'http://{host}:{port}'}  (Ctrl-C stops it)", flush=True
    )
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        for process in kept:
            process.stop()
        server.close()
        print("Stopped.", flush=True)
    return 0
