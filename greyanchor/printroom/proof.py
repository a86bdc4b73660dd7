"""Proof of a print: the strip that went with it, read like any other, and the check that hangs on it."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.db import transaction

from greyanchor.checks.models import CheckPrint
from greyanchor.checks.services import Order
from greyanchor.checks.strip_prints import keep_check_print
from greyanchor.core.formats import cgats
from greyanchor.library.machines.connections import driver_of, opened
from greyanchor.measuring.models import SheetPrint
from greyanchor.printroom.models import Print
from greyanchor.profiles.models import AimRecord


@transaction.atomic
def strip_of_print(record: Print) -> CheckPrint | None:
    """The strip that lies on the table with a print that is done: it waits to be read, once for each print.

    None for a print without one.
    """
    held = (
        Print.objects.select_for_update(of=("self",))
        .select_related("print_file__mode", "asked_by")
        .get(pk=record.pk)
    )
    strip: dict[str, Any] = held.print_file.facts.get("strip") or {}
    mode = held.print_file.mode
    if not strip or mode is None or held.check_print is not None:
        return held.check_print
    asked = strip["order"]
    aim = AimRecord.objects.filter(pk=asked["aim"]).first() if asked.get("aim") else None
    order = Order(aim, asked["tolerances"], bool(asked.get("corrected")), True)
    chart = cgats.loads(strip["chart"], f"strip of print {held.pk}")
    made = keep_check_print(mode, order, chart, np.array(strip["raw"], dtype=float), held.asked_by)
    _is_printed(made.sheet_print, held)
    Print.objects.filter(pk=held.pk).update(check_print=made)
    return made


def _is_printed(sheet: SheetPrint, record: Print) -> None:
    """A strip that went with a run is on paper; a simulated machine's can be read by simulated readers."""
    driver = driver_of(record.printer)
    sheet.device, sheet.ticket = f"print {record.pk} of {record.printer.name}"[:80], {}
    if driver is not None and driver.simulated:
        with opened(record.printer) as port:
            ticket = port.print_chart(sheet.raw_chart, sheet.print_environment, 7_000_000 + record.pk)
        sheet.ticket = {**ticket.facts, "driver": driver.key}
    sheet.printed_at, sheet.printed_by = record.ended_at, record.asked_by
    sheet.save(update_fields=["device", "ticket", "printed_at", "printed_by"])
