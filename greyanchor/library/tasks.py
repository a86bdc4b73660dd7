"""Background tasks of the library."""

from __future__ import annotations

from huey.contrib.djhuey import db_task

from greyanchor.library import exporting, importing
from greyanchor.library.models import PackExport, PackImport
from greyanchor.profiles import work


@db_task()
def pack_task(pk: int) -> None:
    """The next step of an import; every end, good or bad, is kept with it."""
    work.carry_out(PackImport, pk, lambda: importing.carry_on(pk))


@db_task()
def export_task(pk: int) -> None:
    """Write a pack that was ordered."""
    work.carry_out(PackExport, pk, lambda: exporting.write(pk))
