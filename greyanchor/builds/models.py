"""Builds, their stages, and background tasks."""

from __future__ import annotations

from datetime import datetime

from django.conf import settings
from django.db import models
from django.utils import timezone

from greyanchor.background.models import BackgroundWork
from greyanchor.checks.models import Check
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.profiles.models import Profile


class Build(models.Model):
    """Work on one print mode: a log of stages under one frozen environment.

    `purpose` says why it was begun; a build that is based on another has it as `base`. `measuring` are the
    choices for reading that its charts are laid out with. `last_act` says who changed it last: ``by``,
    ``act`` and ``at``.
    """

    class Purpose(models.TextChoices):
        WHOLE = "whole", "a new mode"
        FASTER = "faster", "a faster mode"
        PROFILE = "profile", "a new profile"
        LIMITS = "limits", "refined limits"

    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="builds")
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="builds")
    environment = models.JSONField()
    environment_hash = models.CharField(max_length=64)
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)
    version = models.PositiveIntegerField(default=1)
    purpose = models.CharField(max_length=8, choices=Purpose.choices, default=Purpose.WHOLE)
    base = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="branches")
    measuring = models.JSONField(default=dict)
    last_act = models.JSONField(default=dict)

    class Meta:
        ordering = ["-started_at", "-pk"]

    def __str__(self) -> str:
        return f"build of {self.mode.name}"

    @property
    def last_act_text(self) -> str:
        """Who changed the build last, what and when, as a sentence begins."""
        if not self.last_act:
            return "somebody else changed this build"
        at = timezone.localtime(datetime.fromisoformat(self.last_act["at"]))
        return f"{self.last_act['by'] or 'the worker'} {self.last_act['act']} at {at:%H:%M}"

    @property
    def print_environment(self) -> PrintEnvironment:
        return PrintEnvironment(**self.environment)


class Stage(models.Model):
    """One stage of a build: its evidence, its result, its decision and who made it.

    `source` is empty for a stage that was done here; otherwise `source_text` says where it came from.
    `confirm_print` is a second print through what the stage made. `made_under` is the environment of
    its evidence.
    """

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        OPEN = "open", "open"
        ACCEPTED = "accepted", "accepted"

    class Source(models.TextChoices):
        KEPT = "kept", "kept"
        INHERITED = "inherited", "inherited"
        SKIPPED = "skipped", "skipped"

    build = models.ForeignKey(Build, on_delete=models.CASCADE, related_name="stages")
    position = models.PositiveSmallIntegerField()
    kind = models.CharField(max_length=20)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    options = models.JSONField(default=dict)
    sheet_print = models.ForeignKey(SheetPrint, null=True, on_delete=models.SET_NULL, related_name="stages")
    result = models.JSONField(null=True)
    decision = models.JSONField(null=True)
    reason = models.CharField(max_length=300, blank=True)
    decided_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    decided_at = models.DateTimeField(null=True)
    profile = models.ForeignKey(Profile, null=True, on_delete=models.PROTECT, related_name="stages")
    made_check = models.ForeignKey(Check, null=True, on_delete=models.PROTECT, related_name="+")
    superseded = models.JSONField(default=list)
    confirm_print = models.ForeignKey(
        SheetPrint, null=True, on_delete=models.SET_NULL, related_name="confirmed_stages"
    )
    source = models.CharField(max_length=10, choices=Source.choices, blank=True)
    source_text = models.CharField(max_length=240, blank=True)
    made_under = models.JSONField(null=True)

    class Meta:
        ordering = ["position"]
        constraints = [models.UniqueConstraint(fields=["build", "kind"], name="stage_kind_once")]

    def __str__(self) -> str:
        return f"{self.kind} of {self.build}"


class Task(BackgroundWork):
    """The building of a stage's profile."""

    stage = models.ForeignKey(Stage, on_delete=models.CASCADE, related_name="tasks")

    def __str__(self) -> str:
        return f"task {self.pk}, {self.state}"


class Baseline(models.Model):
    """The short chart as it read on the day a mode's curves were accepted: what later prints are
    restored to. `withdrawn` says why its readings count no more, where they were withdrawn.
    """

    mode = models.OneToOneField(PrintMode, on_delete=models.CASCADE, related_name="baseline")
    text = models.TextField()
    withdrawn = models.CharField(max_length=300, blank=True)
    curves = models.TextField()
    environment_hash = models.CharField(max_length=64)
    confirmed = models.BooleanField()
    taken_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"baseline of {self.mode}"


class Restore(models.Model):
    """One time a mode was held to its baseline and, where it had drifted, brought back."""

    class State(models.TextChoices):
        READING = "reading", "waiting for its readings"
        FOUND = "found", "compared"
        CONFIRMING = "confirming", "waiting for the confirming print"
        CONFIRMED = "confirmed", "confirmed"
        DONE = "done", "curves in use"
        CLOSED = "closed", "closed without a change"

    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="restores")
    baseline = models.ForeignKey(Baseline, on_delete=models.CASCADE, related_name="restores")
    state = models.CharField(max_length=12, choices=State.choices, default=State.READING)
    curves_before = models.TextField()
    sheet_print = models.ForeignKey(SheetPrint, on_delete=models.PROTECT, related_name="restores")
    confirm_print = models.ForeignKey(
        SheetPrint, null=True, on_delete=models.PROTECT, related_name="confirmed_restores"
    )
    drift = models.JSONField(null=True)
    after = models.JSONField(null=True)
    curves_after = models.TextField(blank=True)
    note = models.CharField(max_length=300, blank=True)
    started_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="restores"
    )
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-started_at", "-pk"]

    def __str__(self) -> str:
        return f"restore {self.pk} of {self.mode}"

    @property
    def is_open(self) -> bool:
        return self.state not in (self.State.DONE, self.State.CLOSED)


class Refinement(models.Model):
    """A mode's profile being corrected by prints made through it."""

    class Outcome(models.TextChoices):
        OPEN = "open", "going on"
        USED = "used", "refined profile in use"
        CLOSED = "closed", "closed without a change"

    mode = models.ForeignKey(PrintMode, on_delete=models.PROTECT, related_name="refinements")
    base = models.ForeignKey(Profile, on_delete=models.PROTECT, related_name="refinements")
    measuring = models.JSONField(default=dict)
    outcome = models.CharField(max_length=8, choices=Outcome.choices, default=Outcome.OPEN)
    note = models.CharField(max_length=300, blank=True)
    started_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="refinements"
    )
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-started_at", "-pk"]

    def __str__(self) -> str:
        return f"refinement {self.pk} of {self.mode}"


class RefineRound(BackgroundWork):
    """One print through a profile, what it taught, and the corrected profile it made."""

    refinement = models.ForeignKey(Refinement, on_delete=models.CASCADE, related_name="rounds")
    number = models.PositiveSmallIntegerField()
    through = models.ForeignKey(Profile, on_delete=models.PROTECT, related_name="refined_through")
    sheet_print = models.ForeignKey(SheetPrint, on_delete=models.PROTECT, related_name="refine_rounds")
    result = models.JSONField(null=True)
    after = models.ForeignKey(Profile, null=True, on_delete=models.SET_NULL, related_name="made_by_rounds")

    class Meta:
        ordering = ["number"]

    def __str__(self) -> str:
        return f"round {self.number} of {self.refinement}"
