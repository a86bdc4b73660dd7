"""Taking artwork in: by hand, by a hot folder, by another program."""

from __future__ import annotations

from pathlib import Path

from django.contrib.auth.models import User
from django.core.files import File
from django.db import transaction
from django.db.models import Sum

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue
from greyanchor.core.errors import BadInput
from greyanchor.core.plain_text import file_name
from greyanchor.library.models import StorageRules
from greyanchor.printroom import files
from greyanchor.printroom.models import Artwork


def _within_quota(size: int, name: str) -> None:
    most = StorageRules.current().artwork_gb * 2**30
    if not most:
        return
    kept = Artwork.objects.aggregate(size=Sum("size"))["size"] or 0
    if kept + size > most:
        raise BadInput(
            f"artwork takes {kept / 2**30:.1f} of the {most / 2**30:.0f} GB that the shop gives it; a lead "
            "sets how much under Shop, Storage",
            name,
        )


@needs(USE)
def add(content: File, name: str, user: User | None, came_from: str = "") -> tuple[Artwork, bool]:
    """Keep a file and have it examined; the artwork, and whether it is new.

    The same file comes back as the artwork that it was before, whatever it is called now. Raises `BadInput`
    for an empty file and for one that is too large.
    """
    name = file_name(name)
    if content.size == 0:
        raise BadInput("the file is empty", name)
    if content.size and content.size > files.MOST_ARTWORK:
        raise BadInput(
            f"it has {content.size / 2**30:.1f} GB; {files.MOST_ARTWORK // 2**30} GB are taken", name
        )
    _within_quota(content.size or 0, name)
    sha256, size = files.take_in(content)
    with transaction.atomic():
        made, new = Artwork.objects.get_or_create(
            sha256=sha256,
            defaults={
                "name": name,
                "size": size,
                "file": files.artwork_name(sha256),
                "started_by": user,
                "came_from": came_from[:120],
                "message": "waiting for the worker",
            },
        )
        if new:
            queue.start(made)
    return made, new


@needs(USE)
def add_path(path: Path, user: User | None, came_from: str = "") -> tuple[Artwork, bool]:
    """The same for a file of this machine."""
    with open(path, "rb") as file:
        return add(File(file, name=path.name), path.name, user, came_from)


@needs(USE)
@transaction.atomic
def examine_again(artwork: Artwork) -> None:
    """Examine once more what was refused or interrupted."""
    again = (Artwork.State.FAILED, Artwork.State.INTERRUPTED, Artwork.State.CANCELLED)
    changed = Artwork.objects.filter(pk=artwork.pk, state__in=again).update(
        state=Artwork.State.QUEUED, message="waiting for the worker", cancel_asked=False, progress=0.0
    )
    if not changed:
        raise BadInput(f"{artwork} is {artwork.get_state_display()}; there is nothing to examine again")
    queue.start(artwork)
