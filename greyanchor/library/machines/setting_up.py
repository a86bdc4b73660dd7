"""A printer with its inks, a media class and a media, put into the library in one go."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.families import starting_values
from greyanchor.core.printing.starting_points import StartingPoint
from greyanchor.devices.ports import METHODS
from greyanchor.library.machines.connections import Choice, add_instrument, connect_printer
from greyanchor.library.models import InkSet, Media, MediaClass, Printer
from greyanchor.library.records.editing import create

#: the driver whose printers and instruments are simulated
SIMULATED = "standin"


@dataclass(frozen=True)
class Wanted:
    """What is to be put in: facts of each record, and which driver reaches printer and instruments."""

    site: Site
    inks: dict[str, Any]
    printer: dict[str, Any]
    media_class: str
    media: dict[str, Any]
    simulated: bool = False


@needs(MAKE)
@transaction.atomic
def set_up(wanted: Wanted, start: StartingPoint, user: User) -> Printer:
    """Put printer, ink set, media class and media in; all of them or, with `BadInput`, none.

    A media class of that name is taken as it is. Instruments are connected where the site has none.
    """
    why = f"set up from the starting point {start.title}"
    for model, name in (
        (InkSet, wanted.inks["name"]),
        (Printer, wanted.printer["name"]),
        (Media, wanted.media["name"]),
    ):
        if model.objects.filter(name__iexact=name).exists():
            raise BadInput(
                f"there is something called {name} already among {model._meta.verbose_name_plural}"
            )
    inks = create(InkSet(**wanted.inks), user, why)
    printer = Printer(
        site=wanted.site, driven_as=start.driven_as, abilities=start.abilities(), **wanted.printer
    )
    printer.wanted_links = {"ink_sets": [inks.pk]}  # type: ignore[attr-defined]
    create(printer, user, why)
    group = MediaClass.objects.filter(name__iexact=wanted.media_class).first()
    if group is None:
        starts = starting_values(start.family)
        group = create(
            MediaClass(
                name=wanted.media_class,
                family=start.family,
                handling={k: s.value for k, s in starts.items()},
                reasons={k: s.reason for k, s in starts.items()},
            ),
            user,
            why,
        )
    create(Media(media_class=group, **wanted.media), user, why)
    if wanted.simulated:
        connect_printer(printer, Choice(SIMULATED, {}), user)
        if not wanted.site.connections.filter(printer=None).exists():
            for method in METHODS:
                add_instrument(wanted.site, method, Choice(SIMULATED, {}), user)
    return printer
