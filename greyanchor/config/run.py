"""The processes behind `greyanchor demo`, `serve` and `worker`."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from types import FrameType

_RESTART_PAUSE = 2.0


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
    _django()
    _prepare()
    from django.core.management import call_command

    call_command("seed_demo")
    return _serve(port, host)


def serve(port: int, host: str) -> int:
    """Serve what is in the database."""
    _django()
    _prepare()
    return _serve(port, host)


def worker() -> int:
    """Run background tasks until a signal ends the process."""
    _django()
    _prepare()
    from huey.contrib.djhuey import HUEY

    from greyanchor.bench import tasks as of_builds  # the queue knows a task only after its module is loaded
    from greyanchor.bench.models import RefineRound, Task
    from greyanchor.profiles import tasks as of_profiles
    from greyanchor.profiles.models import ProfileWork
    from greyanchor.profiles.work import mark_interrupted

    assert of_builds.build_profile_task is not None and of_profiles.profile_work_task is not None
    for model in (Task, ProfileWork, RefineRound):
        mark_interrupted(model)
    consumer = HUEY.create_consumer(workers=1, worker_type="thread", periodic=False, check_worker_health=True)
    consumer.run()
    return 0


class _WorkerKeeper:
    """Keeps one worker process running, and starts another when it dies."""

    def __init__(self) -> None:
        self._stopping = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep(self) -> None:
        while not self._stopping.is_set():
            self._process = subprocess.Popen(
                [sys.executable, "-m", "greyanchor.cli", "worker"], start_new_session=True
            )
            self._process.wait()
            if not self._stopping.is_set():
                print("The worker stopped; starting another.", file=sys.stderr, flush=True)
                time.sleep(_RESTART_PAUSE)

    def stop(self) -> None:
        self._stopping.set()
        if self._process and self._process.poll() is None:
            self._process.send_signal(signal.SIGINT)
            try:
                self._process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                self._process.kill()


def _serve(port: int, host: str) -> int:
    from waitress.server import create_server

    from greyanchor.config.wsgi import application

    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            print(
                f"greyanchor: cannot serve on {host}:{port}: {error.strerror}; choose another with PORT=",
                file=sys.stderr,
            )
            return 2
    keeper = _WorkerKeeper()

    def stop(_signal: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    server = create_server(application, host=host, port=port, threads=6, ident="greyanchor")
    keeper.start()
    print(f"Grey Anchor is at http://{host}:{port}  (Ctrl-C stops it)", flush=True)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        keeper.stop()
        server.close()
        print("Stopped.", flush=True)
    return 0
