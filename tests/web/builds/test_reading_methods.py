"""Hand-held readers, tables and readers inside the printer; wet sheets and long passes."""

from __future__ import annotations

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.evidence import charts
from greyanchor.builds.lifecycle import acceptance_rules
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.core.simulation.instrument import SheetReader
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import InkSet, Media
from greyanchor.measuring import services as measuring
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.printing import make_chart, prepare_print, print_sheet
from tests.web.builds.conftest import printed
from tests.web.conftest import (
    stage_of,
)


def act(client: Client, current: ReadingPass, name: str, **data: object) -> str:
    response = client.post(f"/readings/{current.pk}/{name}/", data, headers={"HX-Request": "true"})
    assert response.status_code == 200
    return response.headers.get("HX-Redirect") or response.content.decode()


def lay_out(build: Build, kind: str, **options: object) -> SheetPrint:
    return charts.lay_out_stage(stage_of(build, kind), options)


def test_a_table_reads_a_sheet_after_three_corners(client: Client, build: Build, user: User) -> None:
    lay_out(build, "ink-limits", method="table", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    assert "measuring table" in current.source
    page = client.get(f"/readings/{current.pk}/").content.decode()
    assert "Set a corner" in page and "Read sheet 1" in page
    act(client, current, "white")
    assert "Set the three corners" in act(client, current, "sheet", row=1)
    for corner in ("top left", "top right", "in place"):
        assert corner in act(client, current, "corner", row=1)
    assert act(client, current, "sheet", row=1) == f"/builds/{build.pk}/#ink-limits"
    current.refresh_from_db()
    assert current.state == "done" and len(current.readings) == 88


def test_a_corner_set_beside_its_place_is_refused(
    client: Client, build: Build, user: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    lay_out(build, "ink-limits", method="table", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    calls: list[int] = []

    def slip(self: SheetReader, place: np.ndarray, seed: tuple[int, ...]) -> np.ndarray:
        calls.append(1)
        return place + ([9.0, 0.0] if len(calls) == 2 else [0.0, 0.0])

    monkeypatch.setattr(SheetReader, "corner", slip)
    act(client, current, "corner", row=1), act(client, current, "corner", row=1)
    assert "corners span" in act(client, current, "corner", row=1)
    current.refresh_from_db()
    assert current.corners == []


def test_the_reader_inside_the_printer_needs_media_that_travel_back(
    client: Client, build: Build, user: User, media: Media
) -> None:
    lay_out(build, "ink-limits", method="inline", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    act(client, current, "white")
    assert act(client, current, "sheet", row=1).endswith("#ink-limits"), "no corners, no hands"
    Media.objects.update(travels_backwards=False)
    form = {"method": "inline", "page": "a4", "patch": "", "dots": "1"}
    page = client.post(f"/builds/{build.pk}/ink-limits/lay-out/", form, follow=True).content.decode()
    assert "cannot travel backwards" in page and "measuring table" in page
    assert (
        "cannot travel backwards" in client.get(f"/builds/{build.pk}/ink-limits/plan/", form).content.decode()
    )


def test_the_plan_is_shown_before_anything_is_laid_out(client: Client, build: Build) -> None:
    form = {"method": "strip", "page": "a4", "patch": "16", "dots": "4", "patches": "900"}
    found = client.get(f"/builds/{build.pk}/ink-limits/plan/", form).content.decode()
    assert "900 patches in" in found and "sheets" in found and "min a pass" in found
    before = stage_of(build, "ink-limits").sheet_print_id
    client.post(f"/builds/{build.pk}/ink-limits/lay-out/", form)
    after = stage_of(build, "ink-limits").sheet_print
    assert after.pk != before and after.chart.patches.meta["READINGS_A_PATCH"] == "4"


@pytest.mark.parametrize("condition", ["M0", "M2"])
def test_conditions_are_kept_and_never_mixed(build: Build, user: User, condition: str) -> None:
    job = printed(build, "ink-limits", user)
    first = measuring.start_pass(job, user, condition)
    measuring.calibrate_white(first.pk)
    for row in range(1, 6):
        assert measuring.read_row(first.pk, row).kept
    first.refresh_from_db()
    assert first.readings.condition == condition
    truth = careful_reading(job, 5, condition).lab()[0, 2] - careful_reading(job, 5, "M1").lab()[0, 2]
    if condition == "M2":
        assert truth > 0.5, "without its brightener the paper is yellower"
    with pytest.raises(BadInput, match=f"pass 1 was read as {condition}"):
        measuring.start_pass(job, user, "M1")
    assert measuring.start_pass(job, user).condition == condition


def test_a_row_can_be_left_for_later_and_comes_back(client: Client, build: Build, user: User) -> None:
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    act(client, current, "white")
    assert "row 2</div>" in act(client, current, "skip", row=1)
    for row in (2, 3, 4, 5):
        page = act(client, current, "read", row=row)
    assert "row 1</div>" in page and "skipped: 1" in page
    assert act(client, current, "read", row=1).endswith("#ink-limits")


def test_a_long_session_answers_each_row_with_that_row_alone(
    client: Client, build: Build, user: User
) -> None:
    rng = np.random.default_rng(1)
    chart = make_chart("profile", rng.random((6000, 4)) * 0.6, "six thousand", build.print_environment)
    job = prepare_print(chart, build.print_environment, printer=build.mode.printer)
    current = measuring.start_pass(print_sheet(job.pk, user), user)
    whole = client.get(f"/readings/{current.pk}/").content
    assert whole.count(b'class="r"') > 250 and len(whole) < 1_000_000
    act(client, current, "white")
    answer = act(client, current, "read", row=1)
    assert 'id="row-1"' in answer and 'id="row-2"' not in answer and len(answer) < 30_000


def test_a_wet_sheet_can_be_read_is_recorded_and_asks_for_a_reason(
    client: Client, build: Build, user: User
) -> None:
    job = printed(build, "ink-limits", user, minutes_ago=1)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Drying:" in page and "Read pass 1 now (still drying)" in page
    current = measuring.start_pass(job, user)
    assert 28 <= current.early_minutes <= 29.1
    measuring.calibrate_white(current.pk)
    for row in range(1, 6):
        measuring.read_row(current.pk, row)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "min before it was dry" in page
    found = acceptance_rules.objections(stage_of(build, "ink-limits"))
    assert any("minutes before the sheet was dry" in t for t in found)
    client.post(f"/prints/{job.pk}/dry/")
    job.refresh_from_db()
    assert job.minutes_to_dry == 0
    second = measuring.start_pass(job, user)
    measuring.calibrate_white(second.pk)
    for row in range(1, 6):
        measuring.read_row(second.pk, row)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "still drying" in page and second.early_minutes == 0
    client.post(f"/readings/{current.pk}/leave-out/")
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "min before it was dry" not in page
    assert stage_of(build, "ink-limits").result is not None


def test_cured_ink_needs_no_waiting(build: Build, user: User) -> None:
    InkSet.objects.update(kind="UV-cured")
    lay_out(build, "ink-limits")
    job = printed(build, "ink-limits", user, minutes_ago=0)
    assert job.dry_minutes == 0 and measuring.start_pass(job, user).early_minutes == 0
