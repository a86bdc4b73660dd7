"""The controls of a simulated printer."""

from __future__ import annotations

from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Printer


@needs(MAKE)
def set_standin(printer: Printer, drift: dict[str, float], paper: list[float]) -> None:
    """How the stand-in behind a printer behaves from now on: ink volumes by channel (1.0 for none), and paper."""
    for channel, factor in drift.items():
        if channel not in "CMYK" or not 0.5 <= factor <= 1.5:
            raise BadInput(f"a drift of {channel} to {100 * factor:.0f} % is outside 50..150 %")
    if len(paper) != 3 or any(abs(v) > 10 for v in paper):
        raise BadInput("another paper is three differences of L*, a* and b*, each up to 10")
    with transaction.atomic():
        found = Printer.objects.select_for_update(of=("self",)).get(pk=printer.pk)
        found.standin = {**found.standin, "drift": drift, "paper": paper}
        found.save_without_historical_record(update_fields=["standin"])  # type: ignore[attr-defined]
    printer.standin = found.standin
