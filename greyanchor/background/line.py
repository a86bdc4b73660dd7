"""The line from a site to the shop's database: while it is cut, pages come from the site's own copy, to be
read alone.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime
from pathlib import Path
from threading import Lock
from typing import Any

from django.conf import settings
from django.db import DEFAULT_DB_ALIAS, InterfaceError, OperationalError, connections
from django.utils import timezone

from greyanchor.core.errors import BadInput

COPY = "copy"
#: seconds between two tries while the line is cut
_PAUSE = 10.0
_from_copy: ContextVar[bool] = ContextVar("from_copy", default=False)


class LineCut(BadInput):
    """Something would be changed while the line is cut."""

    def __init__(self) -> None:
        super().__init__(
            "the line to the shop's database is cut; look things up, and change them once it is back"
        )


class Router:
    """Asks the copy while a request is answered from it, and lets nothing be written then."""

    def db_for_read(self, model: Any, **hints: Any) -> str | None:
        return COPY if _from_copy.get() else None

    def db_for_write(self, model: Any, **hints: Any) -> str | None:
        if _from_copy.get():
            raise LineCut
        return None

    def allow_relation(self, *_: Any, **__: Any) -> bool | None:
        return True


class _Line:
    """What this process knows of the line."""

    def __init__(self) -> None:
        self._lock = Lock()
        self.cut_at: datetime | None = None
        self._tried = 0.0

    def is_cut(self) -> bool:
        """Ask the database, or remember for a few seconds that it did not answer."""
        with self._lock:
            if self.cut_at is not None and time.monotonic() - self._tried < _PAUSE:
                return True
        try:
            connections[DEFAULT_DB_ALIAS].ensure_connection()
            if not connections[DEFAULT_DB_ALIAS].is_usable():
                connections[DEFAULT_DB_ALIAS].close()
                connections[DEFAULT_DB_ALIAS].ensure_connection()
        except (OperationalError, InterfaceError):
            with self._lock:
                self.cut_at = self.cut_at or timezone.now()
                self._tried = time.monotonic()
            return True
        self.cut_at = None
        return False


line = _Line()


def copy_path() -> Path:
    """Where the copy of the shop's database is."""
    return Path(settings.HOME) / "copy.sqlite3"


def copied_at() -> datetime | None:
    """Of when the copy is; None where there is none."""
    try:
        return datetime.fromtimestamp(os.stat(copy_path()).st_mtime, tz=timezone.get_current_timezone())
    except OSError:
        return None


def keeps_a_copy() -> bool:
    """Whether this site is set to keep one."""
    return COPY in settings.DATABASES


@contextmanager
def from_copy() -> Iterator[None]:
    """Everything inside is read from the copy, and nothing is written."""
    token = _from_copy.set(True)
    try:
        yield
    finally:
        _from_copy.reset(token)


def reads_copy() -> bool:
    """Whether what is going on is read from the copy."""
    return _from_copy.get()


def notice() -> str:
    """What people must know while they read the copy; empty at all other times."""
    if not reads_copy():
        return ""
    cut, copied = line.cut_at, copied_at()
    since = f" since {timezone.localtime(cut):%H:%M}" if cut else ""
    of = f"{timezone.localtime(copied):%H:%M on %-d %b}" if copied else "an earlier time"
    return (
        f"The line to the shop's database has been cut{since}. This is this site's copy of {of}, to be read "
        "alone: nothing can be changed until the line is back."
    )
