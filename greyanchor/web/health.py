"""Whether an installation is well: what load balancers, monitors and `greyanchor doctor` ask."""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Lock
from typing import Any

from django.apps import apps
from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.db import DEFAULT_DB_ALIAS, connections
from django.db.migrations.executor import MigrationExecutor
from django.db.models import Count

from greyanchor.background.models import BackgroundWork

OK, DOUBTFUL, BAD = "ok", "doubtful", "bad"
#: bytes on the disk below which work is in danger, and below which nothing can be kept
_LITTLE, _NOTHING = 2 * 2**30, 200 * 2**20
#: seconds by which the clock of the storage may differ from this machine's
_SKEW = 5.0


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at: `state` is ``ok``, ``doubtful`` or ``bad``; `todo` says what to do."""

    name: str
    state: str
    words: str
    todo: str = ""


def _database() -> Finding:
    connection = connections[DEFAULT_DB_ALIAS]
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    executor = MigrationExecutor(connection)
    waiting = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if waiting:
        words = f"{len(waiting)} changes of its tables are not made"
        return Finding("database", BAD, words, "start `greyanchor serve` once, which makes them")
    return Finding("database", OK, connection.vendor)


def _queue() -> Finding:
    from huey.contrib.djhuey import HUEY

    waiting = HUEY.pending_count()
    if waiting > 1000:
        return Finding("queue", DOUBTFUL, f"{waiting} tasks wait", "start a worker: `greyanchor worker`")
    return Finding("queue", OK, f"{waiting} tasks wait")


def _storage() -> Finding:
    name = default_storage.save(f"health/{os.getpid()}.txt", ContentFile(b"well"))
    try:
        with default_storage.open(name, "rb") as kept:
            if kept.read() != b"well":
                return Finding("storage", BAD, "what is written does not come back", "look at its disk")
        skew = abs(default_storage.get_modified_time(name).timestamp() - time.time())
    finally:
        default_storage.delete(name)
    if skew > _SKEW:
        words = f"its clock is {skew:.0f} s off this machine's"
        return Finding("storage", DOUBTFUL, words, "set both clocks by a time server")
    return Finding("storage", OK, "writes and reads")


def _disk() -> Finding:
    free = shutil.disk_usage(settings.HOME).free
    words = f"{free / 2**30:.1f} GB free"
    if free < _NOTHING:
        return Finding("disk", BAD, words, f"make room on the disk of {settings.HOME}")
    if free < _LITTLE:
        return Finding("disk", DOUBTFUL, words, f"make room on the disk of {settings.HOME} soon")
    return Finding("disk", OK, words)


def _rights() -> Finding:
    with tempfile.TemporaryFile(dir=settings.HOME) as probe:
        probe.write(b"x")
    key = Path(settings.HOME) / "secret.key"
    if key.exists() and stat.S_IMODE(key.stat().st_mode) & 0o077:
        words = "others on this machine can read secret.key"
        return Finding("rights", DOUBTFUL, words, f"chmod 600 {key.name}, and replace it if it was seen")
    return Finding("rights", OK, "the home can be written, its key is its own")


def _clock() -> Finding:
    year = time.gmtime().tm_year
    if year < 2026:
        return Finding("clock", BAD, f"it says {year}", "set the clock: checks and editions are dated by it")
    return Finding("clock", OK, time.strftime("%Y-%m-%d %H:%M UTC", time.gmtime()))


def _ghostscript() -> Finding:
    found = shutil.which("gs")
    if found is None:
        return Finding("ghostscript", DOUBTFUL, "not here", "install it: PDF and PostScript need it")
    done = subprocess.run([found, "--version"], capture_output=True, text=True, timeout=20, check=False)
    if done.returncode:
        return Finding("ghostscript", BAD, "it does not start", "install it again")
    return Finding("ghostscript", OK, done.stdout.strip())


def _fonts() -> Finding:
    from greyanchor.drawing.typefaces import register

    register()
    return Finding("fonts", OK, "those of reports and labels are here")


#: what must be reachable before requests are sent here, then what a person looks at besides
NEEDED: tuple[Callable[[], Finding], ...] = (_database, _queue, _storage)
BESIDE: tuple[Callable[[], Finding], ...] = (_disk, _rights, _clock, _ghostscript, _fonts)


def looked_at(what: tuple[Callable[[], Finding], ...]) -> list[Finding]:
    """Everything that was asked for; what fails in looking is bad, and says why."""
    found = []
    for look in what:
        try:
            found.append(look())
        except Exception as error:  # whatever is wrong with it, it is not well
            name = look.__name__.strip("_")
            found.append(
                Finding(name, BAD, f"{type(error).__name__}: {error}"[:200], _REMEDIES.get(name, ""))
            )
    return found


_REMEDIES = {
    "database": "see that it runs, and that DATABASE_URL says where",
    "queue": "see that it runs, and that REDIS_URL says where, where it is set",
    "storage": "see that its folder is there and can be written",
    "disk": "see that the home is there",
    "rights": "let the user of this process write into the home",
    "fonts": "install the application again",
}


# --- figures for monitors ----------------------------------------------------------------------

_lock = Lock()
_answers: Counter[str] = Counter()
_seconds: Counter[str] = Counter()


#: seconds between two times that a process writes its figures down for the others, and when it did last
_SHARE_EVERY, _shared_at = 5.0, [0.0]


def count(status: int, seconds: float) -> None:
    """Count an answer of this process; every few seconds the other web processes hear of it."""
    kind, now = f"{status // 100}xx", time.monotonic()
    with _lock:
        _answers[kind] += 1
        _seconds[kind] += seconds  # type: ignore[assignment]
        if now - _shared_at[0] < _SHARE_EVERY:
            return
        _shared_at[0] = now
        facts = json.dumps([_answers, _seconds])
    with suppress(OSError):  # a figure is no reason to refuse an answer
        place = _figures_folder() / f"{os.getpid()}.json"
        place.parent.mkdir(exist_ok=True)
        partial = place.with_suffix(".part")
        partial.write_text(facts)
        partial.replace(place)


def _figures_folder() -> Path:
    return Path(settings.HOME) / "figures"


def forget_figures() -> None:
    """Begin to count from nothing, as a server that starts does."""
    shutil.rmtree(_figures_folder(), ignore_errors=True)


def _of_all_processes() -> tuple[Counter[str], Counter[str]]:
    """Answers and seconds of this process and, a few seconds old, of the others since the server started."""
    with _lock:
        answers, seconds = Counter(_answers), Counter(_seconds)
    for path in _figures_folder().glob("*.json"):
        if path.stem == str(os.getpid()):
            continue
        with suppress(OSError, ValueError):
            other, took = json.loads(path.read_text())
            answers.update(other)
            seconds.update(took)
    return answers, seconds


def metrics() -> str:
    """Figures of the web processes and of the shop as Prometheus reads them (text format 0.0.4)."""
    return "\n".join([*_lines(), ""])


def _lines() -> Iterator[str]:
    answers, seconds = _of_all_processes()
    yield "# HELP greyanchor_requests_total Requests that the web processes answered, by kind of answer."
    yield "# TYPE greyanchor_requests_total counter"
    for kind, number in sorted(answers.items()):
        yield f'greyanchor_requests_total{{status="{kind}"}} {number}'
    yield "# HELP greyanchor_request_seconds_total Seconds spent on them."
    yield "# TYPE greyanchor_request_seconds_total counter"
    for kind, took in sorted(seconds.items()):
        yield f'greyanchor_request_seconds_total{{status="{kind}"}} {took:.3f}'
    yield "# HELP greyanchor_work Background work by kind and state."
    yield "# TYPE greyanchor_work gauge"
    for model in apps.get_models():
        if issubclass(model, BackgroundWork):
            rows: Any = model._default_manager.order_by().values_list("state").annotate(n=Count("pk"))
            for state, number in rows:
                yield f'greyanchor_work{{kind="{model._meta.model_name}",state="{state}"}} {number}'
    for finding in looked_at((*NEEDED, _disk)):
        yield f'greyanchor_well{{what="{finding.name}"}} {1 if finding.state != BAD else 0}'
    yield f"greyanchor_disk_free_bytes {shutil.disk_usage(settings.HOME).free}"
