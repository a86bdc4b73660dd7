"""Jobs: making them, changing them, undoing that, cutting test pieces."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom.models import Artwork, Job, Then

#: steps that can be undone
_STEPS = 50


@needs(USE)
@transaction.atomic
def make_job(
    artwork: Artwork,
    user: User | None,
    mode: PrintMode | None = None,
    page: int = 1,
    choices: Mapping[str, Any] | None = None,
    held: bool = True,
    then: str = Then.PREPARE,
) -> Job:
    """A job for a page of an artwork. It begins as mode and file have it, and takes nothing from another job.
    One that is not held goes by itself once its artwork is examined: `then` says how far.

    Raises `BadInput` for artwork that was refused, a page that is not there, and choices that cannot be.
    """
    if artwork.worst == "refused":
        raise BadInput(f"{artwork.name} was refused: {artwork.message}")
    if artwork.pages and not 1 <= page <= len(artwork.pages):
        raise BadInput(f"{artwork.name} has {len(artwork.pages)} pages, not {page}")
    several = len(artwork.pages) > 1
    choices = {**_for_its_contours(artwork, page), **(choices or {})}
    return Job.objects.create(
        artwork=artwork,
        name=f"{artwork.name}, page {page}"[:200] if several else artwork.name,
        page=page,
        mode=mode,
        choices=chosen.checked(choices),
        held=held,
        then=then,
        made_by=user,
    )


#: mm that a cut contour keeps from the edge of what is printed
CONTOUR_MARGIN = 2.5


def _for_its_contours(artwork: Artwork, page: int) -> dict[str, Any]:
    """A margin for a page whose cut contour comes near its edge, so that nothing clips it."""
    facts = artwork.pages[page - 1] if 1 <= page <= len(artwork.pages) else {}
    wide, tall = float(facts.get("width_mm", 0.0)), float(facts.get("height_mm", 0.0))
    places = [point for lines in facts.get("contours", {}).values() for line in lines for point in line]
    if not places or not wide or not tall:
        return {}
    nearest = min(min(x * wide, (1.0 - x) * wide, y * tall, (1.0 - y) * tall) for x, y in places)
    return {"margin_mm": CONTOUR_MARGIN} if nearest < CONTOUR_MARGIN else {}


@needs(USE)
@transaction.atomic
def change(job: Job, values: Mapping[str, Any], version: int, mode: PrintMode | None = None) -> Job:
    """Change choices of a job, and its mode where one is given; what it was can be had back by `undo`.

    Raises `BadInput` when somebody else changed the job since `version`, and for choices that cannot be.
    """
    job = _locked(job, version)
    before = _state(job)
    job.choices = chosen.checked({**job.choices, **values})
    if mode is not None:
        if mode.profile_id is None:
            raise BadInput(f"{mode.name} has no profile yet, so nothing can be printed through it")
        job.mode = mode
    after = _state(job)
    if after == before:
        return job
    job.undo = [*job.undo, before][-_STEPS:]
    job.redo = []
    return _saved(job)


@needs(USE)
@transaction.atomic
def undo(job: Job, version: int) -> Job:
    """Take back the last change. Raises `BadInput` where there is none."""
    job = _locked(job, version)
    if not job.undo:
        raise BadInput("nothing was changed that could be undone")
    job.redo = [*job.redo, _state(job)][-_STEPS:]
    return _back(job, job.undo.pop())


@needs(USE)
@transaction.atomic
def redo(job: Job, version: int) -> Job:
    """Bring back what was undone last. Raises `BadInput` where there is nothing."""
    job = _locked(job, version)
    if not job.redo:
        raise BadInput("nothing was undone that could be brought back")
    job.undo = [*job.undo, _state(job)][-_STEPS:]
    return _back(job, job.redo.pop())


@needs(USE)
@transaction.atomic
def cut_piece(job: Job, part: tuple[float, float, float, float], user: User | None) -> Job:
    """A job of its own for a rectangle of another, at true size and through the same mode."""
    facts = {**job.choices, "crop": [round(v, 6) for v in part], "panels": 1, "copies": 1}
    size = chosen.of_job(job)["width_mm"]
    piece = make_job(job.artwork, user, job.mode, job.page, {**facts, "width_mm": size})
    Job.objects.filter(pk=piece.pk).update(name=f"Test piece of {job.name}"[:200], piece_of=job)
    piece.refresh_from_db()
    return piece


def _locked(job: Job, version: int) -> Job:
    found = Job.objects.select_for_update(of=("self",)).select_related("mode", "artwork").get(pk=job.pk)
    if found.version != version:
        raise BadInput("somebody else changed this job since you opened it; look at it again, then change it")
    return found


def _state(job: Job) -> dict[str, Any]:
    return {"choices": job.choices, "mode": job.mode_id}


def _back(job: Job, state: dict[str, Any]) -> Job:
    job.choices, job.mode_id = state["choices"], state["mode"]
    return _saved(job)


def _saved(job: Job) -> Job:
    job.version += 1
    job.save()
    return job
