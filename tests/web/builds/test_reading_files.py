"""Readings from files of every format."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.builds.models import Build
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.formats import cgats, csv_table, cxf_writing
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.demo.prints import careful_reading
from greyanchor.measuring import services as measuring
from greyanchor.measuring.models import Upload
from tests.web.builds.conftest import printed


def send(client: Client, build: Build, text: str, name: str) -> str:
    return client.post(
        f"/builds/{build.pk}/ink-limits/upload/",
        {"file": SimpleUploadedFile(name, text.encode())},
        follow=True,
    ).content.decode()


def use(client: Client, by: str) -> str:
    sent = Upload.objects.latest("pk")
    return client.post(f"/files/{sent.pk}/use/", {"by": by}, follow=True).content.decode()


@pytest.mark.parametrize(
    ("write", "name"), [(cxf_writing.dumps, "a.cxf"), (csv_table.dumps, "a.csv"), (cgats.dumps, "a.txt")]
)
def test_files_of_every_format_are_shown_before_they_are_used(
    client: Client, build: Build, user: User, write: Callable[[ReadingSet], str], name: str
) -> None:
    job = printed(build, "ink-limits", user)
    page = send(client, build, write(careful_reading(job, 1)), name)
    assert (
        "As it was understood" in page
        and "Yes, by patch ids." in page
        and "Nothing has been used yet" in page
    )
    assert not job.passes.exists()
    assert f"{name} is kept as pass 1" in use(client, "id")
    assert job.passes.get().source == f"file {name}"
    for ending in ("txt", "cxf", "csv"):
        back = client.get(f"/readings/{job.passes.get().pk}/readings.{ending}")
        assert back.status_code == 200 and len(back.content) > 10_000


def test_a_file_with_other_ids_is_matched_by_device_values(client: Client, build: Build, user: User) -> None:
    job = printed(build, "ink-limits", user)
    readings = careful_reading(job, 1)
    order = np.random.default_rng(4).permutation(len(readings))
    foreign = replace(
        readings.select(order),
        ids=tuple(f"P{i}" for i in range(len(readings))),
        rows=None,
        columns=None,
        sheets=None,
    )
    page = send(client, build, cgats.dumps(foreign), "foreign.txt")
    assert "By device values it is" in page and "Match by device values" in page
    assert "kept as pass 1" in use(client, "device")
    assert job.passes.get().readings.ids == readings.ids


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda s, chart: s[::-1], "upside down"),
        (lambda s, chart: np.repeat(s[:1], len(s), axis=0), "bare paper"),
        (lambda s, chart: s[np.random.default_rng(3).permutation(len(s))], "another chart"),
        (lambda s, chart: np.where(np.arange(len(s))[:, None] == 9, 1.95, s), "saturated"),
    ],
)
def test_a_pass_that_cannot_be_of_this_chart_is_named_and_nothing_is_kept(
    client: Client, build: Build, user: User, spoil: Callable[..., np.ndarray], words: str
) -> None:
    job = printed(build, "ink-limits", user)
    measuring.keep_whole_pass(job, careful_reading(job, 1), "test", user)
    readings = careful_reading(job, 2)
    page = send(
        client,
        build,
        cgats.dumps(replace(readings, spectra=spoil(readings.spectra, job.chart.patches))),
        "x.txt",
    )
    assert words in page and "It cannot be used for this chart" in page
    refused = client.post(f"/files/{Upload.objects.latest('pk').pk}/use/", {"by": "id"})
    assert refused.status_code == 409 and job.passes.count() == 1


def test_any_file_can_be_looked_at_and_a_stranger_cannot_see_it(
    client: Client, build: Build, db: None
) -> None:
    page = client.post(
        "/files/",
        {"file": SimpleUploadedFile("bomb.xml", b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>')},
        follow=True,
    )
    assert "refused" in page.content.decode() and "line 1" in page.content.decode()
    curves = CurveSet.straight({"C": 0.8, "M": 0.7}).to_json().encode()
    page = client.post(
        "/files/", {"file": SimpleUploadedFile("c.json", curves)}, follow=True
    ).content.decode()
    assert "curves" in page and "C 80, M 70" in page
    other = Client()
    other.force_login(User.objects.create_user("stranger", password="x"))
    assert other.get(f"/files/{Upload.objects.latest('pk').pk}/").status_code == 404
    assert "Choose a file first." in client.post("/files/").content.decode()
