"""Reading row by row: nothing is lost, slips are reported, the instrument refuses when it must."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.misreads import RowVerdict, judge_row
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.measuring import judging, services
from greyanchor.measuring.models import ReadingPass, ReadingRow
from greyanchor.measuring.printing import print_sheet
from tests.web.conftest import stage_of


@pytest.fixture
def current(build: Build, user: User) -> ReadingPass:
    job = print_sheet(stage_of(build, "ink-limits").sheet_print_id, user)
    return services.start_pass(job, user)


def act(client: Client, current: ReadingPass, name: str, **data: object) -> str:
    response = client.post(f"/readings/{current.pk}/{name}/", data, headers={"HX-Request": "true"})
    assert response.status_code == 200
    return response.headers.get("HX-Redirect") or response.content.decode()


def read_to_the_end(client: Client, current: ReadingPass) -> str:
    page = act(client, current, "white")
    for _ in range(60):
        left = [r for r in range(1, 6) if not current.rows.filter(row=r).exists()]
        if not left:
            break
        page = act(client, current, "read", row=left[0])
    return page


def test_the_instrument_asks_for_its_white_tile_first(client: Client, current: ReadingPass) -> None:
    assert "white tile" in client.get(f"/readings/{current.pk}/").content.decode()
    assert "calibrate, then read" in act(client, current, "read", row=1)
    assert current.rows.count() == 0


def test_an_expired_calibration_is_refused_and_text(client: Client, current: ReadingPass) -> None:
    ReadingPass.objects.filter(pk=current.pk).update(white_at=timezone.now() - timedelta(minutes=31))
    assert "expired" in act(client, current, "read", row=1) and current.rows.count() == 0


def test_each_row_is_saved_as_it_is_read_and_another_session_goes_on(
    client: Client, current: ReadingPass, user: User
) -> None:
    act(client, current, "white")
    for row in (1, 2):
        while not current.rows.filter(row=row).exists():
            act(client, current, "read", row=row)
    assert list(current.rows.values_list("row", flat=True)) == [1, 2]
    another = Client()
    another.force_login(user)
    page = another.get(f"/readings/{current.pk}/").content.decode()
    assert "row 3" in page and "2 of 5 rows" in page
    assert services.start_pass(current.sheet_print, user).pk == current.pk


def test_the_last_row_completes_the_pass_and_computes_the_result(
    client: Client, current: ReadingPass, build: Build
) -> None:
    assert read_to_the_end(client, current) == f"/builds/{build.pk}/#ink-limits"
    current.refresh_from_db()
    assert current.state == "done" and len(current.readings) == 88
    stage = stage_of(build, "ink-limits")
    assert set(stage.result["limits"]) == set("CMYK")
    assert client.get(f"/readings/{current.pk}/").status_code == 302


def test_a_slip_is_reported_and_not_kept(current: ReadingPass, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(StripReader, "read_row", lambda self, spectra, *_: spectra[::-1])
    services.calibrate_white(current.pk)
    outcome = services.read_row(current.pk, 2)
    assert not outcome.kept and "backwards" in outcome.message and ReadingRow.objects.count() == 0
    monkeypatch.undo()
    for _ in range(5):
        if services.read_row(current.pk, 2).kept:
            break
    assert ReadingRow.objects.get().row == 2


def test_a_row_read_again_replaces_the_first_and_undo_takes_the_last_back(
    client: Client, current: ReadingPass
) -> None:
    act(client, current, "white")
    for _ in range(10):
        act(client, current, "read", row=1)
    first = current.rows.get(row=1).spectra
    while current.rows.get(row=1).spectra == first:
        act(client, current, "read", row=1)
    assert current.rows.count() == 1
    assert "Row 1 is taken back" in act(client, current, "undo")
    assert current.rows.count() == 0
    assert "Nothing was read" in act(client, current, "undo")


def test_going_to_a_row_shows_it(client: Client, current: ReadingPass) -> None:
    assert "row 4</div>" in act(client, current, "go", row=4)
    assert "Which row?" in act(client, current, "go", row="")


def test_a_row_that_is_not_there_is_refused(client: Client, current: ReadingPass) -> None:
    act(client, current, "white")
    assert "no row 99" in act(client, current, "read", row=99)


def test_the_second_pass_is_compared_with_the_first(
    client: Client, current: ReadingPass, user: User, build: Build
) -> None:
    read_to_the_end(client, current)
    second = services.start_pass(current.sheet_print, user)
    page = client.get(f"/readings/{second.pk}/").content.decode()
    assert second.number == 2 and "first pass" in page
    read_to_the_end(client, second)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "2 passes against one another" in page and "The passes agree." in page


def test_a_row_that_the_first_pass_misread_is_kept_the_second_time_reported_and_read_again(
    client: Client, current: ReadingPass, user: User, build: Build, monkeypatch: pytest.MonkeyPatch
) -> None:
    careful = StripReader.measure
    monkeypatch.setattr(
        StripReader, "read_row", lambda self, spectra, seed, minutes, spot: careful(self, spectra, seed, spot)
    )
    monkeypatch.setattr(judging, "judge_row", lambda *_: RowVerdict(True))
    services.calibrate_white(current.pk)
    for row in range(1, 6):
        services.read_row(current.pk, row)
    shifted = current.rows.get(row=2)
    shifted.spectra = [*shifted.spectra[1:], shifted.spectra[-1]]
    shifted.save()
    current.refresh_from_db()
    services._finish(current)
    monkeypatch.setattr(judging, "judge_row", judge_row)
    second = services.start_pass(current.sheet_print, user)
    services.calibrate_white(second.pk)
    for row in (1, 3, 4, 5):
        assert services.read_row(second.pk, row).kept
    assert not services.read_row(second.pk, 2).kept
    assert services.read_row(second.pk, 2).kept
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Suspect readings" in page and "Read row 2 again in pass 1" in page
    assert "The passes differ." not in page, "no verdict on the passes while a row is suspect"
    assert stage_of(build, "ink-limits").result is None
    client.post(f"/readings/{current.pk}/reopen/", {"rows": "2"})
    current.refresh_from_db()
    assert current.state == "open" and current.rows.count() == 4
    current.attempts = {}
    current.save()
    assert services.read_row(current.pk, 2).kept, (
        "the right reading agrees with pass 2 and needs no second try"
    )
    assert "The passes agree." in client.get(f"/builds/{build.pk}/").content.decode()


@pytest.mark.parametrize("slip", [lambda s: s[:-1], lambda s: np.repeat(s[:1] * 0 + 0.9, len(s), axis=0)])
def test_a_short_row_or_bare_paper_is_never_kept_however_alike(
    current: ReadingPass, monkeypatch: pytest.MonkeyPatch, slip: Callable[[np.ndarray], np.ndarray]
) -> None:
    monkeypatch.setattr(StripReader, "read_row", lambda self, spectra, *_: slip(spectra))
    services.calibrate_white(current.pk)
    said = [services.read_row(current.pk, 2) for _ in range(3)]
    assert not any(outcome.kept for outcome in said) and ReadingRow.objects.count() == 0
    assert "try 3" in said[2].message, "the same refusal is seen to be another one"


def test_a_row_refused_twice_alike_is_kept_with_a_mark(
    current: ReadingPass, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(StripReader, "read_row", lambda self, spectra, *_: spectra[::-1])
    services.calibrate_white(current.pk)
    assert not services.read_row(current.pk, 2).kept
    outcome = services.read_row(current.pk, 2)
    assert outcome.kept and "kept with a mark: it was read backwards" in outcome.message
    current.refresh_from_db()
    assert list(current.marks) == ["2"]


def test_a_pass_that_is_complete_cannot_be_changed(client: Client, current: ReadingPass) -> None:
    read_to_the_end(client, current)
    with pytest.raises(BadInput, match="complete"):
        services.read_row(current.pk, 1)
    with pytest.raises(BadInput, match="complete"):
        services.undo_row(current.pk)
