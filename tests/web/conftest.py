"""A small library and a signed-in client."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import Role, set_role
from greyanchor.builds.evidence.charts import lay_out_confirmation, lay_out_stage
from greyanchor.builds.lifecycle.decisions import accept_stage
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build, Stage
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.demo.devices import connect_all
from greyanchor.demo.prints import careful_reading
from greyanchor.demo.seed import northlight_coated
from greyanchor.library.models import InkSet, Media, MediaClass, Printer, PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.services import keep_profile
from tests.conftest import PrintRoom

CHOICES = {
    "resolution": 1200,
    "passes": 8,
    "direction": "one way",
    "halftone": "blue noise",
    "heat": 36.0,
    "vacuum": 50.0,
}
#: choices of a quick profile
PROFILE = {
    "title": "Test mode",
    "total_ink": 290,
    "black_start": 25,
    "black_strength": 50,
    "max_black": 100,
    "width": 100,
    "limits": "",
    "light": "D50",
    "source": "srgb",
    "version": 4,
    "quality": "draft",
}


@pytest.fixture
def user(db: None) -> User:
    made = User.objects.create_user("mara", password="a long password", first_name="Mara", last_name="Voss")
    set_role(made, Role.LEAD)
    return made


@pytest.fixture
def client(user: User) -> Client:
    signed_in = Client()
    signed_in.force_login(user)
    return signed_in


@pytest.fixture
def aim(db: None) -> AimRecord:
    return northlight_coated()


@pytest.fixture
def printer(db: None) -> Printer:
    made = Printer.objects.create(
        name="Petrel 44",
        model="Petrel 44",
        site=Site.objects.create(name="Quay Street"),
        serial="T-1",
        width_mm=1118,
        resolutions=[600, 1200],
        passes=[6, 8],
    )
    made.ink_sets.set([InkSet.objects.create(name="Tarn pigment", channels=list("CMYK"), kind="aqueous")])
    connect_all()
    return made


@pytest.fixture
def media(db: None) -> Media:
    return Media.objects.create(
        name="Harbour Proof Semimatt 235",
        media_class=MediaClass.objects.create(name="coated"),
        maker="Wherry Mill",
        weight=235,
        thickness=240,
        width_mm=1118,
        brightener="faint",
    )


@pytest.fixture
def build(printer: Printer, media: Media, user: User) -> Build:
    return start_build("Test mode", printer, printer.ink_sets.get(), media, CHOICES, user)


def stage_of(build: Build, kind: str) -> Stage:
    return build.stages.select_related(
        "build__mode__profile", "build__mode__ink_set", "sheet_print__chart", "confirm_print"
    ).get(kind=kind)


def read_print(job: SheetPrint, user: User, passes: int = 2) -> None:
    """Print an hour ago, so that the sheet is dry, and read it with a careful hand."""
    job = print_sheet(job.pk, user, timezone.now() - timedelta(hours=1))
    for number in range(1, passes + 1):
        keep_whole_pass(job, careful_reading(job, number), "test reader", user)


def read_stage(build: Build, kind: str, user: User, passes: int = 2) -> Stage:
    read_print(stage_of(build, kind).sheet_print, user, passes)
    return stage_of(build, kind)


def confirm_curves(build: Build, user: User) -> Stage:
    """Print the short chart through the curves found, and read it twice."""
    read_print(lay_out_confirmation(stage_of(build, "linearization")), user)
    return stage_of(build, "linearization")


def accept(build: Build, kind: str, user: User, values: dict[str, Any], reason: str = "") -> Stage:
    build.refresh_from_db()
    return accept_stage(stage_of(build, kind).pk, build.version, values, reason, user)


def found_limits(stage: Stage) -> dict[str, Any]:
    return {"limits": {c: v["percent"] for c, v in stage.result["limits"].items()}}


@pytest.fixture
def up_to(build: Build, user: User) -> Callable[[str], Build]:
    """Carry the build to a stage through the services, as a technician would."""

    def carry(kind: str) -> Build:
        if kind == "ink-limits":
            return build
        accept(build, "ink-limits", user, found_limits(read_stage(build, "ink-limits", user)))
        if kind == "linearization":
            return build
        read_stage(build, "linearization", user)
        confirm_curves(build, user)
        accept(build, "linearization", user, {})
        if kind == "total-ink":
            return build
        stage = read_stage(build, "total-ink", user, 1)
        accept(build, "total-ink", user, {"total_ink": stage.result["percent"]})
        if kind == "profile-chart":
            return build
        lay_out_stage(stage_of(build, "profile-chart"), {"patches": 220, "page": "a4"})
        read_stage(build, "profile-chart", user)
        accept(build, "profile-chart", user, {})
        return build

    return carry


@pytest.fixture
def real_mode(printer: Printer, media: Media, room: PrintRoom, built: ProfileResult, user: User) -> PrintMode:
    """A released mode with curves and a profile that the engine made for the stand-in."""
    environment = PrintEnvironment(printer.model, "Tarn pigment", media.name, **CHOICES)
    options = {
        "total_ink": 300.0,
        "black_start": 25.0,
        "black_strength": 50.0,
        "max_black": 100.0,
        "width": 100.0,
    }
    return PrintMode.objects.create(
        name="Harbour proof",
        printer=printer,
        ink_set=printer.ink_sets.get(),
        media=media,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        state="released",
        limits={c: 100 * v for c, v in room.limits.items()},
        curves=room.curves.to_csv(),
        profile=keep_profile(built, "Harbour proof", 4, options, {}, user),
    )
