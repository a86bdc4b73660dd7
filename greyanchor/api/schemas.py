"""What programs send and get. The description of the interface is made from these."""

from __future__ import annotations

from typing import Any, Literal

from ninja import Field, Schema


class Refusal(Schema):
    """Why a request was refused, in words."""

    error: str


class Mode(Schema):
    """A print mode in a list."""

    id: int
    name: str
    state: Literal["building", "ready", "released", "retired"]
    version: int
    printer: str
    site: str
    ink_set: str
    media: str
    media_class: str
    maker: str
    resolution: int | None
    passes: int | None
    speed_m2h: float | None
    verdict: Literal["pass", "fail", "none"]
    calibrated_at: str | None
    changed_at: str
    url: str


class HandlingValue(Schema):
    """A handling setting in force, and who decides it."""

    value: float
    unit: str
    source: Literal["printer", "class", "preset", "mode"]


class WholeMode(Mode):
    """A print mode with limits, environment and handling settings; percent."""

    environment: dict[str, Any]
    limits: dict[str, float]
    total_ink: float | None
    note: str
    handling: dict[str, HandlingValue]
    editions: list[int]
    profile_url: str | None
    pack_url: str


class Modes(Schema):
    """A page of modes."""

    total: int
    page: int
    pages: int
    modes: list[Mode]


class ModeQuery(Schema):
    """How modes are narrowed; the same words as the page that finds them."""

    q: str = Field("", description="words in names and notes")
    state: list[str] = Field([], description="building, ready, released or retired")
    printer: list[str] = Field([], description="primary key")
    site: list[str] = Field([], description="primary key")
    ink_set: list[str] = Field([], description="primary key")
    media_class: list[str] = Field([], description="primary key")
    maker: list[str] = Field([], description="name")
    media: list[str] = Field([], description="primary key")
    resolution: list[str] = Field([], description="dpi")
    passes: list[str] = Field([], description="number")
    verdict: list[str] = Field([], description="pass, fail or none")
    made_by: list[str] = Field([], description="primary key")
    sort: str = Field("", description="a column, with - for downwards")
    page: str = Field("1", description="from 1")


class PlannedMode(Schema):
    """What an import would do with a mode."""

    name: str
    action: Literal["create", "same", "clash"]


class Import(Schema):
    """A pack that is tested, or waits for a person's decision."""

    id: int
    name: str
    step: Literal["test", "plan", "write", "done"]
    state: Literal["waiting", "queued", "running", "done", "failed", "cancelled", "interrupted"]
    message: str
    progress: float
    modes: list[PlannedMode]
    result: dict[str, Any]
    url: str


class Check(Schema):
    """A check in a list."""

    id: int
    mode: int | None
    aim: str
    tolerances: str
    verdict: Literal["pass", "fail"]
    summary: str
    made_at: str
    signed: bool
    url: str


class WholeCheck(Check):
    """A check with its criteria."""

    criteria: list[dict[str, Any]]


class Checks(Schema):
    """Checks, the newest first; at most 200."""

    total: int
    checks: list[Check]


class OpenChart(Schema):
    """A print that waits for readings."""

    print: int
    title: str
    purpose: str
    patches: int
    printer: str | None


class Charts(Schema):
    """Prints that wait for readings."""

    charts: list[OpenChart]


class Delivery(Schema):
    """What became of delivered readings."""

    outcome: Literal["taken", "refused"]
    reason: str
    print: int | None


# --- the print room --------------------------------------------------------------------------


class ArtworkPage(Schema):
    """A page of artwork; mm."""

    width_mm: float | None
    height_mm: float | None
    spots: list[str]


class Finding(Schema):
    """What was found in artwork: how grave (stop, warn, know), what, where, and what to do."""

    level: str
    text: str
    where: str = ""
    advice: str = ""


class Artwork(Schema):
    """Artwork that was taken in."""

    id: int
    name: str
    sha256: str
    size: int
    state: str
    message: str
    kind: str
    pages: list[ArtworkPage]
    findings: list[Finding]
    url: str


class JobOrder(Schema):
    """A job to be made. `choices` are those of a job by name, such as intent, margin_mm or quarters."""

    artwork: int
    mode: int
    page: int = 1
    width_mm: float | None = None
    copies: int = 1
    choices: dict[str, Any] = Field(default_factory=dict)
    then: Literal["hold", "prepare", "print", "fill"] = "hold"


class PrintFileFacts(Schema):
    """What was prepared of a job."""

    id: int
    panel: int
    state: str
    progress: float
    message: str
    edition: int | None
    planes_url: str | None


class Print(Schema):
    """A print: where it stands, what it used, how it ended, and what its check says."""

    id: int
    what: str
    job: int | None
    run: int | None
    mode: int | None
    edition: int | None
    printer: str
    state: str
    reason: str
    share: float
    seconds_left: float | None
    media: str
    media_mm: float
    ink_ml: dict[str, float]
    verdict: str | None
    asked_at: str
    ended_at: str | None
    picture_url: str | None
    url: str


class Prints(Schema):
    """Prints, at most 200."""

    total: int
    prints: list[Print]


class Job(Schema):
    """A job with its print files and prints."""

    id: int
    name: str
    artwork: int
    mode: int | None
    held: bool
    then: str
    choices: dict[str, Any]
    print_files: list[PrintFileFacts]
    prints: list[Print]
    url: str
