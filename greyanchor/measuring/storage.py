"""What grows here: files that were sent, and those that the watched folder refused."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from django.conf import settings
from django.db.models import Count, Sum
from django.db.models.functions import Length

from greyanchor.background import growth
from greyanchor.measuring.models import Upload


def _uploads() -> tuple[int, int]:
    found = Upload.objects.annotate(bytes=Length("data")).aggregate(n=Count("pk"), size=Sum("bytes"))
    return found["n"], found["size"] or 0


def _sent() -> Iterator[growth.Thing]:
    for u in Upload.objects.annotate(bytes=Length("data")).defer("data", "understood"):
        yield growth.Thing(u.bytes, u.sent_at, lambda pk=u.pk: Upload.objects.filter(pk=pk).delete())


def _refused() -> Iterator[Path]:
    return growth.files_below(Path(settings.INBOX) / "refused")


growth.register(
    growth.Store(
        "uploads", "Files that were sent and not used", "what was used became a pass, and stays", _uploads,
        "uploads_days", _sent,
    )
)  # fmt: skip
growth.register(
    growth.Store(
        "refused", "Files that the watched folder refused", "their reasons stay in the list of arrivals",
        lambda: growth.size_of(_refused()), "refused_days", lambda: growth.old_files(_refused()),
    )
)  # fmt: skip
