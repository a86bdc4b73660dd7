"""Background tasks of the library."""

from __future__ import annotations

from huey.contrib.djhuey import db_task

from greyanchor.library import importing
from greyanchor.library.models import PackImport
from greyanchor.profiles import work


@db_task()
def pack_task(pk: int) -> None:
    """The next step of an import; every end, good or bad, is kept with it."""
    work.carry_out(PackImport, pk, lambda: importing.carry_on(pk))
