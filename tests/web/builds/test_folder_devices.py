"""A build over the folder drivers: the application puts sheets into one folder, another program prints and
reads them, and its readings come by another folder.
"""

from __future__ import annotations

import json
import os
import re
import time
from dataclasses import replace
from io import BytesIO
from pathlib import Path
from typing import Any

import pypdfium2
import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from PIL import Image

from greyanchor.builds.evidence.charts import lay_out_confirmation
from greyanchor.builds.models import Build, Stage
from greyanchor.core.formats import cgats
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.library.models import DeviceConnection, InkSet, Media, Printer, PrintMode
from greyanchor.measuring import inbox
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import FROM_FILES
from greyanchor.profiles.models import AimRecord, Profile
from tests.web.conftest import CHOICES, PROFILE, found_limits, stage_of

SHEETS, READINGS = "petrel-sheets", "petrel-readings"


@pytest.fixture
def devices(settings: Any, tmp_path: Path) -> Path:
    settings.HOME, settings.INBOX = tmp_path, tmp_path / "inbox"
    settings.DEVICES_HOME = tmp_path / "devices"
    return settings.DEVICES_HOME


@pytest.fixture
def folders(devices: Path, client: Client, printer: Printer) -> Path:
    """The printer and its strip reader reached by folders, said on the page of devices."""
    DeviceConnection.objects.filter(printer=None).delete()
    chosen = {"driver": "folder", "folder.folder": SHEETS}
    page = client.post(reverse("printer-connect", args=[printer.pk]), chosen, follow=True).content.decode()
    assert f"{printer.name} prints through: Folder, folder {SHEETS}." in page
    chosen = {"driver": "folder", "folder.folder": READINGS, "method": "strip"}
    page = client.post(reverse("instrument-add", args=[printer.site_id]), chosen, follow=True)
    assert "has an instrument that reads by hand, row by row" in page.content.decode()
    return devices


def other_program(folders: Path, job: SheetPrint, passes: int) -> None:
    """What runs beside the application: it prints what lies in one folder and reads it into the other. All
    that it knows is in the files.
    """
    sheet = folders / SHEETS / job.ticket["folder"]
    facts = json.loads((sheet / "print.json").read_text())
    environment = PrintEnvironment(**facts["environment"])
    chart = cgats.loads((sheet / "chart.txt").read_bytes(), "chart.txt")
    for number in range(1, passes + 1):
        readings = print_and_read(chart, press_for(environment), facts["number"], number)
        path = folders / READINGS / f"print-{job.pk} pass {number}.txt"
        path.parent.mkdir(exist_ok=True)
        path.write_text(cgats.dumps(replace(readings, device=job.chart.patches.device)), encoding="utf-8")
        os.utime(path, (time.time() - 5, time.time() - 5))
        assert [d.outcome for d in inbox.collect()] == ["taken"], job.chart.title


def print_and_wait(client: Client, folders: Path, build: Build, kind: str, which: str, passes: int) -> Stage:
    """Print on the page of the stage, and let the other program do the rest; the sheet dried meanwhile."""
    job = getattr(stage_of(build, kind), which)
    client.post(f"/builds/{build.pk}/{kind}/print/", {"which": "confirm" if "confirm" in which else ""})
    job.refresh_from_db()
    assert job.device == "folder printer", f"{kind} was not printed: {job.device!r}"
    SheetPrint.objects.filter(pk=job.pk).update(dry_minutes=0.0)
    other_program(folders, job, passes)
    return stage_of(build, kind)


def press_accept(client: Client, build: Build, kind: str, **values: object) -> None:
    """Send the form of the stage as the page has it, with `values` typed over what stands in it."""
    page = client.get(f"/builds/{build.pk}/").content.decode()
    form = re.search(rf'<form[^>]*action="/builds/{build.pk}/{kind}/accept/".*?</form>', page, re.S)
    assert form, f"{kind} has nothing to accept"
    fields = [dict(re.findall(r'([a-z-]+)="([^"]*)"', tag)) for tag in re.findall(r"<input[^>]*>", form[0])]
    typed = {f"{kind}-{k.replace('_', '-')}": v for k, v in values.items()}
    sent = {f["name"]: f.get("value", "") for f in fields if "name" in f} | typed
    page = client.post(f"/builds/{build.pk}/{kind}/accept/", sent, follow=True).content.decode()
    assert stage_of(build, kind).state == "accepted", re.findall(r'class="[^"]*error[^"]*"[^<]*<[^<]*', page)


def test_a_build_from_frozen_environment_to_release(
    folders: Path,
    client: Client,
    printer: Printer,
    media: Media,
    user: User,
    aim: AimRecord,
    django_capture_on_commit_callbacks: Any,
) -> None:
    ink_set = InkSet.objects.get()
    chosen = {"printer": printer.pk, "ink_set": ink_set.pk, "media": media.pk, **CHOICES}
    client.post("/builds/new/", {"name": "By folders", "method": "strip", "page": "a4", **chosen})
    build = Build.objects.get(mode__name="By folders")

    stage = print_and_wait(client, folders, build, "ink-limits", "sheet_print", 2)
    folder = folders / SHEETS / stage.sheet_print.ticket["folder"]
    assert sorted(p.name for p in folder.iterdir()) == ["chart.txt", "print.json", "sheets.pdf", "sheets.tif"]
    with Image.open(BytesIO((folder / "sheets.tif").read_bytes())) as tif:
        assert tif.mode == "CMYK"
    assert len(pypdfium2.PdfDocument(str(folder / "sheets.pdf"))) >= 1
    assert sorted(p.name for p in (folders / READINGS / "taken").iterdir()) == [
        f"print-{stage.sheet_print_id} pass {n}.txt" for n in (1, 2)
    ]
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Folder printer" in page and "Read pass" not in page, "only the other program can read it"
    press_accept(client, build, "ink-limits")
    assert PrintMode.objects.get(pk=build.mode_id).limits == found_limits(stage)["limits"]

    print_and_wait(client, folders, build, "linearization", "sheet_print", 2)
    lay_out_confirmation(stage_of(build, "linearization"))
    print_and_wait(client, folders, build, "linearization", "confirm_print", 2)
    press_accept(client, build, "linearization")
    print_and_wait(client, folders, build, "total-ink", "sheet_print", 1)
    press_accept(client, build, "total-ink")
    client.post(
        f"/builds/{build.pk}/profile-chart/lay-out/",
        {"patches": 220, "method": "strip", "page": "a4", "dots": 1},
    )
    print_and_wait(client, folders, build, "profile-chart", "sheet_print", 2)
    press_accept(client, build, "profile-chart")
    with django_capture_on_commit_callbacks(execute=True):
        client.post(f"/builds/{build.pk}/profile/start/", PROFILE)
    assert Profile.objects.count() == 1
    press_accept(client, build, "profile")
    client.post(
        f"/builds/{build.pk}/check/lay-out/",
        {"aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": "on"},
    )
    stage = print_and_wait(client, folders, build, "check", "sheet_print", 1)
    assert stage.made_check.verdict == "pass", stage.made_check.summary
    press_accept(client, build, "check")
    press_accept(client, build, "release", note="printed by another program")
    mode = PrintMode.objects.get(pk=build.mode_id)
    assert mode.state == "released" and mode.last_verdict == "pass"
    assert not list((folders / READINGS / "refused").iterdir())


def test_a_wrong_folder_is_refused_on_the_page(devices: Path, client: Client, printer: Printer) -> None:
    for wrong in ("", "../elsewhere", "/etc"):
        chosen = {"driver": "folder", "folder.folder": wrong}
        page = client.post(
            reverse("printer-connect", args=[printer.pk]), chosen, follow=True
        ).content.decode()
        assert "older" in page and "prints through" not in page, wrong
    assert DeviceConnection.objects.get(printer=printer).driver == "standin"


def test_a_printer_without_a_driver_prints_from_files(
    client: Client, printer: Printer, build: Build, user: User
) -> None:
    client.post(reverse("printer-connect", args=[printer.pk]), {"driver": ""})
    assert not DeviceConnection.objects.filter(printer=printer).exists()
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Mark as printed" in page and f"Print on {printer.name}" not in page
    client.post(f"/builds/{build.pk}/ink-limits/print/")
    assert stage_of(build, "ink-limits").sheet_print.device == FROM_FILES
