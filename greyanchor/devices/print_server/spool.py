"""What the stand-in printer keeps on disk: jobs with their documents, and what is in the machine.

Everything is a small JSON file that is replaced whole, so that a power cut leaves the one before or the one
after. A number is never given to two jobs.
"""

from __future__ import annotations

import json
import os
import shutil
import threading
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.names import ENDED, JobState

#: jobs that ended and are still known
KEPT = 400


@dataclass
class SpooledJob:
    """A job of the printer.

    Attributes
    ----------
    number, name, user, format
        As they were given.
    state, reasons, message
        Where it is, and why.
    created, started, ended
        Seconds since 1970; 0 for not yet.
    size
        Bytes of its document; 0 while it waits for one.
    share
        What of it is printed.
    width, length
        Of the print, mm.
    ink_ml, media_mm
        What was used so far.
    ticket
        What the print file says of itself.
    """

    number: int
    name: str = ""
    user: str = ""
    format: str = "image/tiff"
    state: int = JobState.PENDING
    reasons: list[str] = field(default_factory=lambda: ["job-incoming"])
    message: str = ""
    created: float = 0.0
    started: float = 0.0
    ended: float = 0.0
    size: int = 0
    copies: int = 1
    share: float = 0.0
    width: float = 0.0
    length: float = 0.0
    ink_ml: dict[str, float] = field(default_factory=dict)
    media_mm: float = 0.0
    ticket: dict[str, Any] = field(default_factory=dict)

    @property
    def is_over(self) -> bool:
        """Whether nothing more will happen to it."""
        return self.state in ENDED


class Spool:
    """Jobs and machine in a folder.

    A job that was printing when the power went is spoiled: it comes back aborted, says how far it had come,
    and is not printed again unasked.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.lock = threading.RLock()
        (folder / "jobs").mkdir(parents=True, exist_ok=True)
        self.jobs: dict[int, SpooledJob] = {}
        self.machine: dict[str, Any] = self._read(folder / "machine.json") or {}
        for place in sorted(
            (folder / "jobs").iterdir(), key=lambda p: int(p.name) if p.name.isdigit() else 0
        ):
            facts = self._read(place / "job.json")
            if facts is not None:
                self._found(SpooledJob(**facts))

    def _found(self, job: SpooledJob) -> None:
        self.jobs[job.number] = job
        if job.state in (JobState.PROCESSING, JobState.STOPPED):
            self.end(
                job, JobState.ABORTED, "aborted-by-system",
                f"the power went while it printed: {100 * job.share:.0f} % are on the media",
            )  # fmt: skip
        elif not job.is_over and not job.size:
            self.end(job, JobState.ABORTED, "aborted-by-system", "the power went before it was complete")

    @staticmethod
    def _read(path: Path) -> Any:
        try:
            return json.loads(path.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return None

    def place(self, number: int) -> Path:
        """The folder of a job."""
        return self.folder / "jobs" / str(number)

    def document(self, number: int) -> Path:
        """The document of a job."""
        return self.place(number) / "document"

    def picture(self, number: int) -> Path:
        """The picture of its print."""
        return self.place(number) / "print.png"

    def make(self, name: str, user: str) -> SpooledJob:
        """A new job, kept before anybody hears of its number."""
        with self.lock:
            number = int(self.machine.get("last_job", 0)) + 1
            self.machine["last_job"] = number
            self.save_machine()
            job = SpooledJob(number, name, user, created=time.time())
            self.place(number).mkdir(parents=True, exist_ok=True)
            self.jobs[number] = job
            self.save(job)
            self._forget()
            return job

    def _forget(self) -> None:
        over = [j.number for j in self.jobs.values() if j.is_over]
        for number in over[: max(0, len(over) - KEPT)]:
            del self.jobs[number]
            shutil.rmtree(self.place(number), ignore_errors=True)

    def save(self, job: SpooledJob) -> None:
        """Keep a job as it is now."""
        _replaced(self.place(job.number) / "job.json", asdict(job))

    def save_machine(self) -> None:
        """Keep the machine as it is now."""
        _replaced(self.folder / "machine.json", self.machine)

    def take_document(
        self, job: SpooledJob, path: Path, kind: str, accept: Callable[[SpooledJob], None]
    ) -> None:
        """A file becomes the document of a job, by moving it. What `accept` refuses (`BadInput`) ends the job
        and says why; nothing prints a job before that.
        """
        with self.lock:
            os.replace(path, self.document(job.number))
            job.format = kind
            try:
                accept(job)
            except BadInput as error:
                self.end(job, JobState.ABORTED, "document-format-error", error.reason)
                return
            job.size = self.document(job.number).stat().st_size
            job.reasons = ["none"] if job.state == JobState.PENDING else ["job-hold-until-specified"]
            self.save(job)

    def end(self, job: SpooledJob, state: JobState, reason: str, message: str = "") -> None:
        """A job is over; its document goes, its print is remembered."""
        with self.lock:
            job.state, job.reasons, job.message, job.ended = state, [reason], message, time.time()
            self.save(job)
            self.document(job.number).unlink(missing_ok=True)
            if job.share > 0:
                with open(self.folder / "prints.jsonl", "a", encoding="utf-8") as log:
                    log.write(json.dumps(asdict(job)) + "\n")

    @property
    def waiting(self) -> list[SpooledJob]:
        """Jobs that are not over, in the order that they print."""
        return [j for j in self.jobs.values() if not j.is_over]


def _replaced(path: Path, facts: Any) -> None:
    partial = path.with_name(path.name + ".part")
    with open(partial, "w", encoding="utf-8") as file:
        json.dump(facts, file)
        file.flush()
        os.fsync(file.fileno())
    os.replace(partial, path)
