"""Folders and addresses that deliveries go to, and what became of each."""

from __future__ import annotations

import secrets

from django.conf import settings
from django.db import models

from greyanchor.library.models import Edition, Printer

#: what is put into a folder, by key
FILES = {
    "profile": "ICC profile",
    "curves": "Curves, CSV",
    "limits": "Ink limits, JSON",
    "pack": "Pack, ZIP",
}
#: what other programs hear of, by key
EVENTS = {
    "mode.released": "A print mode was released, or has a new edition",
    "check.made": "A print was checked",
    "artwork.arrived": "Artwork came in",
    "print-file.prepared": "A job or a run was prepared",
    "print.done": "A print is done",
    "print.failed": "A print failed or was cancelled",
}


class DeliveryFolder(models.Model):
    """A folder into which released modes are put: which files of them, of which printer (all where none)."""

    name = models.CharField(max_length=80, unique=True)
    folder = models.CharField(max_length=120, unique=True)
    files = models.JSONField(default=list)
    printer = models.ForeignKey(Printer, null=True, blank=True, on_delete=models.CASCADE, related_name="+")
    active = models.BooleanField(default=True)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Attempted(models.Model):
    """Something that is tried until it succeeds, each time after a longer while."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        DONE = "done", "delivered"
        GIVEN_UP = "given up", "given up"

    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING, db_index=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    next_at = models.DateTimeField(db_index=True)
    reason = models.CharField(max_length=300, blank=True)
    made_at = models.DateTimeField(auto_now_add=True)
    done_at = models.DateTimeField(null=True)

    class Meta:
        abstract = True
        ordering = ["-pk"]


class FolderDelivery(Attempted):
    """An edition on its way into a folder."""

    folder = models.ForeignKey(DeliveryFolder, on_delete=models.CASCADE, related_name="deliveries")
    edition = models.ForeignKey(Edition, on_delete=models.CASCADE, related_name="+")
    names = models.JSONField(default=list)

    class Meta(Attempted.Meta):
        abstract = False
        constraints = [models.UniqueConstraint(fields=["folder", "edition"], name="edition_once_a_folder")]

    def __str__(self) -> str:
        return f"{self.edition} to {self.folder}"


def new_secret() -> str:
    """A secret that signs what is sent."""
    return secrets.token_urlsafe(32)


class Webhook(models.Model):
    """An address that hears of events, with bodies signed by its secret."""

    name = models.CharField(max_length=80, unique=True)
    address = models.URLField(max_length=400)
    secret = models.CharField(max_length=80, default=new_secret)
    events = models.JSONField(default=list)
    active = models.BooleanField(default=True)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Message(Attempted):
    """An event on its way to an address."""

    webhook = models.ForeignKey(Webhook, on_delete=models.CASCADE, related_name="messages")
    key = models.CharField(max_length=40, unique=True)
    event = models.CharField(max_length=40)
    body = models.JSONField(default=dict)
    status = models.PositiveSmallIntegerField(null=True)

    class Meta(Attempted.Meta):
        abstract = False

    def __str__(self) -> str:
        return f"{self.event} to {self.webhook}"
