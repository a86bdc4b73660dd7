"""What the pages of the print room ask."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.core.paginator import Page, Paginator
from django.db.models import Q
from django.http import QueryDict

from greyanchor.printroom.models import Artwork, Job, PrintFile

_PAGE = 48


@dataclass(frozen=True)
class Narrowed:
    """What hangs on the wall, and by what it was narrowed."""

    page: Page[Artwork]
    words: str
    kind: str
    kinds: list[tuple[str, str]]
    address: str


def wall(query: QueryDict) -> Narrowed:
    """Artwork, newest first, narrowed by words, kind of file and state."""
    words, kind = query.get("q", "").strip()[:120], query.get("kind", "")
    found = Artwork.objects.all()
    for word in words.split():
        found = found.filter(Q(name__icontains=word) | Q(came_from__icontains=word))
    kinds = [
        ("", "All"),
        ("picture", "Pictures"),
        ("PDF", "PDF"),
        ("PostScript", "PostScript"),
        ("refused", "Refused"),
    ]
    if kind == "refused":
        found = found.filter(state__in=[Artwork.State.FAILED, Artwork.State.INTERRUPTED])
    elif kind in ("picture", "PDF", "PostScript"):
        found = found.filter(facts__kind=kind)
    pages = Paginator(found.order_by("-pk"), _PAGE)
    number = query.get("page", "1")
    return Narrowed(pages.get_page(number), words, kind, kinds, f"q={words}&kind={kind}")


def jobs(query: QueryDict) -> dict[str, Any]:
    """Jobs, newest first, narrowed by words and mode, with what was prepared of them."""
    words = query.get("q", "").strip()[:120]
    found = Job.objects.select_related("artwork", "mode__printer", "made_by").defer(
        "artwork__facts", "outcomes", "undo", "redo", "mode__environment"
    )
    for word in words.split():
        found = found.filter(Q(name__icontains=word) | Q(mode__name__icontains=word))
    if (mode := query.get("mode", "")).isdecimal():
        found = found.filter(mode=int(mode))
    page = Paginator(found, _PAGE).get_page(query.get("page", "1"))
    files: dict[int, PrintFile] = {}
    for record in (
        PrintFile.objects.filter(job__in=[j.pk for j in page]).order_by("pk").defer("facts", "choices")
    ):
        files[record.job_id] = record
    return {"page": page, "words": words, "rows": [(job, files.get(job.pk)) for job in page]}
