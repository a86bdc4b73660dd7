"""The machine of the stand-in printer: it prints in its own time, uses ink and media, has its troubles."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.throughput import Carriage, square_metres_an_hour
from greyanchor.devices.ipp.names import JobState
from greyanchor.devices.print_server.spool import Spool, SpooledJob

#: ml of a full ink, mm of a fresh roll
FULL_INK, FULL_ROLL = 700.0, 30_000.0
#: troubles that a person at the machine can make: what the printer says of each
TROUBLES = {
    "none": "",
    "jam": "media-jam-error",
    "out-of-media": "media-empty-error",
    "out-of-ink": "marker-supply-empty-error",
    "cover-open": "cover-open-error",
}
#: pixels of the longer side of the picture of a print; more where faults are looked for on it
_SIDE, _TRIAL_SIDE = 480, 1100
_TICK, _NOTED_EVERY = 0.05, 0.5
#: shortest print, so that each can be seen, seconds of the printer's own time
_LEAST_SECONDS = 2.0


@dataclass(frozen=True)
class Model:
    """A printer model.

    Attributes
    ----------
    name, serial
        As its plate says.
    ink_set, inks
        What runs in it.
    carriage
        What decides its speed; its width is the machine's.
    resolutions
        Dots an inch.
    slots
        Of its memory for handling settings.
    other_sets
        Ink sets that are part of what runs in it.
    """

    name: str
    serial: str
    ink_set: str
    inks: tuple[str, ...]
    carriage: Carriage
    resolutions: tuple[int, ...] = (600, 1200)
    slots: int = 8
    other_sets: tuple[str, ...] = ()


_PETREL = Carriage(1118.0, 54.0, 1100.0, 24.0, 0.3)
_GANNET = Carriage(1626.0, 72.0, 1400.0, 30.0, 0.3)
_DUNLIN = Carriage(610.0, 25.0, 900.0, 18.0)
_FINE = (600, 1200, 1440, 2400)
MODELS = {
    "petrel-44": Model(
        "Petrel 44",
        "PT44-0117",
        "Tarn pigment",
        tuple("CMYK"),
        _PETREL,
        _FINE,
        other_sets=("Tarn pigment, films",),
    ),
    "petrel-44-light": Model(
        "Petrel 44", "PT44-0117", "Tarn pigment light", (*"CMYK", "LC", "LM"), _PETREL, _FINE
    ),
    "gannet-64": Model("Gannet 64", "GN64-0042", "Basalt UV", tuple("CMYK"), _GANNET),
    "gannet-64-seven": Model(
        "Gannet 64", "GN64-0042", "Basalt UV seven", tuple("CMYKOGVW"), _GANNET, other_sets=("Basalt UV",)
    ),
    "dunlin-24": Model("Dunlin 24", "DL24-2210", "Tarn photo", tuple("RGB"), _DUNLIN, (1200, 2400)),
}


class PrintingMachine:
    """Prints the jobs of a spool one after another, in a thread of its own.

    Parameters
    ----------
    spool
        Where its jobs and its state are.
    model
        What it is.
    media, width
        What is in it when its state says nothing yet; mm.
    """

    def __init__(self, spool: Spool, model: Model, media: str, width: float) -> None:
        if not 50.0 <= width <= model.carriage.width:
            raise BadInput(f"{model.name} takes media of 50 to {model.carriage.width:g} mm, not {width:g}")
        self.spool, self.model = spool, model
        facts = spool.machine
        facts.setdefault("media", media)
        facts.setdefault("width_mm", width)
        facts.setdefault("length_mm", FULL_ROLL)
        facts.setdefault("ink_ml", dict.fromkeys(model.inks, FULL_INK))
        facts.setdefault("paused", False)
        facts.setdefault("trouble", "none")
        facts.setdefault("clock", 1.0)
        facts.setdefault("slots", {})
        spool.save_machine()
        self.started = time.time()
        self._ends = threading.Event()
        self._rests_until = 0.0
        self._thread = threading.Thread(target=self._run, name="machine", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End after the tick that runs; what prints is as after a power cut."""
        self._ends.set()
        self._thread.join(timeout=5.0)

    # --- what it says of itself ----------------------------------------------------------------

    @property
    def facts(self) -> dict[str, Any]:
        """Media, inks, trouble, clock, slots."""
        return self.spool.machine

    @property
    def printing(self) -> SpooledJob | None:
        """What is under its heads."""
        return next(
            (j for j in self.spool.waiting if j.state in (JobState.PROCESSING, JobState.STOPPED)), None
        )

    @property
    def trouble(self) -> str:
        """What keeps it from printing, as IPP names it; empty for nothing."""
        if self.facts["trouble"] != "none":
            return TROUBLES[self.facts["trouble"]]
        if min(self.facts["ink_ml"].values()) <= 0.0:
            return "marker-supply-empty-error"
        return "media-empty-error" if self.facts["length_mm"] <= 0.0 else ""

    @property
    def reasons(self) -> list[str]:
        """Why it is as it is: trouble, pause, what runs low."""
        found = [self.trouble] if self.trouble else []
        if self.facts["paused"]:
            found.append("paused")
        if 0.0 < min(self.facts["ink_ml"].values()) < 0.05 * FULL_INK:
            found.append("marker-supply-low-warning")
        if 0.0 < self.facts["length_mm"] < 1000.0:
            found.append("media-low-warning")
        return found or ["none"]

    # --- what a person at it does --------------------------------------------------------------

    def set(self, name: str, value: Any) -> None:
        """Change what is in it or how it runs. Raises `BadInput` for what cannot be."""
        with self.spool.lock:
            facts = self.facts
            if name == "trouble" and value in TROUBLES:
                facts["trouble"] = value
                if value == "none" and self.printing is None:
                    facts["length_mm"] = max(facts["length_mm"], 0.0)
            elif name == "clock" and 0.1 <= float(value) <= 100_000.0:
                facts["clock"] = float(value)
            elif name == "paused":
                facts["paused"] = bool(value)
            elif name == "media" and str(value).strip():
                facts["media"] = str(value).strip()[:120]
                facts["length_mm"] = FULL_ROLL
            elif name == "width_mm" and 50.0 <= float(value) <= self.model.carriage.width:
                facts["width_mm"] = float(value)
            elif name == "length_mm" and 0.0 <= float(value) <= 1e6:
                facts["length_mm"] = float(value)
            elif name.startswith("ink_") and name[4:] in facts["ink_ml"] and 0.0 <= float(value) <= FULL_INK:
                facts["ink_ml"][name[4:]] = float(value)
            else:
                raise BadInput(f"{name} cannot be {value!r} on {self.model.name}")
            self.spool.save_machine()

    # --- printing ------------------------------------------------------------------------------

    def accept(self, job: SpooledJob) -> None:
        """Look at a job's document before it waits. Raises `BadInput` where it is not for this machine."""
        facts = facts_of(self.spool.document(job.number))
        job.ticket, job.width, job.length = facts.ticket, facts.width_mm, facts.length_mm
        for key, own, what in (
            ("printer", self.model.name, "printer"),
            ("ink_set", self.model.ink_set, "ink set"),
        ):
            made_for = facts.ticket.get(key)
            if made_for and made_for not in (own, *self.model.other_sets):
                raise BadInput(f"it was made for the {what} {made_for}, this is {own}")
        if facts.ticket and not set(facts.inks) <= set(self.model.inks):
            raise BadInput(
                f"it has planes of {' '.join(facts.inks)}, this prints {' '.join(self.model.inks)}"
            )
        if "ink_ml" not in job.ticket and facts.inks:
            job.ticket["ink_ml"] = ink_of(self.spool.document(job.number), facts)
        if job.width > self.model.carriage.width + 0.5:
            raise BadInput(f"it is {job.width:.0f} mm wide, the machine {self.model.carriage.width:.0f}")
        self.spool.save(job)

    def seconds(self, job: SpooledJob) -> float:
        """What a job takes in the printer's own time."""
        environment = job.ticket.get("settings", {}).get("environment", {})
        handling = job.ticket.get("settings", {}).get("handling", {})
        narrow = Carriage(
            min(self.model.carriage.width, job.width + 40.0), self.model.carriage.swath,
            self.model.carriage.fastest, self.model.carriage.firing, self.model.carriage.turn,
        )  # fmt: skip
        speed = square_metres_an_hour(
            narrow,
            int(environment.get("resolution", 600)),
            int(environment.get("passes", 8)),
            str(environment.get("direction", "one way")),
            float(handling.get("pass_pause", 0.0)),
            float(handling.get("overprints", 1.0)),
        )
        area = narrow.width * job.length / 1e6 * job.copies
        return max(_LEAST_SECONDS, 3600.0 * area / speed)

    def _run(self) -> None:
        last, noted = time.monotonic(), 0.0
        while not self._ends.wait(_TICK):
            now = time.monotonic()
            passed, last = (now - last) * float(self.facts["clock"]), now
            with self.spool.lock:
                job = self.printing or self._next()
                if job is None:
                    continue
                self._advance(job, passed)
            if job.share >= 1.0 and not job.is_over:
                self._picture(job)  # takes a while: the printer answers meanwhile
                self.spool.end(job, JobState.COMPLETED, "job-completed-successfully", job.message)
                self._rests_until = time.monotonic() + self._pause_after(job)
            with self.spool.lock:
                if now - noted > _NOTED_EVERY or job.is_over:
                    noted = now
                    self.spool.save(job)
                    self.spool.save_machine()

    def _pause_after(self, job: SpooledJob) -> float:
        """Seconds that a print dries before the next begins."""
        handling = job.ticket.get("settings", {}).get("handling", {})
        return float(handling.get("sheet_pause", 0.0)) / float(self.facts["clock"])

    def _next(self) -> SpooledJob | None:
        if self.facts["paused"] or self.trouble or time.monotonic() < self._rests_until:
            return None
        job = next((j for j in self.spool.waiting if j.state == JobState.PENDING and j.size), None)
        if job is None:
            return None
        if job.width > float(self.facts["width_mm"]) + 0.5:
            self.spool.end(
                job, JobState.ABORTED, "aborted-by-system",
                f"it is {job.width:.0f} mm wide, the media in the machine {self.facts['width_mm']:.0f}",
            )  # fmt: skip
            return None
        job.state, job.reasons, job.started = JobState.PROCESSING, ["job-printing"], time.time()
        self.spool.save(job)
        return job

    def _advance(self, job: SpooledJob, passed: float) -> None:
        if job.reasons == ["processing-to-stop-point"]:
            self.spool.end(
                job, JobState.CANCELLED, "job-canceled-by-user", f"{100 * job.share:.0f} % printed"
            )
            return
        if self.trouble or self.facts["paused"]:
            job.state = JobState.STOPPED
            job.reasons = ["printer-stopped"]
            job.message = self.trouble
            return
        job.state, job.reasons, job.message = JobState.PROCESSING, ["job-printing"], ""
        step = min(passed / self.seconds(job), 1.0 - job.share)
        length = job.length * job.copies
        if length > 0.0:
            step = min(step, max(float(self.facts["length_mm"]), 0.0) / length)
        job.share += step
        self.facts["length_mm"] = max(float(self.facts["length_mm"]) - step * length, 0.0)
        job.media_mm += step * length
        for ink, whole in (job.ticket.get("ink_ml") or self._usual(job)).items():
            if ink in self.facts["ink_ml"]:
                used = min(step * float(whole) * job.copies, self.facts["ink_ml"][ink])
                self.facts["ink_ml"][ink] -= used
                job.ink_ml[ink] = job.ink_ml.get(ink, 0.0) + used
        if job.share >= 1.0 - 1e-9:
            job.share = 1.0

    def _usual(self, job: SpooledJob) -> Mapping[str, float]:
        return dict.fromkeys(self.model.inks, 0.2 * LOAD_AT_FULL * job.width * job.length / 1e6)

    def _picture(self, job: SpooledJob) -> None:
        """The print as it lies on the table, where its file says under which settings it was printed."""
        settings = job.ticket.get("settings")
        if not settings:
            return
        try:
            side = _TRIAL_SIDE if job.ticket.get("trial") else _SIDE
            data = print_picture(self.spool.document(job.number), settings, self.model, job.number, side)
        except (BadInput, KeyError, ValueError, TypeError) as error:
            job.message = f"no picture of it: {error}"
            return
        self.spool.picture(job.number).write_bytes(data)


@dataclass(frozen=True)
class DocumentFacts:
    """What a print file says: its ticket, its inks in order, its size in mm."""

    ticket: dict[str, Any]
    inks: tuple[str, ...]
    width_mm: float
    length_mm: float


def facts_of(path: Path) -> DocumentFacts:
    """What a TIFF says of itself. Raises `BadInput` for a file that is none."""
    import json

    import tifffile

    try:
        with tifffile.TiffFile(path) as file:
            page = file.pages[0]
            across, along = (_dots(page, name) for name in ("XResolution", "YResolution"))
            rows, columns = page.shape[0], page.shape[1]
            names = tuple(str(p.tags["PageName"].value) for p in file.pages if "PageName" in p.tags)
            text = page.description if page.description else ""
    except (tifffile.TiffFileError, KeyError, IndexError, OSError, ValueError) as error:
        raise BadInput(f"it is no TIFF that can be printed ({error})") from error
    try:
        ticket = json.loads(text)
    except ValueError:
        ticket = {}
    size = columns / across * 25.4, rows / along * 25.4
    return DocumentFacts(ticket if isinstance(ticket, dict) else {}, names, *size)


#: dots of a plane that are counted; a larger print is taken to have the usual ink
_MOST_COUNTED = 2_000_000_000


def ink_of(path: Path, facts: DocumentFacts) -> dict[str, float]:
    """ml of each ink that a print file takes, counted in its planes; nothing for one that is too large."""
    import pyvips

    area, found = facts.width_mm * facts.length_mm / 1e6, {}
    if facts.inks == tuple("RGB"):
        return {}
    for place, ink in enumerate(facts.inks):
        plane = pyvips.Image.new_from_file(f"{path}[page={place}]", access="sequential")
        if plane.width * plane.height > _MOST_COUNTED:
            return {}
        found[ink] = LOAD_AT_FULL * area * (1.0 - plane.avg() / 255.0)
    return found


def _dots(page: Any, name: str) -> float:
    value = page.tags[name].value if name in page.tags else (300, 1)
    return max(value[0] / max(value[1], 1), 1.0)


def print_picture(
    path: Path, settings: Mapping[str, Any], model: Model, number: int, side: int = _SIDE
) -> bytes:
    """PNG of what a print file leaves on the media: its planes, made small, through the simulated press."""
    import numpy as np
    import pyvips
    from PIL import Image

    from greyanchor.core.printing.environment import PrintEnvironment
    from greyanchor.core.simulation.catalogue import press_for
    from greyanchor.core.simulation.machine import Mechanics
    from greyanchor.core.simulation.print_faults import seen_print

    environment = PrintEnvironment(**settings["environment"])
    facts = facts_of(path)
    planes: list[Any] = []
    picture = facts.inks == tuple("RGB")  # one page, of light
    for place in range(1 if picture else len(facts.inks)):
        plane = pyvips.Image.new_from_file(f"{path}[page={place}]", access="sequential").cast("float")
        share = min(1.0, side / max(plane.width, plane.height))
        light = plane.resize(share, kernel="linear").numpy() / 255.0
        light = np.clip(light.reshape(light.shape[0], light.shape[1], -1), 0.0, 1.0)
        planes += [light[..., i] for i in range(3)] if picture else [1.0 - light[..., 0]]
    asked = np.round(np.stack(planes, axis=-1) * 31.0) / 31.0
    press = press_for(environment)
    raw = press.as_raw(asked.reshape(-1, asked.shape[2]), facts.inks).reshape(*asked.shape[:2], -1)
    media = Mechanics(model.serial, environment.media, 240.0)
    pixel = facts.width_mm / raw.shape[1]
    drawn = seen_print(press, raw, pixel, media, settings.get("handling", {}), number)
    out = io.BytesIO()
    Image.fromarray(drawn).save(out, format="PNG")
    return out.getvalue()
