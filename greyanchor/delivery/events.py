"""What happens in the shop, as deliveries: editions to folders, events to addresses."""

from __future__ import annotations

from typing import Any

from django.db.models.signals import post_save
from django.urls import reverse

from greyanchor.checks.models import Check
from greyanchor.delivery import folders, webhooks
from greyanchor.library.models import Edition
from greyanchor.printroom.models import Artwork, Print, PrintFile
from greyanchor.printroom.signals import prepared, print_over


def connect() -> None:
    """Listen to what happens."""
    post_save.connect(_edition, sender=Edition, dispatch_uid="deliver editions")
    post_save.connect(_check, sender=Check, dispatch_uid="announce checks")
    post_save.connect(_artwork, sender=Artwork, dispatch_uid="announce artwork")
    prepared.connect(_prepared, dispatch_uid="announce print files")
    print_over.connect(_print, dispatch_uid="announce prints")


def _edition(sender: Any, instance: Edition, created: bool, **_: Any) -> None:
    if not created:
        return
    folders.order(instance)
    facts = {
        "mode": instance.mode_id,
        "name": instance.content.get("name", ""),
        "edition": instance.number,
        "url": reverse("api:mode", args=[instance.mode_id]),
    }
    webhooks.announce("mode.released", facts)


def _check(sender: Any, instance: Check, created: bool, **_: Any) -> None:
    if created:
        facts = {
            "check": instance.pk,
            "mode": instance.mode_id,
            "verdict": instance.verdict,
            "summary": instance.summary,
            "url": reverse("api:check", args=[instance.pk]),
        }
        webhooks.announce("check.made", facts)


def _artwork(sender: Any, instance: Artwork, created: bool, **_: Any) -> None:
    if created:
        facts = {"artwork": instance.pk, "name": instance.name, "sha256": instance.sha256}
        webhooks.announce("artwork.arrived", {**facts, "url": reverse("api:artwork", args=[instance.pk])})


def _prepared(sender: Any, record: PrintFile, **_: Any) -> None:
    facts = {"print_file": record.pk, "what": str(record), "job": record.job_id, "run": record.run_id}
    webhooks.announce("print-file.prepared", facts)


def _print(sender: Any, record: Print, **_: Any) -> None:
    facts = {
        "print": record.pk,
        "what": str(record.print_file),
        "job": record.print_file.job_id,
        "run": record.print_file.run_id,
        "state": record.state,
        "reason": record.reason,
        "ink_ml": record.ink_ml,
        "media_mm": record.media_mm,
        "url": reverse("api:print", args=[record.pk]),
    }
    webhooks.announce("print.done" if record.state == Print.State.DONE else "print.failed", facts)
