"""Builds of seven inks, and of a printer that takes R G B, from frozen environment to check and restore."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.test import Client
from django.urls import reverse
from PIL import Image
from scipy.ndimage import binary_erosion, uniform_filter
from tifffile import TiffFile

from greyanchor.accounts.models import Site
from greyanchor.background import queue
from greyanchor.builds.maintenance.restores import print_confirmation, start_restore
from greyanchor.builds.models import Restore
from greyanchor.checks.diagnosing import diagnosis_of
from greyanchor.checks.models import Check
from greyanchor.checks.services import Order
from greyanchor.checks.strip_prints import StripChoice, start_check_print
from greyanchor.demo.builds import Plan, carry_out
from greyanchor.demo.devices import connect_all, drift
from greyanchor.library.models import InkSet, Media, MediaClass, Printer, PrintMode
from greyanchor.library.records.editions import keep_edition
from greyanchor.printroom import files, intake, jobs, preparing
from greyanchor.printroom.models import Job, PrintFile
from greyanchor.profiles.models import AimRecord
from tests.web.conftest import read_print
from tests.web.printroom.conftest import picture

SEVEN = list("CMYKOGV")
ABILITIES = {
    "heat_on": {"low": 20.0, "high": 70.0, "step": 1.0, "usual": 38.0},
    "vacuum": {"low": 0.0, "high": 100.0, "step": 5.0, "usual": 50.0},
}


def machine(model: str, **inks: Any) -> Printer:
    made = Printer.objects.create(
        name=model,
        model=model,
        site=Site.objects.create(name="Quay Street"),
        serial="T-7",
        width_mm=1626,
        resolutions=[600, 1200],
        passes=[6, 8],
        abilities=ABILITIES,
    )
    made.ink_sets.set([InkSet.objects.create(kind="UV-cured", **inks)])
    connect_all()
    return made


@pytest.fixture
def kelp(db: None) -> Media:
    return Media.objects.create(
        name="Kelp Synthetic 190",
        media_class=MediaClass.objects.create(name="synthetic"),
        maker="Sound & Shoal",
        weight=190,
        thickness=210,
        width_mm=1067,
        brightener="faint",
    )


def restored(mode: PrintMode, user: User, volumes: dict[str, float]) -> Restore:
    """The machine drifts, the short chart is read, and read again through the corrected curves."""
    drift(mode.printer, volumes)
    found = start_restore(PrintMode.objects.get(pk=mode.pk), user)
    read_print(found.sheet_print, user)
    found.refresh_from_db()
    read_print(print_confirmation(found), user)
    found.refresh_from_db()
    return found


def checked(mode: PrintMode, aim: AimRecord, user: User) -> Check:
    """A strip printed through a mode and read."""
    mode = PrintMode.objects.get(pk=mode.pk)
    made = start_check_print(mode, Order(aim, "iso12647-7:2016", True), StripChoice("short"), user)
    read_print(made.sheet_print, user, 1)
    made.refresh_from_db()
    assert made.made_check is not None, made.error
    return made.made_check


def printed(mode: PrintMode, user: User, tmp_path: Path, **choices: Any) -> tuple[PrintFile, TiffFile]:
    """A picture prepared through a mode, and its print file as another library reads it."""
    mode.refresh_from_db()
    mode.state = PrintMode.State.RELEASED
    mode.save()
    keep_edition(mode, [{"rule": "test", "ok": True, "text": "made for a test"}], user)
    art, _ = intake.add(ContentFile(picture()), f"lit balls {mode.pk}.png", user)
    queue.run(art)
    job = jobs.make_job(art, user, mode, choices={"width_mm": 40.0, **choices})
    (record,) = preparing.order_print_files(job, user)
    preparing.prepare_print_file(record.pk)
    record.refresh_from_db()
    assert record.state == PrintFile.State.DONE, record.error
    return record, TiffFile(files.local(record.file))


def shown_alone(job: Job, user: User, ink: str) -> np.ndarray:
    """One ink of a job as the light table shows it."""
    client = Client()
    client.force_login(user)
    assert f"<option>{ink}</option>" in client.get(f"/jobs/{job.pk}/").content.decode()
    address = reverse("job-tile", args=[job.pk, "plane", 0, 0, 0])
    with Image.open(BytesIO(client.get(f"{address}?ink={ink}").content)) as tile:
        return np.asarray(tile.convert("L"))


def _wide(colours: Any) -> Any:
    """Where there is colour all around, so that white surely lies there."""
    return binary_erosion(uniform_filter(colours.astype(float), 33) > 0.2, iterations=33)


def test_seven_inks_and_white_go_the_whole_way(
    kelp: Media, aim: AimRecord, user: User, tmp_path: Path, settings: Any
) -> None:
    settings.MEDIA_ROOT = str(tmp_path / "files")
    machine("Gannet 64", name="Basalt UV seven", channels=SEVEN, facts={"W": {"role": "white"}})
    plan = Plan("Kelp seven", "Gannet 64", kelp.name, 8, "ready", 900)
    mode = carry_out(plan, {"ines": user, "tobias": user}, aim.pk).mode
    mode.refresh_from_db()
    assert sorted(mode.limits) == sorted(SEVEN)
    assert mode.profile.channels == SEVEN
    assert mode.last_verdict == "pass"
    white = mode.planes["W"]
    assert white["opacity"] > 80 and 30 <= white["limit"] <= 100
    assert white["curve"][0] == 0 and white["curve"] == sorted(white["curve"])
    record, tiff = printed(mode, user, tmp_path, white="colour")
    assert record.ticket["ink_set"] == "Basalt UV seven" and len(tiff.pages) == 8
    planes = np.array([page.asarray() for page in tiff.pages], dtype=bool)
    colours, white_dots = planes[:7].any(axis=0), planes[7]
    share = white_dots[_wide(colours)].mean()
    assert abs(share - white["limit"] / 100.0) < 0.02, "white lies where there is colour, up to its limit"
    assert record.facts["ink_ml"]["W"] > 0 and record.picture
    seen = shown_alone(record.job, user, "W")
    white_light = round(255 * (1 - white["limit"] / 100))
    assert set(np.unique(seen)) <= {white_light, 255} and white_light in seen, "by the light table"
    alone = mode.checks.get().own
    assert [i["channel"] for i in alone["inks"]] == ["O", "G", "V"] and all(i["holds"] for i in alone["inks"])
    assert alone["white"]["holds"] and abs(alone["white"]["now"] - white["opacity"]) < 2.0
    drift(mode.printer, {"O": 0.8})
    found = checked(mode, aim, user)
    assert found.verdict == "fail" and found.summary.startswith("O alone: solid")
    assert [i["channel"] for i in found.own["inks"] if not i["holds"]] == ["O"]
    assert diagnosis_of(found)[0]["title"].startswith("O ")
    found = restored(mode, user, {"O": 0.92, "M": 1.08})
    assert any(w.startswith("O prints") and "lighter" in w for w in found.drift["words"])
    assert any(w.startswith("M prints") and "heavier" in w for w in found.drift["words"])
    assert found.drift["mean"] > 0.5 and found.after["mean"] <= 0.5, (
        found.drift["mean"],
        found.after["mean"],
    )


def test_a_printer_that_parts_r_g_b_goes_the_whole_way(
    kelp: Media, aim: AimRecord, user: User, tmp_path: Path, settings: Any
) -> None:
    settings.MEDIA_ROOT = str(tmp_path / "files")
    printer = machine("Dunlin 24", name="Tarn photo", channels=list("RGB"))
    printer.driver = {"media": ["Photo satin", "Plain"], "quality": ["Fine", "Standard"]}
    printer.save()
    plan = Plan("Kelp photo", "Dunlin 24", kelp.name, 8, "ready", 400)
    build = carry_out(plan, {"ines": user, "tobias": user}, aim.pk)
    assert [s.kind for s in build.stages.order_by("position")] == [
        "driver",
        "profile-chart",
        "profile",
        "check",
        "release",
    ]
    mode = build.mode
    mode.refresh_from_db()
    assert mode.profile.channels == list("RGB")
    assert mode.environment["driver_colour"] == "off"
    assert mode.last_verdict == "pass"
    record, tiff = printed(mode, user, tmp_path)
    page = tiff.pages[0]
    assert len(tiff.pages) == 1 and page.photometric.name == "RGB" and page.asarray().shape[2] == 3
    assert record.facts["ink_ml"] == {} and record.picture
    found = restored(mode, user, {"C": 1.08, "M": 0.92})
    assert found.drift["mean"] > 1.5 and found.after["mean"] < 0.4 * found.drift["mean"], found.after["mean"]
