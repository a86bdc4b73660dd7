"""A printer, a media and a preset of both."""

from __future__ import annotations

import pytest

from greyanchor.library.models import (
    Media,
    MediaPreset,
    Printer,
)
from tests.web.library_kit import machine, paper, preset

FORM = {"version": 1, "why": "test"}


@pytest.fixture
def printer(db: None) -> Printer:
    return machine()


@pytest.fixture
def media(db: None) -> Media:
    return paper()


@pytest.fixture
def kept(printer: Printer, media: Media) -> MediaPreset:
    return preset(media, printer, {"vacuum": 60, "heat_on": 40})
