"""Readings that come from elsewhere: by the watched folder, or from another program, for a chart that is open."""

from __future__ import annotations

import re
import shutil
import time
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.db.models import Q, QuerySet

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.formats.files import read_limited
from greyanchor.measuring.models import Delivered, ReadingPass, SheetPrint, readings_wanted
from greyanchor.measuring.uploads import matched_upload, take_upload

#: passes after which a print waits for no more readings
ENOUGH = 3
#: a file is taken once its size stood still for this long, seconds
SETTLED = 1.0
#: endings that readings have; everything else in the folder is left alone
_PRINT = re.compile(r"print-(\d{1,12})(?!\d)", re.IGNORECASE)
ENDINGS = (".txt", ".cxf", ".xml", ".csv", ".cgats")


def open_prints() -> QuerySet[SheetPrint]:
    """Prints whose owner still waits for readings, the newest first: with no pass, or one or two, and none being read."""
    full = ReadingPass.objects.filter(state=ReadingPass.State.DONE, number__gte=ENOUGH).values("sheet_print")
    busy = ReadingPass.objects.filter(state=ReadingPass.State.OPEN).values("sheet_print")
    wanted = Q(pk__in=[])
    for _, prints in readings_wanted.send(SheetPrint):
        wanted |= Q(pk__in=prints)
    found = SheetPrint.objects.filter(wanted).exclude(pk__in=full).exclude(pk__in=busy)
    return found.select_related("chart", "printer").defer("sent", "chart__text").order_by("-pk")


@needs(USE)
def deliver(
    name: str, data: bytes, via: str, user: AbstractBaseUser | None, job: SheetPrint | None = None
) -> Delivered:
    """Use readings as a pass of the one open print they belong to; what became of them is kept either way."""
    made = Delivered(name=name[:200], via=via, outcome=Delivered.Outcome.REFUSED)
    try:
        if job is None:
            job = _told(name) or _find(name, data)
        if not open_prints().filter(pk=job.pk).exists():
            raise BadInput(
                f"{job} waits for no readings: they are decided on, complete, or being read right now", name
            )
        take_upload(job, data, name, user)
    except BadInput as error:
        made.reason = str(error)[:400]
    else:
        made.outcome = Delivered.Outcome.TAKEN
    made.sheet_print = job
    made.save()
    return made


def _told(name: str) -> SheetPrint | None:
    """The print that a file's name begins with: ``print-91 first pass.txt`` is of print 91."""
    told = _PRINT.match(name)
    if told is None:
        return None
    found = SheetPrint.objects.select_related("chart").filter(pk=int(told[1])).first()
    if found is None:
        raise BadInput(
            f"there is no print {told[1]}; its number stands in the list of charts that wait", name
        )
    return found


def _find(name: str, data: bytes) -> SheetPrint:
    readings = readings_file.loads(data, name)
    reasons, fitting = [], []
    for job in open_prints()[:60]:
        if len(job.chart.patches) != len(readings):
            continue
        try:
            matched_upload(job, data, name)
        except BadInput as error:
            reasons.append(f"{job.chart.title}: {error.reason}")
        else:
            fitting.append(job)
    if not fitting:
        why = f"; nearest was {reasons[0]}" if reasons else f"; no open chart has {len(readings)} patches"
        raise BadInput(f"it belongs to no chart that waits for readings{why}", name)
    if named := [j for j in fitting if j.chart.title == readings.meta.get("DESCRIPTOR")]:
        fitting = named  # the file says which chart it was read from
    if len(fitting) > 1:
        titles = ", ".join(f"print {j.pk} of {j.chart.title}" for j in fitting[:3])
        raise BadInput(
            f"it could be of {titles}; let its name begin with print-{fitting[0].pk} or the other number, or open the right one and use it there",
            name,
        )
    return fitting[0]


def inbox() -> Path:
    """The watched folder, made when it is not there."""
    found = Path(settings.INBOX)
    for part in ("", "taken", "refused"):
        (found / part).mkdir(parents=True, exist_ok=True)
    return found


def sweep(now: float | None = None) -> list[Delivered]:
    """Take up every settled file of the watched folder; it then stands under ``taken`` or ``refused``, with the reason beside it."""
    folder, moment = inbox(), time.time() if now is None else now
    out = []
    for path in sorted(folder.iterdir()):
        if (
            path.is_symlink()
            or not path.is_file()
            or path.suffix.lower() not in ENDINGS
            or moment - path.stat().st_mtime < SETTLED
        ):
            continue
        try:
            data = read_limited(path, settings.UPLOAD_LIMIT)
        except BadInput as error:
            made = Delivered.objects.create(
                name=path.name[:200],
                via="watched folder",
                outcome=Delivered.Outcome.REFUSED,
                reason=str(error)[:400],
            )
        else:
            made = deliver(path.name, data, "watched folder", None)
        target = _free(folder / made.outcome / path.name)
        shutil.move(path, target)
        if made.outcome == Delivered.Outcome.REFUSED:
            target.with_name(f"{target.name}.reason.txt").write_text(f"{made.reason}\n")
        out.append(made)
    return out


def _free(path: Path) -> Path:
    """`path`, with a number in its name when it is taken."""
    found, number = path, 2
    while found.exists():
        found, number = path.with_name(f"{path.stem}-{number}{path.suffix}"), number + 1
    return found
