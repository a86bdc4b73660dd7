"""Files in place of the instrument: kept until looked at, put onto a chart, used as a pass."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db.models import Sum
from django.db.models.functions import Length
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.inspection import inspect_bytes
from greyanchor.core.measurement.misread_sheets import judge_pass
from greyanchor.core.measurement.readings import ReadingSet, match_chart
from greyanchor.core.measurement.repeatability import is_copy
from greyanchor.core.plain_text import file_name
from greyanchor.drawing.colours import hex_colours
from greyanchor.library.models import StorageRules
from greyanchor.measuring.expectations import expectation_of, pass_expectation
from greyanchor.measuring.films import check_light
from greyanchor.measuring.models import ReadingPass, SheetPrint, Upload
from greyanchor.measuring.services import complete_passes, first_pass_of, keep_whole_pass

#: bytes of a file that is looked at while somebody waits; larger ones are the worker's
_AT_ONCE = 256 * 1024


def matched_upload(job: SheetPrint, data: bytes, name: str, by: str = "id") -> ReadingSet:
    """Readings of a file put onto the chart of a print; `BadInput` says why they cannot be of it."""
    readings = readings_file.loads(data, name)
    try:
        check_light(job, readings)
        matched = match_chart(job.chart.patches, readings, by)
        first = first_pass_of(job)
        if first is not None and first.condition != matched.condition:
            raise BadInput(
                f"the file was read as {matched.condition}, pass {first.number} as "
                f"{first.condition}; read "
                "both alike"
            )
        for done in complete_passes(job):
            if is_copy(done.readings, matched):
                raise BadInput(
                    f"these are the figures of pass {done.number} once more, digit for digit; read the "
                    "sheet again for a second pass"
                )
        _judge(job, matched, first)
    except BadInput as error:
        raise error.at(name) from None
    return matched


def _judge(job: SheetPrint, matched: ReadingSet, first: ReadingPass | None) -> None:
    """Refuse a pass that is of another chart or sheet; where the first pass may be wrong itself, what the
    environment measured before decides.
    """
    chart, model = job.chart.patches, expectation_of(job)
    if first is None:
        judge_pass(chart, model, matched)
        return
    try:
        judge_pass(chart, pass_expectation(first), matched, "the first pass")
    except BadInput:
        if model.rough:
            raise
        judge_pass(chart, model, matched)


@needs(USE)
def take_upload(job: SheetPrint, data: bytes, name: str, user: User | None, by: str = "id") -> ReadingPass:
    """Readings from a file in place of the instrument; nothing is kept when they are not of this chart."""
    matched = matched_upload(job, data, name, by)
    if not job.device:
        SheetPrint.objects.filter(pk=job.pk).update(
            device="printed elsewhere", printed_at=timezone.now(), printed_by=user, dry_minutes=0.0
        )
    return keep_whole_pass(job, matched, f"file {name}", user)


@needs(USE)
def put_aside_upload(name: str, data: bytes, job: SheetPrint | None, user: User) -> Upload:
    """Keep a file until somebody has looked at it; files that nobody used go after a day."""
    Upload.objects.filter(sent_at__lt=timezone.now() - timedelta(days=1)).delete()
    _within_quota(data, name, user)
    made = Upload.objects.create(
        name=file_name(name), data=data, sheet_print=job, sent_by=user, started_by=user
    )
    if len(data) <= _AT_ONCE:
        look_at(made)
    else:
        queue.start(made)
    return made


def _within_quota(data: bytes, name: str, user: User) -> None:
    most = StorageRules.current().uploads_mb * 2**20
    kept = Upload.objects.filter(sent_by=user).aggregate(size=Sum(Length("data")))["size"] or 0
    if kept + len(data) > most:
        raise BadInput(
            f"you have {kept / 2**20:.0f} MB of files here that were not used; {most / 2**20:.0f} MB are "
            "kept. Files that nobody used go after a day",
            name,
        )


@queue.handles(Upload)
def look_at_queued(pk: int) -> None:
    """What the worker does with a large file."""
    look_at(Upload.objects.select_related("sheet_print__chart").get(pk=pk))


def look_at(upload: Upload) -> None:
    """Parse a file, and keep what it is, how it was understood and whether it is of its chart."""
    data, found = bytes(upload.data), {}
    try:
        found["facts"] = inspect_bytes(data, upload.name)
        if found["facts"]["kind"] in ("readings", "chart"):
            found["seen"] = understood(readings_file.loads(data, upload.name))
            found["fits"] = _fits(upload.sheet_print, data, upload.name)
    except BadInput as error:
        found["refused"] = error.sentence
    Upload.objects.filter(pk=upload.pk).update(understood=found, state=Upload.State.DONE, progress=1.0)


def understood(readings: ReadingSet) -> dict[str, Any]:
    """The first patches of a file as it was understood."""
    shown = readings.select(np.arange(min(len(readings), 12)))
    colours = hex_colours(shown.lab()) if shown.is_measured else [""] * len(shown)
    rows = []
    for i, name in enumerate(shown.ids):
        device = [] if shown.device is None else [float(v) for v in 100.0 * shown.device[i]]
        lab = [float(v) for v in shown.lab()[i]] if shown.is_measured else []
        rows.append({"name": name, "device": device, "lab": lab, "colour": colours[i]})
    return {"channels": list(readings.channels), "rows": rows, "more": len(readings) - len(shown)}


def _fits(job: SheetPrint | None, data: bytes, name: str) -> dict[str, str]:
    """Whether a file can be put onto the chart of a print, by id and by device values: empty text when it
    can.
    """
    facts: dict[str, str] = {}
    if job is None:
        return facts
    for by in ("id", "device"):
        try:
            matched_upload(job, data, name, by)
        except BadInput as error:
            facts[by] = error.sentence
        else:
            facts[by] = ""
    return facts
