"""Work for the worker, as records: an abstract model that each app makes its own of."""

from __future__ import annotations

from datetime import timedelta

from django.conf import settings as django_settings
from django.db import models
from django.utils import timezone

#: running work that is silent for longer than this has lost its worker
SILENCE = timedelta(seconds=45)


class BackgroundWork(models.Model):
    """Work for the worker, with progress, cancel and a kept error.

    `worker` is the process that took it up (host and number); it lets itself be heard every few seconds.
    """

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for its readings"
        QUEUED = "queued", "waiting for the worker"
        RUNNING = "running", "running"
        DONE = "done", "done"
        FAILED = "failed", "failed"
        CANCELLED = "cancelled", "cancelled"
        INTERRUPTED = "interrupted", "interrupted"

    state = models.CharField(max_length=12, choices=State.choices, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.CharField(max_length=200, blank=True)
    error = models.TextField(blank=True)
    cancel_asked = models.BooleanField(default=False)
    started_by = models.ForeignKey(django_settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    created_at = models.DateTimeField(auto_now_add=True)
    heard_at = models.DateTimeField(auto_now=True)
    worker = models.CharField(max_length=120, blank=True, editable=False)

    class Meta:
        abstract = True
        ordering = ["-pk"]

    @property
    def is_active(self) -> bool:
        return self.state in (self.State.QUEUED, self.State.RUNNING)

    @property
    def looks_dead(self) -> bool:
        """Running, but silent for too long: its worker was killed."""
        return self.state == self.State.RUNNING and timezone.now() - self.heard_at > SILENCE

    @property
    def percent(self) -> int:
        return round(100 * self.progress)
