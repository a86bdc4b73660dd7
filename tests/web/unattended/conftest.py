"""A machine that can be left alone."""

from __future__ import annotations

from typing import Any

import pytest
from django.utils import timezone

from greyanchor.library.models import Media, Printer


@pytest.fixture
def machine(printer: Printer, media: Media, settings: Any) -> Printer:
    """With its media in it, on a clock that lets sheets dry at once."""
    settings.DEMO = True
    media.travels_backwards = True
    media.save()
    Printer.objects.filter(pk=printer.pk).update(loaded_media=media, loaded_at=timezone.now())
    printer.refresh_from_db()
    return printer
