"""Prints of the demo data, made and read on the simulated devices."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.core.measurement.readings import ReadingSet, with_values
from greyanchor.devices.standin.densitometer import StandinDensitometer
from greyanchor.devices.standin.readers import StandinStripReader
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet, printed_chart
from greyanchor.measuring.services import keep_whole_pass


def read_print(job: SheetPrint, passes: int, user: User) -> None:
    """Print, let dry, and read with a careful hand."""
    job = print_sheet(job.pk, user, timezone.now() - timedelta(minutes=job.dry_minutes))
    for number in range(1, passes + 1):
        name = StandinDensitometer.name if job.is_film else StandinStripReader.name
        keep_whole_pass(job, careful_reading(job, number), name, user)


def careful_reading(job: SheetPrint, number: int, condition: str = "M1") -> ReadingSet:
    """A whole careful pass on the dry sheet of a simulated print."""
    sheet = replace(printed_chart(job, condition), wet=0.0)
    reader = StandinDensitometer() if job.is_film else StandinStripReader()
    return with_values(job.chart.patches, reader.read_all(sheet, number), condition)
