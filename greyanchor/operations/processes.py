"""The processes behind `greyanchor demo`, `serve` and `worker`."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from contextlib import closing, suppress
from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.operations import serving
from greyanchor.operations.serving import KEEPER, orphaned

_WATCH_PAUSE = 2.0
_DELIVER_PAUSE = 2.0
_FOLLOW_PAUSE = 0.25
#: how many times as fast as real ones the demo's printers print
_HURRIED = "6"
#: seconds that a worker may go on with what it is at when whoever started it is gone
_LAST_TASK = 120.0
_LOOK_PAUSE = 0.5  # the longest a task waits in an idle queue, and the worker for its own end


def _django() -> None:
    home = Path(os.environ.get("GREYANCHOR_HOME", "var"))
    if home.exists() and os.statvfs(home).f_flag & os.ST_RDONLY:
        raise BadInput(f"{home} is on a disk that can only be read; mount it for writing, then start again")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "greyanchor.config.settings")
    import django

    django.setup()


def _prepare() -> None:
    from django.db import OperationalError

    from greyanchor.background import line
    from greyanchor.operations import tables

    try:
        tables.bring_up_to_date()
    except OperationalError:
        if not line.keeps_a_copy() or line.copied_at() is None:
            raise
        print("The line to the database is cut; this site's copy can be read.", file=sys.stderr, flush=True)
    _keep_private()


def _keep_private() -> None:
    """Database, queue and key can be read by the user of this process alone."""
    from django.conf import settings

    for name in ("greyanchor.sqlite3", "queue.sqlite3", "secret.key"):
        for path in Path(settings.HOME).glob(f"{name}*"):
            with suppress(OSError):
                path.chmod(0o600)


def demo(port: int, host: str) -> int:
    """Serve with demo data, made on the first run."""
    os.environ["GREYANCHOR_DEMO"] = "1"
    os.environ["GREYANCHOR_HOME"] = str(_demo_home(Path(os.environ.get("GREYANCHOR_HOME", "var"))))
    os.environ.setdefault("GREYANCHOR_CATALOGUE", f"http://127.0.0.1:{_free_port()}")
    _django()
    _prepare()
    from django.core.management import call_command

    call_command("seed_demo")
    from greyanchor.demo.library import catalogue_folder

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
    printers = _start_printers()
    try:
        return serving.serve(port, host)
    finally:
        for process in (supplier, *printers):
            process.terminate()


def _start_printers() -> list[subprocess.Popen[bytes]]:
    """A stand-in printer of its own for each printer of the demo, at an address that is free today."""
    from greyanchor.demo.devices import listening_printers

    home, started = Path(os.environ["GREYANCHOR_HOME"]), []
    for model, media, width in listening_printers(lambda: f"ipp://127.0.0.1:{_free_port()}/ipp/print"):
        port = model.address.rpartition(":")[2].partition("/")[0]
        command = [
            sys.executable, "-m", "greyanchor.cli", "printer", "--model", model.name, "--media", media,
            "--width", f"{width:g}", "--port", port, "--folder", str(home / "printers" / model.name),
            "--clock", _HURRIED,
        ]  # fmt: skip
        kept = {**os.environ, KEEPER: str(os.getpid())}
        started.append(subprocess.Popen(command, start_new_session=True, stdout=subprocess.DEVNULL, env=kept))
    return started


def _demo_home(home: Path) -> Path:
    """Where the demo keeps its data: beside the shop's own, so that one can go from one to the other.

    A home that holds the demo itself, as earlier versions made it, stays the demo's.
    """
    database = home / "greyanchor.sqlite3"
    if not (home / "demo").exists() and database.exists():
        with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as held, suppress(sqlite3.Error):
            if held.execute("SELECT 1 FROM auth_user WHERE username = 'ines'").fetchone():
                return home
    return home / "demo"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def doctor(as_json: bool) -> int:
    """Look whether everything is well, and say what to do where it is not."""
    _django()
    from dataclasses import asdict

    from greyanchor.web import health

    found = health.looked_at((*health.NEEDED, *health.BESIDE))
    well = all(f.state != health.BAD for f in found)
    if as_json:
        print(json.dumps({"well": well, "found": [asdict(f) for f in found]}))
    else:
        for f in found:
            print(f"{f.state:<9} {f.name:<12} {f.words}{f'; {f.todo}' if f.todo else ''}")
    return 0 if well else 1


def backup(file: str) -> int:
    """Back everything up, and say what the file holds."""
    _django()
    from greyanchor.operations import backup as backups

    found = backups.backup(Path(file))
    print(
        f"{file}: {sum(found['rows'].values())} rows in {len(found['rows'])} tables, "
        f"{len(found['files'])} "
        "files, verified"
    )
    return 0


def restore(file: str) -> int:
    """Put a backup in place of what is here."""
    _django()
    from greyanchor.operations import backup as backups

    found = backups.restore(Path(file), print)
    print(
        f"restored as of {found['made_at']}: {sum(found['rows'].values())} rows, {len(found['files'])} "
        "files, verified"
    )
    return 0


def move(url: str) -> int:
    """Carry the shop to another database, and say how to go on with it."""
    _django()
    _prepare()
    from greyanchor.operations import move as moving

    found = moving.move(url, lambda words: print(words, file=sys.stderr, flush=True))
    rows = sum(f.rows for f in found)
    print(
        f"{rows} rows of {len(found)} tables are there, every value compared. Stop the application, set "
        "DATABASE_URL to that address and start it again; what is written here from now on is not there."
    )
    return 0


def export(file: str) -> int:
    """Write everything as open files."""
    _django()
    from greyanchor.operations import export as exports

    print(f"{file}: {exports.export(Path(file))} files")
    return 0


def serve(port: int, host: str) -> int:
    """Serve what is in the database; an empty one leads to its first account."""
    _django()
    from greyanchor.web.trouble import on_the_disk

    if trouble := on_the_disk():
        print(f"greyanchor: {trouble}", file=sys.stderr, flush=True)
    _prepare()
    from django.conf import settings

    address = settings.URL.geturl().rstrip("/") or f"http://{host}:{port}"
    return serving.serve(port, host, lambda: _say_first_link(address))


def web(number: int) -> int:
    """Answer requests beside the process that listens at the socket `number`."""
    _django()
    return serving.web(number)


def _say_first_link(address: str) -> None:
    """Print the link that makes the first account, where there is none."""
    from django.urls import reverse

    from greyanchor.accounts import first
    from greyanchor.background import line

    if not (line.keeps_a_copy() and line.line.is_cut()) and first.nobody_yet():
        path = reverse("first-account", args=[first.make_link()])
        print(f"Nobody has an account yet. Make the first one at {address}{path}", flush=True)


def worker() -> int:
    """Run background tasks until a signal ends the process."""
    _django()
    _prepare()
    from huey.contrib.djhuey import HUEY

    from greyanchor.background import queue

    queue.recover()
    threading.Thread(target=_watch, daemon=True).start()
    threading.Thread(target=_follow_prints, daemon=True).start()
    threading.Thread(target=_deliver, daemon=True).start()
    threading.Thread(target=_unattended, daemon=True).start()
    threading.Thread(target=_keep_copy, daemon=True).start()
    consumer = HUEY.create_consumer(
        workers=1, worker_type="thread", periodic=False, check_worker_health=True, max_delay=_LOOK_PAUSE
    )
    consumer.run()
    return 0


def _watch() -> None:
    """Beside the queue: the watched folders every few seconds, the catalogue every quarter of an hour, work
    whose worker is gone, and whether whoever started this worker still runs.
    """
    from django.db import close_old_connections

    from greyanchor.background import queue
    from greyanchor.library.packs import catalogue
    from greyanchor.measuring import inbox
    from greyanchor.printroom import hot_folders
    from greyanchor.web import storage

    while not orphaned():
        try:
            inbox.collect()
            hot_folders.collect()
            hot_folders.go_by_themselves()
            queue.mark_interrupted()
            queue.queue_lost_again()
            storage.tidy_when_due()
            hot_folders.begin_again()
            if catalogue.address():
                catalogue.ask_when_stale()
        except Exception as error:
            print(f"A watched folder or the catalogue failed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(_WATCH_PAUSE)
    _end_orphan()


def _follow_prints() -> None:
    """Beside the queue: prints are sent to their machines and followed; runs that are full go."""
    from django.db import close_old_connections

    from greyanchor.printroom import prints, runs

    while not orphaned():
        try:
            prints.sweep()
            runs.fill_sweep()
        except Exception as error:
            print(f"Following the prints failed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(_FOLLOW_PAUSE)


def _unattended() -> None:
    """Beside the queue: what machines with a reader inside do alone, one process at a time."""
    from django.db import close_old_connections

    from greyanchor.unattended import engine

    while not orphaned():
        try:
            engine.tick()
        except Exception as error:
            print(f"Unattended work failed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(_WATCH_PAUSE)


def _keep_copy() -> None:
    """Beside the queue: this site's copy of a database that is elsewhere."""
    from django.db import close_old_connections

    from greyanchor.background import line
    from greyanchor.operations import site_copy

    while line.keeps_a_copy() and not orphaned():
        try:
            site_copy.renew()
        except Exception as error:
            print(f"The copy of the database was not renewed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(60.0 * site_copy.minutes())


def _deliver() -> None:
    """Beside the queue: what is due goes into folders and to other programs, one process at a time."""
    from django.db import close_old_connections

    from greyanchor.delivery import folders, webhooks
    from greyanchor.measuring.claims import claimed

    while not orphaned():
        try:
            with claimed("deliveries", 60.0) as mine:
                if mine:
                    folders.sweep()
                    webhooks.sweep()
                    webhooks.forget_old()
        except Exception as error:
            print(f"A delivery failed: {error}", file=sys.stderr, flush=True)
        close_old_connections()
        time.sleep(_DELIVER_PAUSE)


def _end_orphan() -> None:
    """End a worker that outlived its web process: after what it is at, or at once when that takes too
    long.
    """
    print("The web process is gone; this worker ends.", file=sys.stderr, flush=True)
    os.kill(os.getpid(), signal.SIGINT)
    time.sleep(_LAST_TASK)
    os._exit(1)
