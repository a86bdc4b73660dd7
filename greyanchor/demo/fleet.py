"""Nights, a family of two sites, and what was swapped, for the demo."""

from __future__ import annotations

from datetime import timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.changes.models import Swap
from greyanchor.families.services import make_family
from greyanchor.library.models import Printer, PrintMode
from greyanchor.profiles.models import AimRecord
from greyanchor.unattended.models import NightRule

#: one mode of each machine that is kept true at night
_KEPT = ("Harbour Proof, contract proof", "Kelp Synthetic, deck charts", "Fathom Satin, photographs")
_FAMILY = ("Harbour Proof, contract proof", "Kelp Synthetic, deck charts")


def fleet(users: dict[str, User], aim: AimRecord) -> None:
    """Rules that are due tomorrow night, a family whose common ground the worker finds, and two swaps."""
    modes = {m.name: m for m in PrintMode.objects.filter(name__in={*_KEPT, *_FAMILY})}
    now = timezone.now()
    for name in _KEPT:
        mode = modes[name]
        checked = mode.ink_set.channels == list("CMYK")
        NightRule.objects.create(
            mode=mode, last_at=now, made_by=users["ines"], aim=aim if checked else None,
            tolerances="iso12647-7:2016" if checked else "",
        )  # fmt: skip
    make_family("Proofs and deck charts", [modes[n] for n in _FAMILY], True, users["ines"])
    for model, kind, ink, batch, days in (
        ("Petrel 44", "paper", "", "W-2291", 20), ("Gannet 64", "ink", "M", "B-77-014", 9),
    ):  # fmt: skip
        printer = Printer.objects.filter(model=model).order_by("pk").first()
        if printer is not None:
            at = now - timedelta(days=days)
            Swap.objects.create(printer=printer, kind=kind, ink=ink, batch=batch, at=at, by=users["ines"])
