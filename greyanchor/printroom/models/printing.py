"""Artwork as it came, the jobs that print it, hot folders, and the print files that jobs become."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone

from greyanchor.background.models import BackgroundWork
from greyanchor.checks.models import CheckPrint
from greyanchor.core.layout.runs import Rules
from greyanchor.library.models import Edition, Printer, PrintMode


def week_of(moment: datetime) -> date:
    """The Monday of a moment's week, where the shop is."""
    day = timezone.localtime(moment).date()
    return day - timedelta(days=day.weekday())


class Resumed(BackgroundWork):
    """Work that begins again by itself when its worker was killed, a few times: `attempts` counts them."""

    attempts = models.PositiveSmallIntegerField(default=0)

    class Meta(BackgroundWork.Meta):
        abstract = True


class Artwork(Resumed):
    """A file as it came, kept once by its hash; `facts` is what its examination found (`ArtworkFacts`).

    Its work is its examination. `raster` is its first page as a tiled pyramid, which views are cut from.
    """

    name = models.CharField(max_length=200)
    sha256 = models.CharField(max_length=64, unique=True)
    size = models.PositiveBigIntegerField()
    file = models.CharField(max_length=200)
    facts = models.JSONField(default=dict, blank=True)
    raster = models.CharField(max_length=200, blank=True)
    thumbnail = models.CharField(max_length=200, blank=True)
    came_from = models.CharField(max_length=120, blank=True)

    class Meta(Resumed.Meta):
        abstract = False
        indexes = [models.Index(fields=["name"])]

    def __str__(self) -> str:
        return self.name

    @property
    def kind(self) -> str:
        """PDF, PostScript or picture; empty before it was examined."""
        return str(self.facts.get("kind", ""))

    @property
    def pages(self) -> list[dict[str, Any]]:
        """Facts of each page."""
        return list(self.facts.get("pages", []))

    @property
    def findings(self) -> list[dict[str, str]]:
        """What was found, the worst first."""
        return list(self.facts.get("findings", []))

    @property
    def worst(self) -> str:
        """The worst level among its findings; ``refused`` where it is no artwork."""
        if self.state in (self.State.FAILED, self.State.INTERRUPTED):
            return "refused"
        levels = [f["level"] for f in self.findings]
        return next((level for level in ("stop", "warn", "know") if level in levels), "")


class Then(models.TextChoices):
    """What becomes of a job that goes by itself."""

    PREPARE = "", "prepared"
    PRINT = "print", "prepared and printed"
    FILL = "fill", "laid on a run that waits to fill, and printed with it"


class HotFolder(models.Model):
    """A watched folder, with what stands for every file that falls into it.

    `then` says what becomes of jobs where they `go` by themselves; `fill` what a run of them waits for.
    """

    name = models.CharField(max_length=80, unique=True)
    folder = models.CharField(max_length=120, unique=True)
    mode = models.ForeignKey(PrintMode, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    kinds = models.CharField(max_length=120, blank=True)
    margin_mm = models.FloatField(default=0.0)
    width_mm = models.FloatField(null=True, blank=True)
    intent = models.CharField(max_length=12, default="relative")
    keep_black = models.BooleanField(default=False)
    go = models.BooleanField("prepare by itself", default=False)
    then = models.CharField(max_length=8, choices=Then.choices, default=Then.PREPARE, blank=True)
    fill = models.JSONField(default=dict, blank=True)
    active = models.BooleanField(default=True)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Arrived(models.Model):
    """A file that came by a hot folder, and what became of it."""

    folder = models.ForeignKey(HotFolder, on_delete=models.CASCADE, related_name="arrived")
    name = models.CharField(max_length=200)
    artwork = models.ForeignKey(Artwork, null=True, on_delete=models.SET_NULL, related_name="+")
    job = models.ForeignKey("Job", null=True, on_delete=models.SET_NULL, related_name="+")
    reason = models.CharField(max_length=400, blank=True)
    mark = models.CharField(max_length=80, blank=True, db_index=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class Job(models.Model):
    """One page of an artwork, printed through a mode: size, part, colours.

    `choices` holds what the job itself chose; what it did not choose is as mode and file have it. A job
    never takes anything from the job before it.
    """

    artwork = models.ForeignKey(Artwork, on_delete=models.PROTECT, related_name="jobs")
    name = models.CharField(max_length=200, db_index=True)
    page = models.PositiveIntegerField(default=1)
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="jobs")
    choices = models.JSONField(default=dict, blank=True)
    undo = models.JSONField(default=list, blank=True)
    redo = models.JSONField(default=list, blank=True)
    outcomes = models.JSONField(default=dict, blank=True)
    held = models.BooleanField(default=True)
    then = models.CharField(max_length=8, choices=Then.choices, default=Then.PREPARE, blank=True)
    piece_of = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.CASCADE, related_name="pieces"
    )
    version = models.PositiveIntegerField(default=1)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    made_at = models.DateTimeField(auto_now_add=True, db_index=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.name


class Run(models.Model):
    """What one printer prints in one go: jobs in their places on the media, with marks, strip and cuts.

    `rules` say how it is laid out, `places` where everything lies once it was; `by_hand` that somebody moved
    pieces. `strip`, `after` and `cutting` are what goes with it. What was prepared is never changed.
    """

    class State(models.TextChoices):
        OPEN = "open", "being laid out"
        FILLING = "filling", "waits to fill"
        CLOSED = "closed", "prepared"

    name = models.CharField(max_length=200, db_index=True)
    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="runs")
    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="runs")
    state = models.CharField(max_length=8, choices=State.choices, default=State.OPEN, db_index=True)
    width_mm = models.FloatField()
    rules = models.JSONField(default=dict)
    places = models.JSONField(default=list)
    by_hand = models.BooleanField(default=False)
    strip = models.JSONField(default=dict, blank=True)
    after = models.JSONField(default=dict, blank=True)
    cutting = models.JSONField(default=dict, blank=True)
    fill = models.JSONField(default=dict, blank=True)
    fills_since = models.DateTimeField(null=True)
    goes = models.BooleanField("goes by itself", default=False)
    is_trial = models.BooleanField(default=False)
    note = models.CharField(max_length=300, blank=True)
    undo = models.JSONField(default=list, blank=True)
    redo = models.JSONField(default=list, blank=True)
    version = models.PositiveIntegerField(default=1)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    made_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def laid_by(self) -> Rules:
        """The rules as the core knows them."""
        return Rules.of(self.rules)


class RunJob(models.Model):
    """A job on a run: how many of it, which of its panels (all that are on where none is named), and whether
    it may be turned; `place` orders them.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="parts")
    job = models.ForeignKey(Job, on_delete=models.PROTECT, related_name="on_runs")
    copies = models.PositiveIntegerField(default=1)
    panels = models.JSONField(default=list, blank=True)
    turn = models.BooleanField("may be turned", default=True)
    place = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["place", "pk"]
        constraints = [models.UniqueConstraint(fields=["run", "job"], name="job_once_a_run")]

    def __str__(self) -> str:
        return f"{self.job} on {self.run}"


class PrintFile(Resumed):
    """A job, one panel of it, or a run, prepared for a printer through `mode`; its work is the preparing.

    `ticket` says what it was made for and of; `facts` what came out (`Prepared`).
    """

    job = models.ForeignKey(Job, null=True, on_delete=models.CASCADE, related_name="print_files")
    run = models.ForeignKey(Run, null=True, on_delete=models.CASCADE, related_name="print_files")
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="print_files")
    edition = models.ForeignKey(Edition, null=True, on_delete=models.SET_NULL, related_name="print_files")
    panel = models.PositiveIntegerField(default=0)
    ticket = models.JSONField(default=dict)
    choices = models.JSONField(default=dict)
    facts = models.JSONField(default=dict, blank=True)
    file = models.CharField(max_length=200, blank=True)
    picture = models.CharField(max_length=200, blank=True)

    class Meta(Resumed.Meta):
        abstract = False

    def __str__(self) -> str:
        if self.run_id:
            return str(self.run)
        return f"{self.job}, panel {self.panel}" if self.panel else str(self.job)

    @property
    def jobs(self) -> list[Job]:
        """All jobs that are on it."""
        if self.job is not None:
            return [self.job]
        assert self.run is not None
        return [part.job for part in self.run.parts.select_related("job__artwork")]


class MediaRoll(models.Model):
    """A roll of media that is or was in a printer, and what is left of it."""

    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="rolls")
    media = models.CharField(max_length=160)
    width_mm = models.FloatField(default=0.0)
    first_mm = models.FloatField()
    left_mm = models.FloatField()
    is_in = models.BooleanField(default=True, db_index=True)
    came_at = models.DateTimeField(auto_now_add=True)
    seen_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-is_in", "-pk"]

    def __str__(self) -> str:
        return f"roll {self.pk} of {self.media}"

    @property
    def metres_left(self) -> float:
        """What is left of it."""
        return self.left_mm / 1000.0

    @property
    def metres_first(self) -> float:
        """What was on it when it was first seen."""
        return self.first_mm / 1000.0


class Print(models.Model):
    """One printing of a print file: where it stands, what it used, how it ended. `mode` is the file's.

    `key` is what the printer knows it by, so that it is never sent twice unasked; `place` orders what waits.
    """

    class State(models.TextChoices):
        HELD = "held", "held"
        READY = "ready", "ready"
        SENDING = "sending", "being sent"
        WAITING = "waiting", "waiting at the printer"
        PRINTING = "printing", "printing"
        STOPPED = "stopped", "stopped"
        DONE = "done", "done"
        CANCELLED = "cancelled", "cancelled"
        FAILED = "failed", "failed"

    #: those that nothing more happens to by itself
    OVER = (State.DONE, State.CANCELLED, State.FAILED)
    #: those that the printer has, or is being given
    AT_PRINTER = (State.SENDING, State.WAITING, State.PRINTING, State.STOPPED)

    print_file = models.ForeignKey(PrintFile, on_delete=models.PROTECT, related_name="prints")
    printer = models.ForeignKey(Printer, on_delete=models.PROTECT, related_name="job_prints")
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="prints")
    roll = models.ForeignKey(MediaRoll, null=True, on_delete=models.SET_NULL, related_name="prints")
    check_print = models.OneToOneField(
        CheckPrint, null=True, on_delete=models.SET_NULL, related_name="went_with"
    )
    faults = models.JSONField(default=list, blank=True)
    judged = models.JSONField(default=dict, blank=True)
    key = models.CharField(max_length=16, unique=True)
    number = models.PositiveIntegerField(null=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.HELD, db_index=True)
    place = models.FloatField(default=0.0)
    cancel_asked = models.BooleanField(default=False)
    reason = models.CharField(max_length=300, blank=True)
    share = models.FloatField(default=0.0)
    seconds_left = models.FloatField(null=True)
    media = models.CharField(max_length=160, blank=True)
    media_mm = models.FloatField(default=0.0)
    ink_ml = models.JSONField(default=dict, blank=True)
    ink_total_ml = models.FloatField(default=0.0)
    picture = models.CharField(max_length=200, blank=True)
    again_of = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="+")
    asked_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    asked_at = models.DateTimeField(auto_now_add=True, db_index=True)
    sent_at = models.DateTimeField(null=True)
    heard_at = models.DateTimeField(null=True)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    week = models.DateField(null=True, db_index=True)

    class Meta:
        ordering = ["-pk"]
        indexes = [
            models.Index(fields=["printer", "state", "place"]),
            models.Index(fields=["printer", "-ended_at"]),
            models.Index(fields=["sent_at"]),
            models.Index(fields=["mode", "sent_at"]),
            models.Index(fields=["printer", "sent_at"]),
            models.Index(fields=["media"]),
            models.Index(fields=["week", "ink_total_ml", "media_mm"]),
        ]

    def save(self, *args: Any, **kwargs: Any) -> None:
        if self.mode_id is None:
            self.mode_id = self.print_file.mode_id
        if self.ended_at is not None and self.week is None:
            self.week = week_of(self.ended_at)
        super().save(*args, **kwargs)

    def __str__(self) -> str:
        return str(self.print_file)

    @property
    def is_over(self) -> bool:
        """Whether nothing more happens to it by itself."""
        return self.state in self.OVER

    @property
    def acts(self) -> list[tuple[str, str]]:
        """What can be done with it now, and the words on its buttons."""
        if self.state == self.State.HELD:
            return [("go", "Let it go"), ("earlier", "Earlier"), ("later", "Later"), ("cancel", "Cancel")]
        if self.state == self.State.READY:
            return [("hold", "Hold"), ("earlier", "Earlier"), ("later", "Later"), ("cancel", "Cancel")]
        if self.is_over:
            return [("again", "Print again")]
        return [] if self.cancel_asked else [("cancel", "Cancel")]

    @property
    def metres(self) -> float:
        """Media that it used."""
        return self.media_mm / 1000.0

    @property
    def percent(self) -> int:
        """What of it is printed."""
        return int(100 * self.share + 1e-6)
