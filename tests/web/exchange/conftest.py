"""A home of its own for each test, and a chart that was printed."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.builds.models import Build
from greyanchor.core.formats import cgats
from greyanchor.demo.prints import careful_reading
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet
from tests.web.conftest import stage_of


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path) -> Path:
    settings.HOME, settings.INBOX = tmp_path, tmp_path / "inbox"
    return tmp_path


@pytest.fixture
def printed(build: Build, user: User) -> SheetPrint:
    return print_sheet(
        stage_of(build, "ink-limits").sheet_print.pk, user, timezone.now() - timedelta(hours=1)
    )


def readings_text(job: SheetPrint, number: int = 1) -> bytes:
    return cgats.dumps(careful_reading(job, number)).encode()
