"""Small parts of pages: filters, what a process remembers, the desk, narrow rights of files."""

from __future__ import annotations

import re
from datetime import timedelta

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.builds.lifecycle import redo
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.demo.prints import careful_reading
from greyanchor.library.machines.controls import set_controls
from greyanchor.library.models import DeviceConnection, Media, Printer
from greyanchor.measuring import models, uploads
from greyanchor.measuring.models import Upload
from greyanchor.measuring.printing import ReadingPlan, dry_at_once, print_sheet, wetness
from greyanchor.web.templatetags import figures
from tests.web.conftest import stage_of


@pytest.mark.parametrize("coverage", [3.0, 25.0, 50.0, 61.0, 97.0])
def test_a_dither_covers_the_area_it_says(coverage: float) -> None:
    tile = str(figures.dither(coverage, "#123456"))
    numbers = [float(n) for n in re.findall(r'width="([\d.]+)"', tile)]
    area = numbers[0] ** 2 if numbers else 36.0 - float(re.findall(r"M0 0V([\d.]+)", tile)[0]) ** 2
    assert 100.0 * area / 36.0 == pytest.approx(coverage, abs=0.1)


def test_values_are_listed_the_way_people_read_them() -> None:
    assert figures.listed({"C": 75.5, "K": "open"}) == "C 75.5, K open"
    assert figures.listed(["C", "M"]) == "C, M" and figures.listed(3) == "3"
    assert figures.spaced("largest_total_ink") == "largest total ink"
    assert figures.without_ending("/a/sheets.txt") == "/a/sheets" and figures.lookup({"C": 1}, "M") == ""


def test_what_was_written_is_remembered_as_a_reader_would_have_it(build: Build) -> None:
    job = stage_of(build, "ink-limits").sheet_print
    job.ticket = {"seed": 4}
    text = models.written(careful_reading(job, 1))
    at_once, parsed = models.parsed(text, "x"), cgats.loads(text)
    np.testing.assert_array_equal(at_once.spectra, parsed.spectra)
    assert at_once.ids == parsed.ids and at_once.condition == parsed.condition


def test_a_sheet_dries_along_its_clock(build: Build, user: User) -> None:
    job = stage_of(build, "ink-limits").sheet_print
    assert wetness(job) == 0 and job.dry_at is None, "nothing is printed yet"
    job = print_sheet(job.pk, user)
    assert job.dry_minutes == 30 and wetness(job) == pytest.approx(1.0, abs=0.01)
    job.printed_at = timezone.now() - timedelta(minutes=15)
    assert wetness(job) == pytest.approx(np.exp(-1.5), abs=0.01)
    job.printed_at = timezone.now() - timedelta(minutes=31)
    assert wetness(job) == 0.0


def test_only_a_sheet_of_the_stand_in_is_put_forward(build: Build) -> None:
    with pytest.raises(BadInput, match="only a simulated sheet"):
        dry_at_once(stage_of(build, "ink-limits").sheet_print_id)


def test_a_second_press_of_print_prints_nothing_more(build: Build, user: User) -> None:
    job = stage_of(build, "ink-limits").sheet_print
    first = print_sheet(job.pk, user)
    again = print_sheet(job.pk, user)
    assert first.printed_at == again.printed_at and first.ticket == again.ticket


def test_choices_for_reading_are_as_usual_where_nothing_is_said() -> None:
    assert ReadingPlan.of({}) == ReadingPlan("strip", "a4", None, 1)
    assert ReadingPlan.of({"method": "table", "patch": "12", "dots": 2}) == ReadingPlan(
        "table", "a4", 12.0, 2
    )


def test_what_a_stand_in_cannot_be_is_refused(printer: Printer) -> None:
    for values in ({"C": 200.0}, {"M": 20.0}, {"paper_b": 40.0}):
        with pytest.raises(BadInput, match="outside"):
            set_controls(printer, values)
    assert DeviceConnection.objects.get(printer=printer).state == {}


def test_files_that_nobody_used_go_after_a_day(user: User) -> None:
    old = uploads.put_aside_upload("old.txt", b"x", None, user)
    Upload.objects.filter(pk=old.pk).update(sent_at=timezone.now() - timedelta(days=2))
    fresh = uploads.put_aside_upload("new.txt", b"y", None, user)
    assert list(Upload.objects.values_list("pk", flat=True)) == [fresh.pk]


def test_a_file_that_is_too_large_is_not_taken(client: Client, settings) -> None:
    settings.UPLOAD_LIMIT = 1000
    page = client.post("/files/", {"file": SimpleUploadedFile("big.txt", b"x" * 2000)}).content.decode()
    assert "big.txt: the file has" in page and not Upload.objects.exists()


def test_an_environment_that_cannot_be_is_refused_before_anything_is_void(build: Build, user: User) -> None:
    with pytest.raises(BadInput, match="heat 200"):
        redo.change_environment(build.pk, build.version, {"heat": 200.0}, "hot", user)
    build.refresh_from_db()
    assert build.environment["heat"] == 36 and stage_of(build, "ink-limits").state == "open"


def test_changes_are_shown_with_their_values(build: Build) -> None:
    found = redo.changes_of(build, {"passes": 6, "direction": "both ways", "heat": 36.0})
    assert found == ["passes 8 to 6", "direction one way to both ways"]


def test_a_media_that_nothing_reads_is_said_so_in_its_list(client: Client, media: Media) -> None:
    Media.objects.update(unreadable=True)
    assert "by eye only" in client.get("/media/").content.decode()


def test_measuring_choices_of_a_new_build_reach_its_charts(
    client: Client, printer: Printer, media: Media
) -> None:
    form = {
        "printer": printer.pk,
        "ink_set": printer.ink_sets.get().pk,
        "media": media.pk,
        "resolution": 1200,
        "passes": 8,
        "direction": "one way",
        "halftone": "blue noise",
        "heat": 36,
        "vacuum": 50,
        "name": "On the table",
        "method": "table",
        "page": "a3",
        "patch": "10",
        "dots": "2",
    }
    assert client.post("/builds/new/", form).status_code == 302
    chart = Build.objects.get().stages.get(kind="ink-limits").sheet_print.chart.patches
    assert chart.meta["METHOD"] == "table" and chart.meta["PAGE"] == "297x420"
    assert chart.meta["PATCH_WIDTH"] == "10" and chart.meta["READINGS_A_PATCH"] == "2"
    Media.objects.update(travels_backwards=False)
    refused = client.post("/builds/new/", {**form, "name": "Inside", "method": "inline"})
    assert refused.status_code == 422 and "cannot travel backwards" in refused.content.decode()
    assert Build.objects.count() == 1
