"""A shop with artwork and a released mode that is really printed through."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from PIL import Image

from greyanchor.accounts.roles import acting
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.profiling.softproof import test_form as form
from greyanchor.demo.devices import connect_all
from greyanchor.library.models import DeviceConnection, Media, Printer, PrintMode
from greyanchor.printroom import intake, jobs, preparing
from greyanchor.printroom.models import Artwork, PrintFile
from greyanchor.profiles.models import Profile
from tests.devices.conftest import Running
from tests.web.library_kit import CARRIAGE
from tests.web.library_kit import mode as kit_mode


@pytest.fixture(autouse=True)
def _own_files(settings, tmp_path: Path) -> None:
    settings.MEDIA_ROOT = str(tmp_path / "files")
    settings.HOT_FOLDERS = tmp_path / "hot"


@pytest.fixture
def mode(printer: Printer, media: Media, user: User, built: ProfileResult) -> PrintMode:
    """A released mode with the stand-in's real profile."""
    printer.carriage = CARRIAGE
    printer.save()
    connect_all()
    made = kit_mode("Harbour Proof", printer, media)
    made.profile = Profile.objects.create(
        title="Real", version=4, channels=list("CMYK"), data=built.data, report=built.report
    )
    made.state, made.total_ink = PrintMode.State.RELEASED, 330.0
    made.limits = {"C": 80.0, "M": 75.0, "Y": 82.0, "K": 85.0}
    made.curve_set = None
    made.save()
    return made


def picture(seed: int = 1, size: int = 48) -> bytes:
    """A small PNG of its own."""
    pixels = np.round(form(size) * 255.0).astype(np.uint8)
    pixels[0, 0] = (seed % 256, seed // 256, 0)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG", dpi=(100, 100))
    return out.getvalue()


@pytest.fixture
def artwork(user: User, django_capture_on_commit_callbacks) -> Artwork:
    """An examined picture."""
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        made, _ = intake.add(ContentFile(picture()), "lit balls.png", user)
    made.refresh_from_db()
    return made


@pytest.fixture
def machine(tmp_path: Path, mode: PrintMode) -> Iterator[Running]:
    """The printer of the mode, at its address, with the mode's media in it."""
    running = Running(tmp_path / "spool", clock=3000.0)
    running.server.machine.set("media", mode.media.name)
    DeviceConnection.objects.filter(printer=mode.printer).update(options={"address": running.server.address})
    yield running
    running.server.shutdown()
    running.server.server_close()


@pytest.fixture
def prepared(
    machine: Running, artwork: Artwork, mode: PrintMode, user: User, django_capture_on_commit_callbacks
) -> PrintFile:
    """A job prepared for the machine."""
    mode.printer.model = "Petrel 44"
    mode.printer.save()
    mode.ink_set.name = "Tarn pigment"
    mode.ink_set.save()
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        job = jobs.make_job(artwork, user, mode)
        (made,) = preparing.order_print_files(job, user)
    made.refresh_from_db()
    assert made.state == "done", made.message
    return made
