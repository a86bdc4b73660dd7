"""The processes behind `greyanchor demo`, `serve` and `worker`."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from types import FrameType

_RESTART_PAUSE = 2.0
_WATCH_PAUSE = 2.0
_WEB_PROCESSES = 2


def _django() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "greyanchor.config.settings")
    import django

    django.setup()


def _prepare() -> None:
    from django.core.management import call_command

    call_command("migrate", interactive=False, verbosity=0)


def demo(port: int, host: str) -> int:
    """Serve with demo data, made on the first run."""
    os.environ["GREYANCHOR_DEMO"] = "1"
    listener = _listener(port, host)
    if listener is None:
        return 2
    os.environ.setdefault("GREYANCHOR_CATALOGUE", f"http://127.0.0.1:{_free_port()}")
    _django()
    _prepare()
    from django.core.management import call_command

    call_command("seed_demo")
    from greyanchor.web.demo_library import catalogue_folder

    address = os.environ["GREYANCHOR_CATALOGUE"]
    supplier = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "greyanchor.cli",
            "catalogue",
            str(catalogue_folder()),
            "--port",
            address.rpartition(":")[2],
        ],
        start_new_session=True,
    )
    try:
        return _serve(listener, port, host)
    finally:
        supplier.terminate()


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def backup(file: str) -> int:
    """Back everything up, and say what the file holds."""
    _django()
    from greyanchor.config import keeping

    told = keeping.backup(Path(file))
    print(
        f"{file}: {sum(told['rows'].values())} rows in {len(told['rows'])} tables, {len(told['files'])} files, verified"
    )
    return 0


def restore(file: str) -> int:
    """Put a backup in place of what is here."""
    _django()
    from greyanchor.config import keeping

    told = keeping.restore(Path(file), print)
    print(
        f"restored as of {told['made_at']}: {sum(told['rows'].values())} rows, {len(told['files'])} files, verified"
    )
    return 0


def export(file: str) -> int:
    """Write everything as open files."""
    _django()
    from greyanchor.config import keeping

    print(f"{file}: {keeping.export(Path(file))} files")
    return 0


def serve(port: int, host: str) -> int:
    """Serve what is in the database."""
    listener = _listener(port, host)
    if listener is None:
        return 2
    _django()
    _prepare()
    return _serve(listener, port, host)


def worker() -> int:
    """Run background tasks until a signal ends the process."""
    _django()
    _prepare()
    from huey.contrib.djhuey import HUEY

    from greyanchor.bench import tasks as of_builds  # the queue knows a task only after its module is loaded
    from greyanchor.bench.models import RefineRound, Task
    from greyanchor.library import tasks as of_library
    from greyanchor.library.models import PackImport
    from greyanchor.profiles import tasks as of_profiles
    from greyanchor.profiles.models import ProfileWork
    from greyanchor.profiles.work import mark_interrupted

    known = (of_builds.build_profile_task, of_profiles.profile_work_task, of_library.pack_task)
    assert all(known)
    for model in (Task, ProfileWork, RefineRound, PackImport):
        mark_interrupted(model)
    threading.Thread(target=_watch, daemon=True).start()
    consumer = HUEY.create_consumer(workers=1, worker_type="thread", periodic=False, check_worker_health=True)
    consumer.run()
    return 0


def _watch() -> None:
    """Beside the queue: the watched folder every few seconds, the catalogue every quarter of an hour."""
    from django.db import close_old_connections

    from greyanchor.library import catalogue
    from greyanchor.measuring import watching

    while True:
        try:
            watching.sweep()
            if catalogue.address():
                catalogue.ask_when_stale()
        except Exception as error:
            print(f"The watched folder or the catalogue failed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(_WATCH_PAUSE)


class _Keeper:
    """Keeps one process of ours running, and starts another when it dies.

    The process gets a pipe as its input that closes when we are gone, however we went.
    """

    def __init__(self, *command: str, listener: socket.socket | None = None) -> None:
        self._command = [sys.executable, "-m", "greyanchor.cli", *command]
        self._listener = listener
        self._stopping = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep(self) -> None:
        held = [self._listener.fileno()] if self._listener else []
        while not self._stopping.is_set():
            self._process = subprocess.Popen(
                self._command, start_new_session=True, stdin=subprocess.PIPE, pass_fds=held
            )
            self._process.wait()
            if not self._stopping.is_set():
                print(
                    f"{' '.join(self._command[3:4])} stopped; starting another.", file=sys.stderr, flush=True
                )
                time.sleep(_RESTART_PAUSE)

    def stop(self) -> None:
        self._stopping.set()
        if self._process and self._process.poll() is None:
            self._process.send_signal(signal.SIGINT)
            try:
                self._process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                self._process.kill()


def _listener(port: int, host: str) -> socket.socket | None:
    """A socket that listens at an address; None, with the reason told, where somebody else does."""
    try:
        return socket.create_server((host, port), backlog=1024)
    except OSError as error:
        print(
            f"greyanchor: cannot serve on {host}:{port}: {error.strerror}; choose another with PORT=",
            file=sys.stderr,
        )
        return None


def web(descriptor: int) -> int:
    """Answer requests that come to an inherited socket, until our parent is gone or a signal ends the process."""
    from waitress.server import create_server

    _django()
    from greyanchor.config.wsgi import application
    from greyanchor.library.finding import warm

    def follow_parent() -> None:
        os.read(0, 1)  # nothing is ever written: it ends when the other end is closed
        os._exit(0)

    threading.Thread(target=follow_parent, daemon=True).start()
    warm()
    server = create_server(
        application, sockets=[socket.socket(fileno=descriptor)], threads=6, ident="greyanchor"
    )
    with suppress(KeyboardInterrupt):
        server.run()
    return 0


def _serve(listener: socket.socket, port: int, host: str) -> int:
    """Run web processes, one a core up to `_WEB_PROCESSES`, and a worker, until a signal ends us."""
    count = max(1, min(_WEB_PROCESSES, os.cpu_count() or 1))
    keepers = [_Keeper("web", str(listener.fileno()), listener=listener) for _ in range(count)] + [
        _Keeper("worker")
    ]

    def stop(_signal: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    for keeper in keepers:
        keeper.start()
    print(f"Grey Anchor is at http://{host}:{port}  (Ctrl-C stops it)", flush=True)
    try:
        while True:
            time.sleep(3600)
    except KeyboardInterrupt:
        pass
    finally:
        for keeper in keepers:
            keeper.stop()
        listener.close()
        print("Stopped.", flush=True)
    return 0
