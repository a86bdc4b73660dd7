"""A build on careful hands."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.builds.lifecycle import decisions, start
from greyanchor.builds.models import Build
from greyanchor.core.simulation.instrument import SheetReader, StripReader
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet
from greyanchor.profiles.models import Profile
from tests.web.conftest import (
    CHOICES,
    accept,
    stage_of,
)


@pytest.fixture(autouse=True)
def careful_hands(monkeypatch: pytest.MonkeyPatch) -> None:
    """Hands that never slip, so that a test slips when it wants to."""
    monkeypatch.setattr(StripReader, "__init__", lambda self, **_: StripReader_init(self))
    monkeypatch.setattr(
        SheetReader, "__init__", lambda self, serial="MT", **_: SheetReader_init(self, serial)
    )


def StripReader_init(self: StripReader) -> None:
    for name, value in (
        ("serial", "T"),
        ("noise", 1.0),
        ("misread_rate", 0.0),
        ("calibration_minutes", 30.0),
    ):
        object.__setattr__(self, name, value)


def SheetReader_init(self: SheetReader, serial: str) -> None:
    StripReader_init(self)  # type: ignore[arg-type]


def printed(build: Build, kind: str, user: User, minutes_ago: float = 60.0) -> SheetPrint:
    job = stage_of(build, kind).sheet_print
    return print_sheet(job.pk, user, timezone.now() - timedelta(minutes=minutes_ago))


@pytest.fixture
def mesh_build(printer: Printer, user: User, build: Build) -> Build:
    media = Media.objects.create(
        name="Gangway Mesh 270",
        media_class=build.mode.media.media_class,
        maker="Sound & Shoal",
        weight=270,
        thickness=350,
        width_mm=1600,
        brightener="none",
        unreadable=True,
    )
    choices = {**CHOICES, "heat": 40.0, "vacuum": 35.0}
    return start.start_build("Mesh", printer, printer.ink_sets.get(), media, choices, user)


def finish(build: Build, user: User) -> PrintMode:
    """To release, with a profile that stands in: the way there is not what is tested here."""
    report = {
        "fit": {"mean": 0.1},
        "held_out": {"mean": 0.3, "p95": 0.6},
        "round_trip": {"mean": 0.1, "p95": 0.3},
        "neutral_dch_max": 0.4,
        "gamut_volume": 600000.0,
        "seconds": 1.0,
    }
    kept = Profile.objects.create(title=build.mode.name, data=b"not looked at", report=report, version=4)
    stage = stage_of(build, "profile")
    stage.profile, stage.result = kept, report
    stage.save()
    accept(build, "profile", user, {})
    build.refresh_from_db()
    decisions.skip_stage(stage_of(build, "check").pk, build.version, "checked elsewhere", user)
    accept(build, "release", user, {"note": "in use"}, "checked elsewhere")
    return PrintMode.objects.get(pk=build.mode_id)


@pytest.fixture
def released(up_to: Callable[[str], Build], user: User) -> PrintMode:
    return finish(up_to("profile"), user)
