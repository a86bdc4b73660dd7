"""What the stand-in printer says of itself and of its jobs (RFC 8011, PWG 5100.3, 5100.7, 5100.13)."""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from datetime import UTC, datetime

from greyanchor.devices.ipp.encoding import (
    Attribute,
    Attributes,
    Range,
    Resolution,
    Tag,
    attribute,
    collection,
    group,
)
from greyanchor.devices.ipp.names import JobState, Operation, PrinterState
from greyanchor.devices.print_server.machine import FULL_INK, TROUBLES, PrintingMachine
from greyanchor.devices.print_server.spool import SpooledJob

FORMATS = ("image/tiff", "application/octet-stream")
VERSIONS = ("1.1", "2.0")
_COLOURS = {"C": "#00A0C6", "M": "#C8006E", "Y": "#F5D800", "K": "#101010", "R": "#C81E1E", "G": "#1E8C3C",
            "B": "#1E3CA0", "O": "#F07814", "V": "#5A3296", "LC": "#9AD8EA", "LM": "#EBA6C8"}  # fmt: skip
#: attributes that a job may ask for, for `requested-attributes=job-template`
_TEMPLATE = re.compile(
    r"^(copies|finishings|job-hold-until|job-priority|job-sheets|media|media-col|number-up|sides|"
    r"orientation-requested|print-quality|printer-resolution|multiple-document-handling)"
    r"(-default|-supported|-ready|-database)?$"
)


def media_name(machine: PrintingMachine) -> str:
    """What is in the machine, as a self-describing name (PWG 5101.1)."""
    plain = re.sub(r"[^a-z0-9]+", "-", str(machine.facts["media"]).lower()).strip("-") or "roll"
    length = max(int(machine.facts["length_mm"]), 1)
    return f"custom_{plain}_{machine.facts['width_mm']:g}x{length}mm"


def _media_col(machine: PrintingMachine) -> dict[str, Attribute]:
    facts = machine.facts
    return collection(
        attribute(
            "media-size",
            Tag.COLLECTION,
            collection(
                attribute("x-dimension", Tag.INTEGER, round(100 * float(facts["width_mm"]))),
                attribute("y-dimension", Tag.INTEGER, max(round(100 * float(facts["length_mm"])), 1)),
            ),
        ),
        attribute("media-type", Tag.NAME, str(facts["media"])),
        attribute("media-info", Tag.TEXT, f"{facts['media']}, {float(facts['length_mm']) / 1000:.1f} m left"),
        attribute("media-source", Tag.KEYWORD, "main-roll"),
        *(attribute(f"media-{side}-margin", Tag.INTEGER, 0) for side in ("left", "right", "top", "bottom")),
    )


def _sizes(machine: PrintingMachine) -> dict[str, Attribute]:
    """Sizes that it prints on: any width up to its own, any length."""
    return collection(
        attribute("x-dimension", Tag.RANGE, Range(5000, round(100 * machine.model.carriage.width))),
        attribute("y-dimension", Tag.RANGE, Range(1, 100_000_000)),
    )


def printer_attributes(machine: PrintingMachine, address: str, page: str) -> Attributes:
    """Everything that the printer says of itself."""
    facts, model = machine.facts, machine.model
    inks = list(facts["ink_ml"])
    state = (
        PrinterState.STOPPED
        if machine.trouble or facts["paused"]
        else PrinterState.PROCESSING
        if machine.printing
        else PrinterState.IDLE
    )
    reasons = machine.reasons
    now = datetime.now(UTC)
    found = [
        attribute("printer-uri-supported", Tag.URI, address),
        attribute("uri-authentication-supported", Tag.KEYWORD, "none"),
        attribute("uri-security-supported", Tag.KEYWORD, "none"),
        attribute("printer-name", Tag.NAME, model.name),
        attribute("printer-info", Tag.TEXT, f"{model.name}, a stand-in that prints no paper"),
        attribute("printer-location", Tag.TEXT, "here"),
        attribute("printer-make-and-model", Tag.TEXT, model.name),
        attribute("printer-device-id", Tag.TEXT, f"MFG:Grey Anchor;MDL:{model.name};SN:{model.serial};"),
        attribute("printer-uuid", Tag.URI, f"urn:uuid:{_uuid(model.serial)}"),
        attribute("printer-more-info", Tag.URI, page),
        attribute("printer-state", Tag.ENUM, state),
        attribute("printer-state-reasons", Tag.KEYWORD, *reasons),
        attribute("printer-state-message", Tag.TEXT, ", ".join(r for r in reasons if r != "none")),
        attribute("printer-is-accepting-jobs", Tag.BOOLEAN, True),
        attribute("printer-up-time", Tag.INTEGER, _up_time(machine)),
        attribute("printer-current-time", Tag.DATE_TIME, now),
        attribute("queued-job-count", Tag.INTEGER, len(machine.spool.waiting)),
        attribute("operations-supported", Tag.ENUM, *Operation),
        attribute("ipp-versions-supported", Tag.KEYWORD, *VERSIONS),
        attribute("ipp-features-supported", Tag.KEYWORD, "none"),
        attribute("charset-configured", Tag.CHARSET, "utf-8"),
        attribute("charset-supported", Tag.CHARSET, "utf-8"),
        attribute("natural-language-configured", Tag.LANGUAGE, "en"),
        attribute("generated-natural-language-supported", Tag.LANGUAGE, "en"),
        attribute("document-format-default", Tag.MIME_TYPE, FORMATS[0]),
        attribute("document-format-supported", Tag.MIME_TYPE, *FORMATS),
        attribute("compression-supported", Tag.KEYWORD, "none", "deflate", "gzip"),
        attribute("pdl-override-supported", Tag.KEYWORD, "not-attempted"),
        attribute("color-supported", Tag.BOOLEAN, True),
        attribute("multiple-document-jobs-supported", Tag.BOOLEAN, False),
        attribute("multiple-operation-time-out", Tag.INTEGER, 600),
        attribute("job-ids-supported", Tag.BOOLEAN, True),
        attribute("which-jobs-supported", Tag.KEYWORD, "completed", "not-completed"),
        attribute("copies-default", Tag.INTEGER, 1),
        attribute("copies-supported", Tag.RANGE, Range(1, 999)),
        attribute("finishings-default", Tag.ENUM, 3),
        attribute("finishings-supported", Tag.ENUM, 3),
        attribute("job-hold-until-default", Tag.KEYWORD, "no-hold"),
        attribute("job-hold-until-supported", Tag.KEYWORD, "no-hold", "indefinite"),
        attribute("job-priority-default", Tag.INTEGER, 50),
        attribute("job-priority-supported", Tag.INTEGER, 1),
        attribute("job-sheets-default", Tag.KEYWORD, "none"),
        attribute("job-sheets-supported", Tag.KEYWORD, "none"),
        attribute("orientation-requested-default", Tag.ENUM, 3),
        attribute("orientation-requested-supported", Tag.ENUM, 3),
        attribute("print-quality-default", Tag.ENUM, 5),
        attribute("print-quality-supported", Tag.ENUM, 5),
        attribute("sides-default", Tag.KEYWORD, "one-sided"),
        attribute("sides-supported", Tag.KEYWORD, "one-sided"),
        attribute("printer-resolution-default", Tag.RESOLUTION, Resolution(*(2 * (model.resolutions[0],)))),
        attribute(
            "printer-resolution-supported", Tag.RESOLUTION, *(Resolution(r, r) for r in model.resolutions)
        ),
        attribute("media-default", Tag.KEYWORD, media_name(machine)),
        attribute("media-supported", Tag.KEYWORD, media_name(machine)),
        attribute("media-ready", Tag.KEYWORD, media_name(machine)),
        attribute("media-col-default", Tag.COLLECTION, _media_col(machine)),
        attribute("media-col-ready", Tag.COLLECTION, _media_col(machine)),
        attribute(
            "media-col-supported", Tag.KEYWORD, "media-size", "media-type", "media-info", "media-source"
        ),
        attribute("media-size-supported", Tag.COLLECTION, _sizes(machine)),
        attribute("media-type-supported", Tag.NAME, str(facts["media"])),
        attribute("media-info-supported", Tag.NAME, str(facts["media"])),
        attribute("output-bin-default", Tag.KEYWORD, "face-up"),
        attribute("output-bin-supported", Tag.KEYWORD, "face-up"),
        attribute("pages-per-minute", Tag.INTEGER, 1),
        attribute("pages-per-minute-color", Tag.INTEGER, 1),
        attribute("marker-names", Tag.NAME, *inks),
        attribute("marker-types", Tag.KEYWORD, *(["ink-cartridge"] * len(inks))),
        attribute("marker-colors", Tag.NAME, *(_COLOURS.get(i, "#808080") for i in inks)),
        attribute("marker-levels", Tag.INTEGER, *(round(100 * facts["ink_ml"][i] / FULL_INK) for i in inks)),
        attribute("marker-low-levels", Tag.INTEGER, *([5] * len(inks))),
        attribute("marker-high-levels", Tag.INTEGER, *([100] * len(inks))),
        # of this printer alone
        attribute("printer-ink-set", Tag.NAME, model.ink_set, *model.other_sets),
        attribute("printer-widest", Tag.INTEGER, round(100 * model.carriage.width)),
        attribute("stand-in-clock", Tag.INTEGER, round(10 * float(facts["clock"]))),
        attribute("stand-in-trouble", Tag.KEYWORD, str(facts["trouble"])),
        attribute("stand-in-trouble-supported", Tag.KEYWORD, *TROUBLES),
        attribute("stand-in-ink", Tag.INTEGER, *(round(100 * facts["ink_ml"][i]) for i in inks)),
        attribute("handling-slots", Tag.INTEGER, model.slots),
    ]
    for number, slot in sorted(facts["slots"].items(), key=lambda pair: int(pair[0])):
        found.append(attribute(f"handling-slot-{number}", Tag.TEXT, slot))
    return group(*found)


def job_attributes(machine: PrintingMachine, job: SpooledJob, address: str, page: str) -> Attributes:
    """Everything that the printer says of a job."""
    state = _spoken(job)
    zero = machine.started

    def since(at: float) -> tuple[int, ...]:
        return (max(int(at - zero), 0),) if at else ()

    def date(at: float) -> tuple[datetime, ...]:
        return (datetime.fromtimestamp(at, UTC),) if at else ()

    found = [
        attribute("job-id", Tag.INTEGER, job.number),
        attribute("job-uri", Tag.URI, f"{address.rsplit('/ipp/', 1)[0]}/ipp/print/{job.number}"),
        attribute("job-printer-uri", Tag.URI, address),
        attribute("job-name", Tag.NAME, job.name or "without a name"),
        attribute("job-originating-user-name", Tag.NAME, job.user or "anonymous"),
        attribute("job-state", Tag.ENUM, state),
        attribute("job-state-reasons", Tag.KEYWORD, *(job.reasons or ["none"])),
        attribute("job-state-message", Tag.TEXT, job.message),
        attribute("job-more-info", Tag.URI, f"{page}prints/{job.number}.png"),
        attribute("time-at-creation", Tag.INTEGER, *since(job.created)),
        attribute("time-at-processing", Tag.INTEGER, *since(job.started)),
        attribute("time-at-completed", Tag.INTEGER, *since(job.ended)),
        attribute("date-time-at-creation", Tag.DATE_TIME, *date(job.created)),
        attribute("date-time-at-processing", Tag.DATE_TIME, *date(job.started)),
        attribute("date-time-at-completed", Tag.DATE_TIME, *date(job.ended)),
        attribute("job-printer-up-time", Tag.INTEGER, _up_time(machine)),
        attribute("job-k-octets", Tag.INTEGER, -(-job.size // 1024)),
        attribute("number-of-documents", Tag.INTEGER, int(bool(job.size) or job.is_over)),
        attribute("copies", Tag.INTEGER, job.copies),
        attribute("job-media-progress", Tag.INTEGER, int(100 * job.share + 1e-6)),
        attribute("job-media-used", Tag.INTEGER, round(100 * job.media_mm)),
        attribute("job-media-length", Tag.INTEGER, round(100 * job.length * job.copies)),
        attribute("job-ink-names", Tag.NAME, *job.ink_ml),
        attribute("job-ink-used", Tag.INTEGER, *(round(1000 * v) for v in job.ink_ml.values())),
        attribute("job-seconds-left", Tag.INTEGER, _seconds_left(machine, job)),
        attribute("job-print-hash", Tag.NAME, str(job.ticket.get("hash", ""))),
    ]
    return group(*found)


def _seconds_left(machine: PrintingMachine, job: SpooledJob) -> int:
    if job.is_over or not job.length:
        return 0
    return int(machine.seconds(job) * (1.0 - job.share) / float(machine.facts["clock"])) + 1


def _spoken(job: SpooledJob) -> int:
    """A job that waits for its document is held by that."""
    return JobState.HELD if job.state == JobState.PENDING and not job.size else job.state


def _up_time(machine: PrintingMachine) -> int:
    return max(int(time.time() - machine.started), 0) + 1


def _uuid(text: str) -> str:
    import uuid

    return str(uuid.uuid5(uuid.NAMESPACE_DNS, f"{text}.grey-anchor"))


def asked(found: Attributes, names: Sequence[str] | None, usual: Sequence[str] | None = None) -> Attributes:
    """Those of some attributes that a request names, singly or by their group; all where it names none and
    there are no usual ones.
    """
    if not names:
        return {k: v for k, v in found.items() if k in usual} if usual else found
    if "all" in names:
        return found
    wanted = set(names)
    out = {}
    for name, held in found.items():
        template = bool(_TEMPLATE.match(name))
        by_group = ("job-template" in wanted and template) or (
            wanted & {"printer-description", "job-description", "printer-defaults"} and not template
        )
        if name in wanted or by_group:
            out[name] = held
    return out
