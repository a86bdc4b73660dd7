"""Large packs on their way out: ordered by a person, written in the background, kept for a day to be
fetched.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue, shared, work
from greyanchor.core.errors import BadInput
from greyanchor.core.packs.archive import file_hash
from greyanchor.library.models import PackExport
from greyanchor.library.packs import builder, importing

#: modes that are packed while a person waits; more go to the worker
AT_ONCE = 6
#: how long a pack that was written waits to be fetched
KEPT = timedelta(days=1)


def path_of(job: PackExport) -> Path:
    """Where a pack stands once it is written."""
    path = importing.folder() / f"out-{job.pk}.zip"
    if not path.exists():
        shared.local(f"packs/{path.name}")
    return path


@needs(USE)
def order(pks: Sequence[int], label: builder.Label, user: User) -> PackExport:
    """Queue the writing of a pack; packs that were fetched long enough ago go."""
    builder.refuse_too_many(len(pks))
    if not label.title.strip():
        raise BadInput("give the pack a title; it is what the other shop reads first")
    for old in PackExport.objects.filter(created_at__lt=timezone.now() - KEPT):
        path_of(old).unlink(missing_ok=True)
        old.delete()
    job = PackExport.objects.create(
        modes=list(pks),
        title=label.title.strip()[:160],
        maker=label.maker.strip()[:120],
        note=label.note.strip()[:4000],
        started_by=user,
        message="waiting for the worker",
    )
    _queue(job)
    return job


@needs(USE)
def again(job: PackExport, user: User) -> None:
    """Queue a pack once more whose writing was interrupted, failed or stopped."""
    if (job.is_active and not job.looks_dead) or job.state == PackExport.State.DONE:
        raise BadInput(f"{job.title} is {job.get_state_display()}; there is nothing to start again")
    PackExport.objects.filter(pk=job.pk).update(
        state=PackExport.State.QUEUED, cancel_asked=False, error="", progress=0.0
    )
    _queue(job)


@needs(USE)
def stop(job: PackExport, user: User) -> None:
    """Ask the writing of a pack to stop; nothing of it is kept."""
    work.ask_to_stop(PackExport, job.pk)


def _queue(job: PackExport) -> None:
    queue.start(job)


def write(pk: int) -> None:
    """Write a pack that was ordered; it stands under its name only when it is whole."""
    job = PackExport.objects.get(pk=pk)
    target = path_of(job)
    partial = target.with_suffix(".part")
    try:
        label = builder.Label(job.title, job.maker, note=job.note)
        count = builder.pack_modes(job.modes, label, partial, work.progress_of(PackExport, pk))
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)
    shared.share(f"packs/{target.name}")
    PackExport.objects.filter(pk=pk).update(count=count, size=target.stat().st_size, sha256=file_hash(target))
    work.end(PackExport, pk, PackExport.State.DONE, f"{count} print modes packed")
