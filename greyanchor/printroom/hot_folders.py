"""Watched folders whose files become artwork, and jobs with the folder's defaults."""

from __future__ import annotations

import os
import time
from pathlib import Path

import structlog
from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, acting, needs
from greyanchor.background import queue
from greyanchor.core.errors import BadInput
from greyanchor.core.plain_text import file_name
from greyanchor.library.models import PrintMode
from greyanchor.measuring.claims import claimed
from greyanchor.printroom import intake, jobs, runs
from greyanchor.printroom.models import Arrived, Artwork, HotFolder, Job, PrintFile, Run, Then
from greyanchor.printroom.preparing import order_print_files

#: seconds that a file must be left alone before it is taken
SETTLED = 3.0
#: letters of a name that is put away; a number must fit behind it
_LONGEST = 60
_log = structlog.get_logger(__name__)
#: files of one folder that are taken at a time, so that a flood does not keep the others waiting
AT_ONCE = 20
#: how often interrupted work begins again by itself
ATTEMPTS = 3
_DONE, _REFUSED = "taken", "refused"
#: kinds of file by what pages call them
NAMES = {"pdf": "PDF", "postscript": "PostScript", "tiff": "TIFF", "jpeg": "JPEG", "png": "PNG"}
#: kinds of file by their ending, for folders that take some only
KINDS = {
    "pdf": (".pdf",),
    "postscript": (".ps", ".eps"),
    "tiff": (".tif", ".tiff"),
    "jpeg": (".jpg", ".jpeg"),
    "png": (".png",),
}


def path_of(folder: HotFolder) -> Path:
    """Where a hot folder lies: inside the shop's folder of hot folders, whatever it is called."""
    return Path(settings.HOT_FOLDERS) / folder.folder


@needs(MAKE)
@transaction.atomic
def make(name: str, folder: str, user: User | None, **defaults: object) -> HotFolder:
    """Make a hot folder and its place. Raises `BadInput` for a name that is taken or leads elsewhere."""
    plain = folder.strip()
    if not plain or Path(plain).name != plain or plain.startswith("."):
        raise BadInput(f"{folder!r} is not a folder inside {settings.HOT_FOLDERS}: name one like deck-charts")
    if HotFolder.objects.filter(name=name).exists() or HotFolder.objects.filter(folder=plain).exists():
        raise BadInput(f"there is a hot folder called {name} or in {plain} already; choose another name")
    if not name.strip():
        raise BadInput("a hot folder has a name")
    made = HotFolder.objects.create(name=name.strip(), folder=plain, made_by=user, **defaults)
    path_of(made).mkdir(parents=True, exist_ok=True)
    return made


def collect() -> int:
    """Take what has come into every active folder; how many files. One process at a time does so."""
    with claimed("hot folders") as mine:
        if not mine:
            return 0
        taken = 0
        for folder in HotFolder.objects.filter(active=True).select_related("mode", "made_by"):
            for path in _settled(path_of(folder)):
                try:
                    _take(folder, path)
                except Exception:  # those behind it have their turn
                    _log.exception("a file of a hot folder could not be dealt with", folder=folder.pk)
                taken += 1
        return taken


def _settled(place: Path) -> list[Path]:
    """Files that nobody writes to any more, the oldest first; not links, not hidden ones, not folders."""
    found = []
    now = time.time()
    try:
        entries = list(os.scandir(place))
    except OSError:
        return []
    for entry in entries:
        try:
            if entry.name.startswith(".") or not entry.is_file(follow_symlinks=False):
                continue
            facts = entry.stat(follow_symlinks=False)
        except OSError:
            continue
        if now - max(facts.st_mtime, facts.st_ctime) >= SETTLED:
            found.append((facts.st_mtime, Path(entry.path)))
    return [path for _, path in sorted(found)[:AT_ONCE]]


def _take(folder: HotFolder, path: Path) -> None:
    """One file: artwork and a job, or a refusal; either way it leaves the folder.

    Job and arrival are one transaction, and the arrival knows the file again: a worker that is killed before
    the file is put away makes no second job of it.
    """
    arrived = Arrived(folder=folder, name=file_name(path.name))
    try:
        arrived.mark = _mark(path)
        known = folder.arrived.filter(mark=arrived.mark).first()
        if known is not None:
            _put_away(path, _REFUSED if known.reason else _DONE)
            return
        _fits(folder, path)
        with acting(folder.made_by), transaction.atomic():
            arrived.artwork, _ = intake.add_path(path, folder.made_by, f"hot folder {folder.name}")
            arrived.job = _job(folder, arrived.artwork)
            arrived.save()
    except BadInput as error:
        arrived.reason = str(error)[:400]
    except OSError as error:
        arrived.reason = f"{path.name} cannot be read: {error.strerror or error}"[:400]
    if arrived.reason:
        arrived.artwork = arrived.job = None
        arrived.pk = None
        arrived.save()
    _put_away(path, _REFUSED if arrived.reason else _DONE)


def _mark(path: Path) -> str:
    """What a file is known by, whatever others have or had its name."""
    facts = path.stat()
    return f"{facts.st_ino}-{facts.st_mtime_ns}-{facts.st_size}"


def _fits(folder: HotFolder, path: Path) -> None:
    wanted = [k for k in folder.kinds.split() if k in KINDS]
    if wanted and path.suffix.lower() not in [e for k in wanted for e in KINDS[k]]:
        raise BadInput(f"this folder takes {', '.join(wanted)} alone", path.name)


def _job(folder: HotFolder, artwork: Artwork) -> Job:
    mode = folder.mode if folder.mode and folder.mode.state == PrintMode.State.RELEASED else None
    facts = {"margin_mm": folder.margin_mm, "intent": folder.intent, "keep_black": folder.keep_black}
    if folder.width_mm:
        facts["width_mm"] = folder.width_mm
    return jobs.make_job(artwork, folder.made_by, mode, 1, facts, held=not folder.go, then=folder.then)


def _put_away(path: Path, where: str) -> None:
    """Out of the way, beside the folder's own files; a name that is taken gets a number."""
    place = path.parent / where
    place.mkdir(exist_ok=True)
    name = Path(file_name(path.name, _LONGEST))
    target, number = place / name, 2
    while target.exists():
        target = place / f"{name.stem} ({number}){name.suffix}"
        number += 1
    os.replace(path, target)


def begin_again() -> int:
    """Queue what a killed worker was at, a few times for each; how many. What kills a worker again and again
    stays interrupted until somebody looks at it.
    """
    begun = 0
    for model in (Artwork, PrintFile):
        for record in model.objects.filter(state=model.State.INTERRUPTED, attempts__lt=ATTEMPTS)[:AT_ONCE]:
            changed = model.objects.filter(pk=record.pk, state=model.State.INTERRUPTED).update(
                state=model.State.QUEUED, attempts=record.attempts + 1, cancel_asked=False
            )
            if changed:
                queue.start(record)
                begun += 1
    return begun


def go_by_themselves() -> int:
    """Let jobs go that are not held, once their artwork was examined and nothing stops them; how many. One
    process at a time does so.
    """
    with claimed("hot folders go") as mine:
        return _go() if mine else 0


def _go() -> int:
    started = 0
    waiting = Job.objects.filter(
        held=False,
        mode__isnull=False,
        print_files__isnull=True,
        on_runs__isnull=True,
        artwork__state=Artwork.State.DONE,
    ).select_related("artwork", "mode__printer", "mode__media", "mode__ink_set", "made_by")
    for job in waiting.order_by("pk")[:AT_ONCE]:
        if job.artwork.worst == "stop":
            Job.objects.filter(pk=job.pk).update(held=True)
            continue
        with acting(job.made_by):
            try:
                if job.then == Then.FILL:
                    _lay_on_filling(job)
                else:
                    order_print_files(job, job.made_by)
                started += 1
            except BadInput as error:
                Arrived.objects.filter(job=job).update(reason=str(error)[:400])
                Job.objects.filter(pk=job.pk).update(held=True)
    return started


#: what a run waits for where nothing else was said: a share of the width, minutes
FILLS = {"share": 0.9, "minutes": 240.0}


@transaction.atomic
def _lay_on_filling(job: Job) -> None:
    """Lay a job on the run of its mode that waits to fill; on a new one where none does."""
    run = Run.objects.filter(mode=job.mode_id, state=Run.State.FILLING).order_by("pk").first()
    if run is not None:
        runs.put_on(run, [job])
        return
    arrived = Arrived.objects.filter(job=job).select_related("folder").first()
    assert job.mode is not None
    made = runs.make([job], job.made_by, f"{job.mode.name}, fills from {job.made_at:%-d %B %H:%M}")
    fill = (arrived.folder.fill if arrived is not None else {}) or FILLS
    made = runs.change(made, {"fill": fill, "goes": True, "rules": {"way": "save"}}, made.version)
    runs.wait_to_fill(made, made.version)
