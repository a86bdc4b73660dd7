"""Recording what was swapped."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import USE, needs
from greyanchor.changes.models import Swap
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Printer


@needs(USE)
@transaction.atomic
def record(printer: Printer, kind: str, ink: str, batch: str, user: User | None) -> Swap:
    """Put a swap on record. Raises `BadInput` for a kind there is not, and an ink that the machine does
    not run.
    """
    if kind not in Swap.Kind.values:
        raise BadInput(f"nothing called {kind[:20]!r} is swapped; there are {', '.join(Swap.Kind.values)}")
    inks = {c for s in printer.ink_sets.all() for c in s.raw_channels}
    if ink and ink not in inks:
        raise BadInput(f"{printer.name} has no ink {ink[:12]}; it runs {', '.join(sorted(inks))}")
    return Swap.objects.create(printer=printer, kind=kind, ink=ink, batch=batch.strip()[:80], by=user)


@needs(USE)
@transaction.atomic
def take_back(pk: int, user: User) -> None:
    """Take a swap back that was put on record by mistake; only whoever did, and the same day."""
    found = Swap.objects.select_for_update(of=("self",)).filter(pk=pk).first()
    if found is None:
        raise BadInput("that is not on record any more")
    if found.by_id != user.pk:
        raise BadInput("only whoever put it on record takes it back")
    found.delete()
