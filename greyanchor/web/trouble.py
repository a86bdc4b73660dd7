"""What is wrong with this machine's disk, said at the top of every page before work is lost by it."""

from __future__ import annotations

import errno
import os
import shutil
import time

from django.conf import settings
from django.db import OperationalError

#: bytes below which nothing large is safe; seconds between two looks
LITTLE = 200 * 2**20
_PAUSE = 10.0
_FULL = (errno.ENOSPC, errno.EDQUOT)
_looked: list[tuple[float, str]] = []


def on_the_disk() -> str:
    """What is wrong with the disk of the home, as a sentence or two; empty where all is well."""
    now = time.monotonic()
    if not _looked or now - _looked[0][0] > _PAUSE:
        _looked[:] = [(now, _look())]
    return _looked[0][1]


def _look() -> str:
    try:
        fixed = bool(os.statvfs(settings.HOME).f_flag & os.ST_RDONLY) or not os.access(settings.HOME, os.W_OK)
        free = shutil.disk_usage(settings.HOME).free
    except OSError as error:
        return f"The disk of this server cannot be reached ({error.strerror}). Nothing can be saved."
    if fixed:
        return "The disk of this server can only be read. Nothing can be saved until that is mended."
    if free < LITTLE:
        return (
            f"The disk of this server is full but for {free / 2**20:.0f} MB. What does not fit is refused "
            "whole; ask whoever runs this server to make room."
        )
    return ""


def of_error(error: Exception) -> str:
    """What an error says of the disk; empty where it is about something else."""
    if isinstance(error, OSError):
        if error.errno in _FULL:
            return "The disk of this server is full."
        return "The disk of this server can only be read." if error.errno == errno.EROFS else ""
    if isinstance(error, OperationalError):
        said = str(error).lower()
        if "full" in said or "no space" in said:
            return "The disk of the database is full."
        if "readonly" in said or "read-only" in said:
            return "The database can only be read."
        if "unable to open" in said or "disk i/o" in said:
            return "The database cannot be read."
    return ""
