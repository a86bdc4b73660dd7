"""Released modes put whole into folders that other programs read from."""

from __future__ import annotations

import io
import json
import os
import re
import secrets
from collections.abc import Callable, Iterable
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.core.errors import BadInput
from greyanchor.delivery.attempts import due, failed, succeeded
from greyanchor.delivery.models import FILES, DeliveryFolder, FolderDelivery
from greyanchor.library.models import Edition, Printer, PrintMode
from greyanchor.library.packs import builder

_PLAIN = re.compile(r"[^\w. -]+")
#: deliveries of one sweep, so that a slow disk holds up nothing else for long
_AT_ONCE = 20


def path_of(folder: DeliveryFolder) -> Path:
    """Where a folder lies: inside the shop's folder of deliveries, whatever it is called."""
    return Path(settings.DELIVERIES) / folder.folder


@needs(RELEASE)
@transaction.atomic
def make(
    name: str, folder: str, files: Iterable[str], user: User | None, printer: Printer | None = None
) -> DeliveryFolder:
    """Name a folder; what is released already is put into it at once.

    Raises `BadInput` for a name that is taken or leads elsewhere, and where no file is chosen.
    """
    plain, chosen = folder.strip(), [f for f in files if f in FILES]
    if not name.strip():
        raise BadInput("a delivery folder has a name")
    if not plain or Path(plain).name != plain or plain.startswith("."):
        raise BadInput(f"{folder!r} is not a folder inside {settings.DELIVERIES}: name one like proofs")
    if not chosen:
        raise BadInput(f"choose what is put into it: {', '.join(FILES.values())}")
    taken = DeliveryFolder.objects.filter(name=name.strip()) | DeliveryFolder.objects.filter(folder=plain)
    if taken.exists():
        raise BadInput(f"there is a delivery folder called {name} or in {plain} already; choose another name")
    made = DeliveryFolder.objects.create(
        name=name.strip(), folder=plain, files=chosen, printer=printer, made_by=user
    )
    released = PrintMode.objects.filter(state=PrintMode.State.RELEASED)
    for mode in released.filter(printer=printer) if printer else released:
        newest = mode.editions.order_by("-number").first()
        if newest is not None:
            _order(made, newest)
    return made


@needs(RELEASE)
def switch(folder: DeliveryFolder) -> None:
    """Deliver to a folder, or stop it."""
    folder.active = not folder.active
    folder.save(update_fields=["active"])


def order(edition: Edition) -> None:
    """Put a new edition on its way into every folder that takes it."""
    for folder in DeliveryFolder.objects.filter(active=True):
        if folder.printer_id in (None, edition.mode.printer_id):
            _order(folder, edition)


def _order(folder: DeliveryFolder, edition: Edition) -> None:
    FolderDelivery.objects.get_or_create(folder=folder, edition=edition, defaults={"next_at": timezone.now()})


def sweep() -> int:
    """Write what is due; how many deliveries were tried."""
    tried = 0
    ready = due(FolderDelivery).select_related("folder", "edition__mode__printer", "edition__profile",
                                               "edition__curve_set")  # fmt: skip
    for record in ready.filter(folder__active=True)[:_AT_ONCE]:
        tried += 1
        try:
            names = _written(record)
        except OSError as error:
            failed(record, f"{path_of(record.folder)} cannot be written: {error.strerror or error}")
        except BadInput as error:
            failed(record, error.sentence)
        else:
            succeeded(record, names=names)
    return tried


def _written(record: FolderDelivery) -> list[str]:
    """Write the files of an edition, each whole; an older edition never takes the place of a newer one."""
    edition = record.edition
    newer = FolderDelivery.objects.filter(
        folder=record.folder,
        edition__mode=edition.mode_id,
        edition__number__gt=edition.number,
        state=FolderDelivery.State.DONE,
    )
    if newer.exists():
        return []
    place = path_of(record.folder)
    place.mkdir(parents=True, exist_ok=True)
    base = _PLAIN.sub("_", edition.mode.name).strip(" .") or f"mode {edition.mode_id}"
    made = []
    for kind in record.folder.files:
        found = _CONTENTS[kind](edition)
        if found is None:
            continue
        ending, data = found
        name = f"{base}{ending}"
        partial = place / f".{secrets.token_hex(6)}-{name}"
        try:
            partial.write_bytes(data)
            os.replace(partial, place / name)
        finally:
            partial.unlink(missing_ok=True)
        made.append(name)
    return made


def _profile(edition: Edition) -> tuple[str, bytes] | None:
    return (".icc", bytes(edition.profile.data)) if edition.profile else None


def _curves(edition: Edition) -> tuple[str, bytes] | None:
    return (" curves.csv", edition.curve_set.text.encode()) if edition.curve_set else None


def _limits(edition: Edition) -> tuple[str, bytes] | None:
    content = edition.content
    facts = {
        "mode": content["name"],
        "edition": edition.number,
        "printer": edition.mode.printer.model,
        "limits_percent": content["limits"],
        "total_ink_percent": content["total_ink"],
        "environment": content["environment"],
    }
    return " limits.json", (json.dumps(facts, indent=2, ensure_ascii=False) + "\n").encode()


def _pack(edition: Edition) -> tuple[str, bytes] | None:
    out = io.BytesIO()
    builder.pack_edition(edition, out)
    return " pack.zip", out.getvalue()


_CONTENTS: dict[str, Callable[[Edition], tuple[str, bytes] | None]] = {
    "profile": _profile,
    "curves": _curves,
    "limits": _limits,
    "pack": _pack,
}
