"""Asking a printer by the Internet Printing Protocol."""

from __future__ import annotations

import http.client
import os
import ssl
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.encoding import (
    Attribute,
    Attributes,
    Group,
    Message,
    Tag,
    attribute,
    decode,
    encode,
    group,
)
from greyanchor.devices.ipp.names import Operation, status_words

#: seconds that an answer may take; a document may take long to send
ANSWER_SECONDS = 10.0
#: bytes of an answer that are read
_MOST_ANSWER = 16 * 2**20
_CHUNK = 1 << 20


class NoAnswer(BadInput):
    """The printer could not be reached, or did not answer in time: what it did is not known."""


class Refused(BadInput):
    """The printer answered that it does not do it; `code` is its status."""

    def __init__(self, reason: str, code: int) -> None:
        super().__init__(reason)
        self.code = code


@dataclass(frozen=True)
class IppClient:
    """A printer at an address such as ``ipp://127.0.0.1:8631/ipp/print``.

    Attributes
    ----------
    address
        With ``ipp`` or ``ipps``.
    user
        Who asks.
    seconds
        That an answer may take.
    """

    address: str
    user: str = "Grey Anchor"
    seconds: float = ANSWER_SECONDS

    def __post_init__(self) -> None:
        parts = urlsplit(self.address)
        if parts.scheme not in ("ipp", "ipps") or not parts.hostname:
            raise BadInput(f"{self.address!r} is no address of a printer: write ipp://host:631/ipp/print")

    def ask(
        self,
        operation: Operation,
        asked: Sequence[Attribute] = (),
        job: Attributes | None = None,
        document: Path | None = None,
        printer: Attributes | None = None,
    ) -> Message:
        """Send a request, with a document where one belongs to it.

        Raises `NoAnswer` where none comes, `Refused` where the printer says no.
        """
        message = Message(
            operation,
            1 + os.getpid() % 10_000,
            [
                (
                    Group.OPERATION,
                    group(
                        attribute("attributes-charset", Tag.CHARSET, "utf-8"),
                        attribute("attributes-natural-language", Tag.LANGUAGE, "en"),
                        attribute("printer-uri", Tag.URI, self.address),
                        *(a for a in asked if a.name == "job-id"),
                        attribute("requesting-user-name", Tag.NAME, self.user),
                        *(a for a in asked if a.name != "job-id"),
                    ),
                )
            ],
        )
        if job:
            message.groups.append((Group.JOB, job))
        if printer:
            message.groups.append((Group.PRINTER, printer))
        answer = decode(self._sent(encode(message), document))
        if answer.code >= 0x0400:
            said = answer.value("status-message", usual="")
            raise Refused(f"the printer answers {status_words(answer.code)}{f': {said}' if said else ''}",
                          answer.code)  # fmt: skip
        return answer

    def _sent(self, head: bytes, document: Path | None) -> bytes:
        parts = urlsplit(self.address)
        host, port = parts.hostname or "", parts.port or 631
        size = len(head) + (document.stat().st_size if document else 0)
        line: http.client.HTTPConnection
        if parts.scheme == "ipps":
            line = http.client.HTTPSConnection(
                host, port, timeout=self.seconds, context=ssl.create_default_context()
            )
        else:
            line = http.client.HTTPConnection(host, port, timeout=self.seconds)
        try:
            line.putrequest("POST", parts.path or "/ipp/print")
            line.putheader("Content-Type", "application/ipp")
            line.putheader("Content-Length", str(size))
            line.endheaders(head)
            if document:
                with open(document, "rb") as file:
                    while part := file.read(_CHUNK):
                        line.send(part)
            answer = line.getresponse()
            data = answer.read(_MOST_ANSWER)
        except (OSError, http.client.HTTPException) as error:
            what = "took too long to answer" if isinstance(error, TimeoutError) else "cannot be reached"
            raise NoAnswer(
                f"the printer at {host}:{port} {what} ({error or type(error).__name__})"
            ) from error
        finally:
            line.close()
        if answer.status != 200:
            raise NoAnswer(
                f"the printer at {host}:{port} answers HTTP {answer.status}: is its address right?"
            )
        return data

    def printer(self, *names: str) -> Attributes:
        """Attributes of the printer, all or those named."""
        asked = [attribute("requested-attributes", Tag.KEYWORD, *names)] if names else []
        return self.ask(Operation.GET_PRINTER_ATTRIBUTES, asked).first(Group.PRINTER)

    def job(self, number: int) -> Attributes:
        """Attributes of a job."""
        asked = [attribute("job-id", Tag.INTEGER, number)]
        return self.ask(Operation.GET_JOB_ATTRIBUTES, asked).first(Group.JOB)

    def jobs(self, which: str = "not-completed", *names: str) -> list[Attributes]:
        """Jobs that wait and print, or that are done."""
        asked = [
            attribute("which-jobs", Tag.KEYWORD, which),
            attribute("requested-attributes", Tag.KEYWORD, *(names or ("all",))),
        ]
        return self.ask(Operation.GET_JOBS, asked).all(Group.JOB)

    def act(self, operation: Operation, number: int, *more: Attribute) -> None:
        """Cancel, hold or release a job."""
        self.ask(operation, [attribute("job-id", Tag.INTEGER, number), *more])

    def make_job(self, name: str, job: Attributes | None = None) -> int:
        """A job that waits for its document; its number."""
        asked = [attribute("job-name", Tag.NAME, name)]
        return int(self.ask(Operation.CREATE_JOB, asked, job).value("job-id", Group.JOB))

    def send(self, number: int, document: Path, kind: str = "image/tiff") -> None:
        """The document of a job."""
        asked: list[Any] = [
            attribute("job-id", Tag.INTEGER, number),
            attribute("document-name", Tag.NAME, document.name),
            attribute("document-format", Tag.MIME_TYPE, kind),
            attribute("last-document", Tag.BOOLEAN, True),
        ]
        self.ask(Operation.SEND_DOCUMENT, asked, document=document)
