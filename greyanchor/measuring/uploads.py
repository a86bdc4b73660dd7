"""Files in place of the instrument: kept until looked at, put onto a chart, used as a pass."""

from __future__ import annotations

from datetime import timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.measurement.misread_sheets import judge_pass
from greyanchor.core.measurement.readings import ReadingSet, match_chart
from greyanchor.core.measurement.repeatability import is_copy
from greyanchor.measuring.expectations import expectation_of, pass_expectation
from greyanchor.measuring.films import check_light
from greyanchor.measuring.models import ReadingPass, SheetPrint, Upload
from greyanchor.measuring.services import complete_passes, first_pass_of, keep_whole_pass


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
    return Upload.objects.create(name=name[:200], data=data, sheet_print=job, sent_by=user)
