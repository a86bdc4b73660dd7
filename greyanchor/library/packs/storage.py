"""What grows here: packs that wait for a decision, and those that were written to be fetched."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from greyanchor.background import growth
from greyanchor.library.models import PackExport, PackImport
from greyanchor.library.packs import exporting, importing

_OPEN = (PackImport.State.QUEUED, PackImport.State.RUNNING)


def _files() -> Iterator[Path]:
    return growth.files_below(importing.folder())


def _waiting() -> Iterator[growth.Thing]:
    """Packs that nobody decided on; an import that was written keeps no file."""
    for job in PackImport.objects.exclude(state__in=_OPEN).defer("plan", "result"):
        path = importing.path_of(job)
        if path.is_file():
            yield growth.Thing(path.stat().st_size, job.heard_at, lambda job=job: _end(job))


def _end(job: PackImport) -> None:
    importing.drop(job)
    PackImport.objects.filter(pk=job.pk, step=PackImport.Step.PLAN).update(
        state=PackImport.State.CANCELLED, message="nobody decided on it in time; send it again"
    )


def _written() -> Iterator[growth.Thing]:
    for job in PackExport.objects.exclude(state__in=_OPEN):
        path = exporting.path_of(job)
        if path.is_file():
            yield growth.Thing(
                path.stat().st_size, job.created_at, lambda path=path: path.unlink(missing_ok=True)
            )


growth.register(
    growth.Store(
        "packs", "Packs that wait, and packs to fetch", "what a pack brought stays; it can be sent again",
        lambda: growth.size_of(_files()), "packs_days", lambda: (*_waiting(), *_written()),
    )
)  # fmt: skip
