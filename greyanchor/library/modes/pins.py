"""Print modes that somebody keeps at hand."""

from __future__ import annotations

from typing import Any

from greyanchor.accounts.people import site_of
from greyanchor.library.models import Pin, PrintMode


def pins_of(user: Any) -> dict[int, str]:
    """Modes that are pinned for a person: "mine", "site" or both, by primary key."""
    site = site_of(user)
    out: dict[int, str] = {}
    for mode, owner in Pin.objects.filter(user=user).values_list("mode_id", "user_id"):
        out[mode] = "mine" if owner else ""
    if site is not None:
        for mode in Pin.objects.filter(site=site).values_list("mode_id", flat=True):
            out[mode] = f"{out.get(mode, '')} site".strip()
    return out


def pinned(user: Any, most: int = 12) -> list[PrintMode]:
    """Modes pinned for a person, by name."""
    found = (
        PrintMode.objects.filter(pk__in=pins_of(user))
        .select_related("printer")
        .only("name", "printer__name", "last_verdict", "state")
    )
    return list(found.order_by("name")[:most])
