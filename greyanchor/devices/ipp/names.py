"""Numbers of the Internet Printing Protocol (RFC 8011, PWG 5100.13 and the registry of IANA)."""

from __future__ import annotations

from enum import IntEnum


class Operation(IntEnum):
    """What a request asks for."""

    PRINT_JOB = 0x02
    VALIDATE_JOB = 0x04
    CREATE_JOB = 0x05
    SEND_DOCUMENT = 0x06
    CANCEL_JOB = 0x08
    GET_JOB_ATTRIBUTES = 0x09
    GET_JOBS = 0x0A
    GET_PRINTER_ATTRIBUTES = 0x0B
    HOLD_JOB = 0x0C
    RELEASE_JOB = 0x0D
    PAUSE_PRINTER = 0x10
    RESUME_PRINTER = 0x11
    SET_PRINTER_ATTRIBUTES = 0x13
    CLOSE_JOB = 0x3B
    IDENTIFY_PRINTER = 0x3C


class Status(IntEnum):
    """How a request went."""

    OK = 0x0000
    OK_SOME_IGNORED = 0x0001
    BAD_REQUEST = 0x0400
    FORBIDDEN = 0x0401
    NOT_POSSIBLE = 0x0404
    NOT_FOUND = 0x0406
    TOO_LARGE = 0x0408
    FORMAT_NOT_SUPPORTED = 0x040A
    ATTRIBUTES_NOT_SUPPORTED = 0x040B
    CHARSET_NOT_SUPPORTED = 0x040D
    CONFLICTING_ATTRIBUTES = 0x040E
    COMPRESSION_NOT_SUPPORTED = 0x040F
    DOCUMENT_FORMAT_ERROR = 0x0411
    INTERNAL_ERROR = 0x0500
    OPERATION_NOT_SUPPORTED = 0x0501
    VERSION_NOT_SUPPORTED = 0x0503
    NOT_ACCEPTING_JOBS = 0x0506
    BUSY = 0x0507
    CANCELLED = 0x0508


class JobState(IntEnum):
    """Where a job is."""

    PENDING = 3
    HELD = 4
    PROCESSING = 5
    STOPPED = 6
    CANCELLED = 7
    ABORTED = 8
    COMPLETED = 9


class PrinterState(IntEnum):
    """What a printer does."""

    IDLE = 3
    PROCESSING = 4
    STOPPED = 5


ENDED = (JobState.CANCELLED, JobState.ABORTED, JobState.COMPLETED)


def status_words(code: int) -> str:
    """A status as it is written: ``client-error-not-found``."""
    kind = "successful" if code < 0x100 else "client-error" if code < 0x500 else "server-error"
    try:
        name = Status(code).name.lower().replace("_", "-")
    except ValueError:
        return f"{kind} 0x{code:04x}"
    return "successful-ok" if code == 0 else f"{kind}-{name}"
