"""The print room by JSON: artwork in, a job made and followed, print file and picture out."""

from __future__ import annotations

import io
import json

import pytest
from django.contrib.auth.models import User
from PIL import Image

from greyanchor.library.models import PrintMode
from greyanchor.printroom import hot_folders, prints
from greyanchor.printroom.models import Artwork, Job, Print, Run
from tests.devices.conftest import Running
from tests.web.exchange.test_json_interface import Program
from tests.web.printroom.conftest import picture
from tests.web.printroom.test_machines import finished


@pytest.fixture
def program(machine: Running, mode: PrintMode, user: User) -> Program:
    mode.printer.model, mode.ink_set.name = "Petrel 44", "Tarn pigment"
    mode.printer.save()
    mode.ink_set.save()
    return Program(user)


def sent(program: Program, address: str, values: dict) -> dict:  # type: ignore[type-arg]
    answer = program.ask(address, "POST", json.dumps(values).encode(), "application/json")
    assert answer.status_code in (200, 201), answer.content
    return answer.json()  # type: ignore[no-any-return]


def test_from_a_file_to_the_picture_of_its_print(
    program: Program, mode: PrintMode, django_capture_on_commit_callbacks
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        made = program.ask("/artwork?name=chart.png", "POST", picture(3), "application/octet-stream")
    assert made.status_code == 201 and made.json()["state"] == "queued"
    art = program.ask(f"/artwork/{made.json()['id']}").json()
    assert art["state"] == "done" and art["pages"][0]["width_mm"] == pytest.approx(48.77, abs=0.01)
    again = program.ask("/artwork?name=chart.png", "POST", picture(3), "application/octet-stream")
    assert again.status_code == 200 and again.json()["id"] == art["id"]
    job = sent(program, "/jobs", {"artwork": art["id"], "mode": mode.pk, "width_mm": 40, "then": "print"})
    assert job["choices"] == {"width_mm": 40.0} and job["prints"] == []
    with django_capture_on_commit_callbacks(execute=True):
        assert hot_folders.go_by_themselves() == 1
    record = Print.objects.get()
    assert record.state == "ready", "it goes to the machine by itself"
    finished(record)
    job = program.ask(f"/jobs/{job['id']}").json()
    assert job["print_files"][0]["state"] == "done" and job["prints"][0]["state"] == "done"
    one = program.ask(f"/prints/{record.pk}").json()
    assert one["ink_ml"] == record.ink_ml and one["picture_url"]
    seen = program.ask(f"/prints/{record.pk}/picture.png")
    assert Image.open(io.BytesIO(b"".join(seen.streaming_content))).format == "PNG"
    planes = program.ask(f"/print-files/{record.print_file_id}/planes.tif")
    with Image.open(io.BytesIO(b"".join(planes.streaming_content))) as file:
        assert file.n_frames == 4
    assert program.ask(f"/prints?after={record.pk}").json()["total"] == 0
    assert program.ask(f"/prints?state=done&mode={mode.pk}").json()["prints"][0]["id"] == record.pk


def test_a_held_print_is_let_go_and_cancelled_by_a_program(
    program: Program, mode: PrintMode, artwork: Artwork, django_capture_on_commit_callbacks
) -> None:
    job = sent(program, "/jobs", {"artwork": artwork.pk, "mode": mode.pk})
    assert job["held"] and hot_folders.go_by_themselves() == 0
    from greyanchor.accounts.roles import acting
    from greyanchor.printroom.preparing import order_print_files

    with django_capture_on_commit_callbacks(execute=True), acting(None):
        [file] = order_print_files(Job.objects.get(pk=job["id"]), None)
    file.refresh_from_db()
    record = prints.order(file, None)
    assert program.ask(f"/prints/{record.pk}/picture.png").status_code == 422
    assert program.ask(f"/prints/{record.pk}/go", "POST").json()["state"] == "ready"
    assert program.ask(f"/prints/{record.pk}/cancel", "POST").json()["state"] == "cancelled"
    refused = program.ask(f"/prints/{record.pk}/go", "POST")
    assert refused.status_code == 422 and "not held" in refused.json()["error"]
    assert program.ask(f"/prints/{record.pk}/eat", "POST").status_code == 404


def test_jobs_that_fill_share_a_run(
    program: Program, mode: PrintMode, artwork: Artwork, django_capture_on_commit_callbacks
) -> None:
    for width in (20, 30):
        sent(program, "/jobs", {"artwork": artwork.pk, "mode": mode.pk, "width_mm": width, "then": "fill"})
    assert hot_folders.go_by_themselves() == 2 and hot_folders.go_by_themselves() == 0
    run = Run.objects.get()
    assert run.state == "filling" and run.goes and len(run.places) == 2
    assert run.fill == {"share": 0.9, "minutes": 240.0}


def test_what_a_program_asks_in_vain_is_said(program: Program, mode: PrintMode, artwork: Artwork) -> None:
    for values, words in (
        ({"artwork": artwork.pk, "mode": mode.pk, "page": 9}, "pages"),
        ({"artwork": artwork.pk, "mode": mode.pk, "choices": {"speed": 9}}, "no choice called speed"),
        ({"artwork": artwork.pk, "mode": mode.pk, "then": "fly"}, "then"),
        ({"artwork": artwork.pk}, "mode"),
    ):
        answer = program.ask("/jobs", "POST", json.dumps(values).encode(), "application/json")
        assert answer.status_code == 422 and words in answer.json()["error"], values
    assert program.ask("/jobs/99").status_code == 404
    assert program.ask("/artwork", "POST").status_code == 422
    mode.state = PrintMode.State.RETIRED
    mode.save()
    answer = program.ask(
        "/jobs", "POST", json.dumps({"artwork": artwork.pk, "mode": mode.pk}).encode(), "application/json"
    )
    assert "retired" in answer.json()["error"]
