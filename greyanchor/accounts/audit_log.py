"""Writing down, and reporting, the changes of what has no versions of its own."""

from __future__ import annotations

from typing import Any

from django.contrib.contenttypes.models import ContentType
from django.db import models
from django.db.models import QuerySet

from greyanchor.accounts.models import AuditEntry


def note(subject: models.Model, what: str, before: Any, after: Any, user: Any) -> None:
    """Write down that `what` of a record went from `before` to `after`; nothing where both are the same."""
    items = ["" if v is None else str(v) for v in (before, after)]
    if items[0] == items[1]:
        return
    who = user if user is not None and user.pk else None
    AuditEntry.objects.create(subject=subject, what=what[:120], before=items[0], after=items[1], who=who)


def noted(*subjects: models.Model | type[models.Model]) -> QuerySet[AuditEntry]:
    """What was written down of records, or of all records of a model, the newest first."""
    asked = models.Q(pk__in=[])
    for subject in subjects:
        kind = ContentType.objects.get_for_model(subject)
        asked |= (
            models.Q(content_type=kind)
            if isinstance(subject, type)
            else models.Q(content_type=kind, object_id=subject.pk)
        )
    return AuditEntry.objects.filter(asked).select_related("who")
