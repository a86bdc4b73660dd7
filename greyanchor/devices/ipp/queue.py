"""A printer's queue by the Internet Printing Protocol."""

from __future__ import annotations

import urllib.request
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.client import IppClient, NoAnswer
from greyanchor.devices.ipp.encoding import flat
from greyanchor.devices.ipp.names import JobState, Operation, PrinterState
from greyanchor.devices.ports import MachineState, PrintState

_MACHINE = {PrinterState.IDLE: "idle", PrinterState.PROCESSING: "printing", PrinterState.STOPPED: "stopped"}
_JOBS = {
    JobState.PENDING: "waiting",
    JobState.HELD: "held",
    JobState.PROCESSING: "printing",
    JobState.STOPPED: "stopped",
    JobState.CANCELLED: "cancelled",
    JobState.ABORTED: "failed",
    JobState.COMPLETED: "done",
}
_ACTS = {"cancel": Operation.CANCEL_JOB, "hold": Operation.HOLD_JOB, "release": Operation.RELEASE_JOB}
#: reasons of printers in words; the severity that may follow is left out
_WORDS = {
    "media-empty": "no media is left",
    "media-needed": "other media is asked for",
    "media-low": "little media is left",
    "media-jam": "the media is jammed",
    "marker-supply-empty": "an ink is empty",
    "marker-supply-low": "an ink runs low",
    "cover-open": "a cover is open",
    "paused": "it is paused",
    "shutdown": "it is switched off",
    "printer-stopped": "the printer stopped",
    "aborted-by-system": "the printer gave it up",
    "job-canceled-by-user": "it was cancelled",
    "document-format-error": "the printer cannot print this file",
}
_QUIET = {"none", "job-printing", "job-completed-successfully", "job-incoming", "job-hold-until-specified"}
_SEVERITIES = ("-report", "-warning", "-error")
_FORMAT = "image/tiff"


@dataclass(frozen=True)
class IppQueue:
    """The queue of one printer; see `devices.ports.QueuePort`."""

    client: IppClient

    def machine(self) -> MachineState:
        """See `QueuePort`."""
        said = flat(self.client.printer().values())
        ready = said.get("media-col-ready")
        ready = ready[0] if isinstance(ready, list) else ready or {}
        size = ready.get("media-size") or {}
        sets = _listed(said.get("printer-ink-set"))
        names, levels = _listed(said.get("marker-names")), _listed(said.get("marker-levels"))
        return MachineState(
            _MACHINE.get(said.get("printer-state", 0), "stopped"),
            tuple(filter(None, map(_word, _listed(said.get("printer-state-reasons"))))),
            str(ready.get("media-type") or ready.get("media-info") or ""),
            _mm(size.get("x-dimension")),
            _mm(size.get("y-dimension")),
            {str(n): float(v) for n, v in zip(names, levels) if isinstance(v, int) and v >= 0},
            str(said.get("printer-make-and-model") or ""),
            str(sets[0]) if sets else "",
            "paused" in _listed(said.get("printer-state-reasons")),
            tuple(map(str, sets[1:])),
        )

    def send(self, key: str, name: str, path: Path) -> int:
        """See `QueuePort`."""
        there = self.find(key)
        number = there.number if there else self.client.make_job(f"{name[:60]} [{key}]")
        if there is None or there.state == "incoming":
            self.client.send(number, path, _FORMAT)
        return number

    def find(self, key: str) -> PrintState | None:
        """See `QueuePort`. A job that ended before its document was there left nothing and counts as none."""
        for which in ("not-completed", "completed"):
            for job in self.client.jobs(which):
                said = flat(job.values())
                if str(said.get("job-name", "")).endswith(f"[{key}]"):
                    found = _state(said)
                    if found.state in ("failed", "cancelled") and not found.media_mm:
                        continue
                    return found
        return None

    def state_of(self, number: int) -> PrintState:
        """See `QueuePort`."""
        return _state(flat(self.client.job(number).values()))

    def act(self, number: int, what: str) -> None:
        """See `QueuePort`."""
        if what not in _ACTS:
            raise BadInput(f"a print is cancelled, held or released, not {what}")
        self.client.act(_ACTS[what], number)

    def pause(self, is_paused: bool) -> None:
        """See `QueuePort`."""
        self.client.ask(Operation.PAUSE_PRINTER if is_paused else Operation.RESUME_PRINTER)

    def picture(self, number: int) -> bytes:
        """See `QueuePort`."""
        address = str(flat(self.client.job(number).values()).get("job-more-info") or "")
        if not address.startswith("http://") or not address.endswith(".png"):
            return b""
        try:
            with urllib.request.urlopen(address, timeout=self.client.seconds) as answer:
                data: bytes = answer.read(1 << 24)
        except OSError as error:
            raise NoAnswer(f"the picture of the print did not come ({error})") from error
        return data if data.startswith(b"\x89PNG") else b""


def _state(said: Mapping[str, Any]) -> PrintState:
    state = _JOBS.get(said.get("job-state", 0), "failed")
    reasons = [str(r) for r in _listed(said.get("job-state-reasons"))]
    if state in ("held", "waiting") and "job-incoming" in reasons:
        state = "incoming"
    words = [w for w in map(_word, reasons) if w]
    message = str(said.get("job-state-message") or "")
    share, left = said.get("job-media-progress"), said.get("job-seconds-left")
    inks = zip(_listed(said.get("job-ink-names")), _listed(said.get("job-ink-used")))
    return PrintState(
        int(said.get("job-id") or 0),
        state,
        _word(message) or message or ", ".join(words),
        None if share is None else float(share) / 100.0,
        None if left is None else float(left),
        _mm(said.get("job-media-used")),
        {str(ink): float(used) / 1000.0 for ink, used in inks},
    )


def _word(reason: str) -> str:
    """A reason in words; one that is not known as it is written."""
    plain = str(reason)
    for severity in _SEVERITIES:
        plain = plain.removesuffix(severity)
    return "" if plain in _QUIET else _WORDS.get(plain, plain.replace("-", " "))


def _mm(hundredths: Any) -> float | None:
    """Hundredths of a mm; the lower end of a range."""
    if isinstance(hundredths, tuple):
        hundredths = hundredths[0]
    return None if hundredths is None else float(hundredths) / 100.0


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [] if value is None else [value]
