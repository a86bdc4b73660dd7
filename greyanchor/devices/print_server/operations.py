"""The operations of IPP that the stand-in printer knows (RFC 8011)."""

from __future__ import annotations

import gzip
import itertools
import shutil
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.encoding import Attributes, Group, Message, Tag, attribute, decode, group
from greyanchor.devices.ipp.names import JobState, Operation, Status
from greyanchor.devices.print_server import attributes as said
from greyanchor.devices.print_server.machine import PrintingMachine
from greyanchor.devices.print_server.spool import SpooledJob

#: bytes that hold all attributes of a request
_HEAD = 1 << 20
_CHUNK = 1 << 20
#: what a job may ask for; anything else is left out, and said so
_TAKEN = {"copies", "job-hold-until", "job-name", "job-priority", "media", "media-col", "print-quality",
          "printer-resolution", "sides", "finishings", "orientation-requested", "job-sheets"}  # fmt: skip


class Listening(Protocol):
    """The server whose machine is asked.

    Attributes
    ----------
    machine
        What prints.
    address, page
        Where it is asked, and where its pictures are.
    """

    machine: PrintingMachine

    @property
    def address(self) -> str: ...

    @property
    def page(self) -> str: ...


class Answer(Exception):
    """Ends an operation with a status that is no success."""

    def __init__(self, status: Status, reason: str = "") -> None:
        super().__init__(reason)
        self.status = status
        self.reason = reason


def answered(server: Listening, place: Path) -> Message:
    """The answer to a request that lies in a file, with its document behind it."""
    with open(place, "rb") as file:
        head = file.read(_HEAD)
    try:
        request = decode(head)
    except BadInput as error:
        number = int.from_bytes(head[4:8], "big") if len(head) >= 8 else 0
        return _answer(Message(0, number), Status.BAD_REQUEST, error.reason)
    start = len(head) - len(request.data)
    try:
        _check(request)
        operation = _OPERATIONS.get(request.code)
        if operation is None:
            raise Answer(Status.OPERATION_NOT_SUPPORTED)
        return operation(_Asked(server, request, place, start))
    except Answer as no:
        return _answer(request, no.status, no.reason)
    except BadInput as error:
        return _answer(request, Status.ATTRIBUTES_NOT_SUPPORTED, error.reason)


def _check(request: Message) -> None:
    """What every request must hold (RFC 8011, 4.1)."""
    if request.version[0] not in (1, 2):
        raise Answer(Status.VERSION_NOT_SUPPORTED, f"{request.version[0]}.{request.version[1]} is not spoken")
    if request.request == 0:
        raise Answer(Status.BAD_REQUEST, "a request has a number above 0")
    names = list(itertools.islice(request.first(Group.OPERATION), 3))
    if names[:2] != ["attributes-charset", "attributes-natural-language"]:
        raise Answer(Status.BAD_REQUEST, "charset and language come first")
    if len(names) < 3 or names[2] not in ("printer-uri", "job-uri"):
        raise Answer(Status.BAD_REQUEST, "a request names a printer or a job")
    if str(request.value("attributes-charset")).lower() not in ("utf-8", "us-ascii"):
        raise Answer(Status.CHARSET_NOT_SUPPORTED)


def _answer(request: Message, status: Status, reason: str = "", *groups: tuple[Group, Attributes]) -> Message:
    found = group(
        attribute("attributes-charset", Tag.CHARSET, "utf-8"),
        attribute("attributes-natural-language", Tag.LANGUAGE, "en"),
    )
    if reason:
        found["status-message"] = attribute("status-message", Tag.TEXT, reason[:255])
    version = request.version if request.version in ((1, 0), (1, 1), (2, 0)) else (2, 0)
    return Message(status, request.request, [(Group.OPERATION, found), *groups], version)


class _Asked:
    """A request at the printer, with what its operations need of it."""

    def __init__(self, server: Listening, request: Message, place: Path, start: int) -> None:
        self.server, self.request, self.place, self.start = server, request, place, start
        self.machine, self.spool = server.machine, server.machine.spool

    def answer(self, *groups: tuple[Group, Attributes], status: Status = Status.OK) -> Message:
        return _answer(self.request, status, "", *groups)

    @property
    def requested(self) -> list[str]:
        found = self.request.first(Group.OPERATION).get("requested-attributes")
        return [str(v) for v in found.values] if found else []

    def job(self) -> SpooledJob:
        """The job that is meant."""
        number = self.request.value("job-id")
        if number is None:
            tail = str(self.request.value("job-uri", usual="")).rsplit("/", 1)[-1]
            if not tail.isdecimal():
                raise Answer(Status.BAD_REQUEST, "no job is named")
            number = int(tail)
        found = self.spool.jobs.get(int(number))
        if found is None:
            raise Answer(Status.NOT_FOUND, f"there is no job {number}")
        return found

    def facts(self, job: SpooledJob, *names: str) -> tuple[Group, Attributes]:
        found = said.job_attributes(self.machine, job, self.server.address, self.server.page)
        return Group.JOB, {n: found[n] for n in names} if names else found

    def brief(self, job: SpooledJob) -> tuple[Group, Attributes]:
        return self.facts(job, "job-id", "job-uri", "job-state", "job-state-reasons", "job-state-message")

    def check_format(self) -> str:
        kind = str(self.request.value("document-format", usual=said.FORMATS[0]))
        if kind not in said.FORMATS:
            raise Answer(Status.FORMAT_NOT_SUPPORTED, f"{kind} is not printed here; {said.FORMATS[0]} is")
        if str(self.request.value("compression", usual="none")) not in ("none", "gzip", "deflate"):
            raise Answer(Status.COMPRESSION_NOT_SUPPORTED)
        return kind

    def check_template(self) -> Attributes:
        """What the job asks for that is not done here."""
        asked = self.request.first(Group.JOB)
        unknown = {k: attribute(k, Tag.UNSUPPORTED, None) for k in asked if k not in _TAKEN}
        copies = self.request.value("copies", Group.JOB, 1)
        if not 1 <= int(copies) <= 999:
            unknown["copies"] = attribute("copies", Tag.INTEGER, copies)
        if unknown and self.request.value("ipp-attribute-fidelity", usual=False):
            raise Answer(Status.ATTRIBUTES_NOT_SUPPORTED, f"{', '.join(unknown)} cannot be done")
        return unknown

    def new_job(self) -> SpooledJob:
        job = self.spool.make(
            str(self.request.value("job-name", usual=self.request.value("document-name", usual=""))),
            str(self.request.value("requesting-user-name", usual="")),
        )
        copies = int(self.request.value("copies", Group.JOB, 1))
        job.copies = copies if 1 <= copies <= 999 else 1
        if self.request.value("job-hold-until", Group.JOB, "no-hold") != "no-hold":
            job.state, job.reasons = JobState.HELD, ["job-hold-until-specified"]
        return job

    def take_document(self, job: SpooledJob, kind: str) -> None:
        """The document behind the request becomes the job's; a wrong one ends the job, which says why."""
        self.spool.take_document(job, self._document(), kind, self.machine.accept)

    def _document(self) -> Path:
        target = self.place.with_name(self.place.name + ".document")
        packed = str(self.request.value("compression", usual="none"))
        with open(self.place, "rb") as source, open(target, "wb") as out:
            source.seek(self.start)
            try:
                if packed == "gzip":
                    with gzip.open(source) as plain:
                        shutil.copyfileobj(plain, out, _CHUNK)
                elif packed == "deflate":
                    unpack = zlib.decompressobj()
                    while part := source.read(_CHUNK):
                        out.write(unpack.decompress(part))
                    out.write(unpack.flush())
                else:
                    shutil.copyfileobj(source, out, _CHUNK)
            except (OSError, EOFError, zlib.error) as error:
                target.unlink(missing_ok=True)
                raise Answer(Status.DOCUMENT_FORMAT_ERROR, f"it cannot be unpacked ({error})") from error
        return target


# --- operations ------------------------------------------------------------------------------


def _print_job(asked: _Asked) -> Message:
    kind, unknown = asked.check_format(), asked.check_template()
    job = asked.new_job()
    asked.take_document(job, kind)
    return _made(asked, job, unknown)


def _made(asked: _Asked, job: SpooledJob, unknown: Attributes) -> Message:
    groups = [(Group.UNSUPPORTED, unknown)] if unknown else []
    status = Status.OK_SOME_IGNORED if unknown else Status.OK
    return asked.answer(*groups, asked.brief(job), status=status)


def _validate(asked: _Asked) -> Message:
    asked.check_format()
    unknown = asked.check_template()
    if unknown:
        return asked.answer((Group.UNSUPPORTED, unknown), status=Status.OK_SOME_IGNORED)
    return asked.answer()


def _create(asked: _Asked) -> Message:
    unknown = asked.check_template()
    return _made(asked, asked.new_job(), unknown)


def _send_document(asked: _Asked) -> Message:
    job = asked.job()
    if asked.request.value("last-document") is None:
        raise Answer(Status.BAD_REQUEST, "last-document says whether more follow")
    if job.is_over or job.size:
        raise Answer(Status.NOT_POSSIBLE, f"job {job.number} takes no document any more")
    asked.take_document(job, asked.check_format())
    return asked.answer(asked.brief(job))


def _close(asked: _Asked) -> Message:
    job = asked.job()
    if not job.size and not job.is_over:
        asked.spool.end(job, JobState.ABORTED, "aborted-by-system", "it was closed without a document")
    return asked.answer()


def _cancel(asked: _Asked) -> Message:
    with asked.spool.lock:
        job = asked.job()
        if job.is_over:
            raise Answer(Status.NOT_POSSIBLE, f"job {job.number} is over")
        if job.state in (JobState.PROCESSING, JobState.STOPPED):
            job.reasons = ["processing-to-stop-point"]
        else:
            asked.spool.end(job, JobState.CANCELLED, "job-canceled-by-user")
    return asked.answer()


def _hold(asked: _Asked) -> Message:
    with asked.spool.lock:
        job = asked.job()
        if job.state not in (JobState.PENDING, JobState.HELD):
            raise Answer(Status.NOT_POSSIBLE, f"job {job.number} prints already, or is over")
        job.state, job.reasons = JobState.HELD, ["job-hold-until-specified"]
        asked.spool.save(job)
    return asked.answer()


def _release(asked: _Asked) -> Message:
    with asked.spool.lock:
        job = asked.job()
        if job.state != JobState.HELD:
            raise Answer(Status.NOT_POSSIBLE, f"job {job.number} is not held")
        job.state, job.reasons = JobState.PENDING, ["none" if job.size else "job-incoming"]
        asked.spool.save(job)
    return asked.answer()


def _get_job(asked: _Asked) -> Message:
    kind, found = asked.facts(asked.job())
    return asked.answer((kind, said.asked(found, asked.requested)))


def _get_jobs(asked: _Asked) -> Message:
    which = str(asked.request.value("which-jobs", usual="not-completed"))
    if which not in ("completed", "not-completed"):
        raise Answer(Status.ATTRIBUTES_NOT_SUPPORTED, f"which-jobs={which} is not known")
    found = [j for j in asked.spool.jobs.values() if j.is_over == (which == "completed")]
    if which == "completed":
        found.sort(key=lambda j: -j.ended)
    if asked.request.value("my-jobs", usual=False):
        user = str(asked.request.value("requesting-user-name", usual=""))
        found = [j for j in found if j.user == user]
    limit = asked.request.value("limit")
    found = found[: int(limit)] if limit is not None and int(limit) > 0 else found
    groups = []
    for job in found:
        kind, facts = asked.facts(job)
        groups.append((kind, said.asked(facts, asked.requested, ("job-id", "job-uri"))))
    return asked.answer(*groups)


def _get_printer(asked: _Asked) -> Message:
    asked.check_format()
    found = said.printer_attributes(asked.machine, asked.server.address, asked.server.page)
    return asked.answer((Group.PRINTER, said.asked(found, asked.requested)))


def _pause(asked: _Asked) -> Message:
    asked.machine.set("paused", True)
    return asked.answer()


def _resume(asked: _Asked) -> Message:
    asked.machine.set("paused", False)
    return asked.answer()


def _set_printer(asked: _Asked) -> Message:
    """What is in the machine, its troubles and clock, and the slots of its memory."""
    for name, held in asked.request.first(Group.PRINTER).items():
        value = held.value
        if name.startswith("handling-slot-") and name[14:].isdecimal():
            number = int(name[14:])
            if not 1 <= number <= asked.machine.model.slots:
                raise BadInput(f"there are slots 1 to {asked.machine.model.slots}")
            with asked.spool.lock:
                asked.machine.facts["slots"][str(number)] = str(value)[:4000]
                asked.spool.save_machine()
        elif name == "stand-in-trouble":
            asked.machine.set("trouble", value)
        elif name == "stand-in-clock":
            asked.machine.set("clock", int(value) / 10.0)
        elif name == "stand-in-ink":
            for ink, amount in zip(asked.machine.model.inks, held.values):
                asked.machine.set(f"ink_{ink}", int(amount) / 100.0)
        elif name == "media-col-ready":
            _load(asked.machine, value)
        else:
            raise Answer(Status.ATTRIBUTES_NOT_SUPPORTED, f"{name} cannot be set")
    return asked.answer()


def _load(machine: PrintingMachine, media: Attributes) -> None:
    if "media-type" in media:
        machine.set("media", media["media-type"].value)
    size = media["media-size"].value if "media-size" in media else {}
    for name, key in (("x-dimension", "width_mm"), ("y-dimension", "length_mm")):
        if name in size:
            machine.set(key, size[name].value / 100.0)


def _identify(asked: _Asked) -> Message:
    return asked.answer()


_OPERATIONS: dict[int, Callable[[_Asked], Message]] = {
    Operation.PRINT_JOB: _print_job,
    Operation.VALIDATE_JOB: _validate,
    Operation.CREATE_JOB: _create,
    Operation.SEND_DOCUMENT: _send_document,
    Operation.CANCEL_JOB: _cancel,
    Operation.GET_JOB_ATTRIBUTES: _get_job,
    Operation.GET_JOBS: _get_jobs,
    Operation.GET_PRINTER_ATTRIBUTES: _get_printer,
    Operation.HOLD_JOB: _hold,
    Operation.RELEASE_JOB: _release,
    Operation.PAUSE_PRINTER: _pause,
    Operation.RESUME_PRINTER: _resume,
    Operation.SET_PRINTER_ATTRIBUTES: _set_printer,
    Operation.CLOSE_JOB: _close,
    Operation.IDENTIFY_PRINTER: _identify,
}
