"""What makes charts and prints them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from math import exp
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.charts.layout import DIGITS, lay_out
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ports import PrintedChart, RowInstrumentPort, SheetInstrumentPort
from greyanchor.devices.registry import drivers
from greyanchor.library.machines.connections import driver_of, instrument_for, opened
from greyanchor.library.models import Printer
from greyanchor.measuring.models import Chart, SheetPrint, written

CHARTS_LAID_OUT_MIXED = ("profile", "total-ink", "grey", "short", "restore", "driver")


@dataclass(frozen=True)
class ReadingPlan:
    """How a chart is to be read: method, page, width of a patch (mm, None for usual), readings of each
    patch.
    """

    method: str = "strip"
    page: str = "a4"
    patch: float | None = None
    dots: int = 1

    @classmethod
    def of(cls, choices: dict[str, Any]) -> ReadingPlan:
        """From stored choices; what is missing is as usual."""
        patch = choices.get("patch")
        return cls(
            str(choices.get("method") or "strip"),
            str(choices.get("page") or "a4"),
            float(patch) if patch else None,
            int(choices.get("dots") or 1),
        )


@transaction.atomic
def make_chart(
    purpose: str,
    device: Array,
    title: str,
    environment: PrintEnvironment,
    plan: ReadingPlan = ReadingPlan(),
    channels: tuple[str, ...] = tuple("CMYK"),
    names: tuple[str, ...] = (),
    facts: Mapping[str, str] | None = None,
) -> Chart:
    """Lay out and keep a chart; `names` are those of its patches, where it is not laid out mixed; `facts`
    what the sheet says of itself besides.
    """
    shuffle = 3 if purpose in CHARTS_LAID_OUT_MIXED else None
    meta = {"DESCRIPTOR": title, "PRINT_CONDITIONS": environment.label(), **(facts or {})}
    chart, _ = lay_out(device, channels, plan.page, plan.method, shuffle, meta, plan.patch, plan.dots)
    chart = replace(chart, names=names) if names else chart
    return Chart.objects.create(
        purpose=purpose, title=title, text=written(chart), content_hash=chart.content_hash()
    )


@transaction.atomic
def prepare_print(
    chart: Chart,
    environment: PrintEnvironment,
    pipeline: Callable[[Array], Array] | None = None,
    origin: str = "",
    printer: Printer | None = None,
    channels: tuple[str, ...] | None = None,
    dry_minutes: float = 0.0,
) -> SheetPrint:
    """Settle the raw values that a chart is printed with; nothing is on paper yet.

    `channels` name what `pipeline` gives, where they are not the chart's own.
    """
    raw = chart.patches.values() if pipeline is None else pipeline(chart.patches.values())
    return SheetPrint.objects.create(
        chart=chart,
        printer=printer,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        sent=[[round(float(v), DIGITS) for v in row] for row in raw],
        sent_channels=list(channels or chart.patches.channels),
        origin=origin,
        dry_minutes=dry_minutes,
    )


#: what is stored as the device of a print that somebody made from the files of the chart
FROM_FILES = "printed from the files"


@needs(USE)
@transaction.atomic
def print_sheet(pk: int, user: User | None, at: datetime | None = None) -> SheetPrint:
    """Print a chart on its printer; a second press of the button changes nothing.

    A printer that no driver reaches is taken to have printed the files of the chart. `at` is when, for demo
    data that were printed a while ago.
    """
    job = SheetPrint.objects.select_for_update(of=("self",)).select_related("chart", "printer").get(pk=pk)
    if job.device:
        return job
    driver = driver_of(job.printer)
    if driver is None or job.printer is None:
        job.device = FROM_FILES
    else:
        environment = job.print_environment
        with opened(job.printer) as port:
            number = _print_number(job.chart, environment)
            ticket = port.print_chart(job.raw_chart, environment, number)
        job.device, job.ticket = ticket.device, {**ticket.facts, "driver": driver.key}
    job.printed_at, job.printed_by = at or timezone.now(), user  # type: ignore[assignment]
    job.save()
    return job


def _print_number(chart: Chart, environment: PrintEnvironment) -> int:
    """A number for the sheet that does not depend on database keys, so that demo data are the same
    everywhere.
    """
    earlier = SheetPrint.objects.filter(chart=chart).exclude(device="").count()
    return int(environment.content_hash()[:6] + chart.content_hash[:4], 16) % 9_000_000 + 100 * earlier


def is_simulated(job: SheetPrint) -> bool:
    """Whether a print was computed, so that it need not wait until it is dry."""
    driver = drivers().get(str(job.ticket.get("driver", "")))
    return driver is not None and driver.simulated


@needs(USE)
@transaction.atomic
def dry_at_once(pk: int) -> SheetPrint:
    """Let a simulated sheet lie until it is dry: its clock is put forward, nothing else is."""
    job = SheetPrint.objects.select_for_update().get(pk=pk)
    if not is_simulated(job) or job.printed_at is None:
        raise BadInput("only a simulated sheet can be made to dry at once")
    job.printed_at = min(job.printed_at, timezone.now() - timedelta(minutes=job.dry_minutes))
    job.save(update_fields=["printed_at"])
    return job


def printed_chart(job: SheetPrint, condition: str = "M1") -> PrintedChart:
    """A print as an instrument meets it now, wet or dry."""
    return PrintedChart(job.raw_chart, job.print_environment, job.ticket, condition, wetness(job))


def wetness(job: SheetPrint) -> float:
    """How much of its drying a sheet still has to come, 0..1: it falls with time to a twentieth, then is
    dry.
    """
    if job.dry_minutes <= 0 or job.printed_at is None or job.minutes_to_dry <= 0:
        return 0.0
    return exp(-3.0 * (1.0 - job.minutes_to_dry / job.dry_minutes))


def instrument_of(job: SheetPrint, method: str) -> RowInstrumentPort | SheetInstrumentPort | None:
    """The instrument that can read a print here; None where its readings can only come as files."""
    if not job.device:
        return None
    return instrument_for(job.printer.site if job.printer else None, method, job.ticket, job.is_film)
