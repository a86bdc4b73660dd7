"""Readings that come from elsewhere: by the watched folder, or from another program, for a chart that is
open.
"""

from __future__ import annotations

import re
from pathlib import Path

import structlog
from django.conf import settings
from django.contrib.auth.models import User

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.plain_text import file_name
from greyanchor.devices.folder.instrument import SETTLED, FolderInstrument
from greyanchor.devices.ports import Arrival, FileInstrumentPort
from greyanchor.library.machines.connections import file_instruments
from greyanchor.measuring.claims import claimed
from greyanchor.measuring.models import Delivered, SheetPrint
from greyanchor.measuring.uploads import matched_upload, take_upload
from greyanchor.measuring.waiting import open_prints

_log = structlog.get_logger(__name__)
_PRINT = re.compile(r"print-(\d{1,12})(?!\d)", re.IGNORECASE)


@needs(USE)
def deliver(name: str, data: bytes, via: str, user: User | None, job: SheetPrint | None = None) -> Delivered:
    """Use readings as a pass of the one open print they belong to; what became of them is kept either way."""
    name = file_name(name)
    made = Delivered(name=name, via=via, outcome=Delivered.Outcome.REFUSED)
    try:
        if job is None:
            job = _text(name) or _find(name, data)
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


def _text(name: str) -> SheetPrint | None:
    """The print that a file's name begins with: ``print-91 first pass.txt`` is of print 91."""
    result = _PRINT.match(name)
    if result is None:
        return None
    found = SheetPrint.objects.select_related("chart").filter(pk=int(result[1])).first()
    if found is None:
        raise BadInput(
            f"there is no print {result[1]}; its number stands in the list of charts that wait", name
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
        raise BadInput(f"no chart that waits for readings matches it{why}", name)
    if named := [j for j in fitting if j.chart.title == readings.meta.get("DESCRIPTOR")]:
        fitting = named  # the file says which chart it was read from
    if len(fitting) > 1:
        titles = ", ".join(f"print {j.pk} of {j.chart.title}" for j in fitting[:3])
        raise BadInput(
            (
                f"it could be of {titles}; let its name begin with print-{fitting[0].pk} or the other "
                "number, "
                "or open the right one and use it there"
            ),
            name,
        )
    return fitting[0]


def watched() -> list[tuple[str, FileInstrumentPort]]:
    """Whatever delivers readings as files: the watched folder of the shop, and instruments connected to its
    sites.
    """
    shop = FolderInstrument(Path(settings.INBOX), SETTLED, settings.UPLOAD_LIMIT)
    found: list[tuple[str, FileInstrumentPort]] = [("watched folder", shop)]
    return [*found, *((f"{port.name} at {record.site}", port) for record, port in file_instruments())]


def collect() -> list[Delivered]:
    """Take up every file that arrived; what became of each is kept, and the instrument hears of it.

    One process at a time does so, so that a file becomes one pass and no more; others give nothing.
    """
    with claimed("arrivals") as mine:
        if not mine:
            return []
        found = (_taken(via, port, arrival) for via, port in watched() for arrival in port.arrivals())
        return [made for made in found if made is not None]


def _taken(via: str, port: FileInstrumentPort, arrival: Arrival) -> Delivered | None:
    """Take one file up; what cannot be dealt with is put away, so that those behind it have their turn."""
    try:
        return _take(via, port, arrival)
    except Exception as error:
        _log.exception("a file that arrived could not be dealt with", name=file_name(arrival.name))
        try:
            port.put_away(arrival, False, f"the program failed: {error}")
        except OSError:
            _log.exception("nor could it be put away", name=file_name(arrival.name))
        return None


def _take(via: str, port: FileInstrumentPort, arrival: Arrival) -> Delivered:
    if arrival.refused:
        refused = Delivered.Outcome.REFUSED
        made = Delivered.objects.create(
            name=file_name(arrival.name), via=via[:80], outcome=refused, reason=arrival.refused[:400]
        )
    else:
        made = deliver(arrival.name, arrival.data, via[:80], None)
    port.put_away(arrival, made.outcome == Delivered.Outcome.TAKEN, made.reason)
    return made
