"""A build from a frozen environment to a released mode, and everything that may not happen on the way."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.background import queue
from greyanchor.background.work import mark_interrupted
from greyanchor.builds import enqueue, tasks
from greyanchor.builds.lifecycle import decisions, redo
from greyanchor.builds.lifecycle import start as beginning
from greyanchor.builds.models import Build, Task
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import InkSet, Media, Printer, PrintMode
from greyanchor.measuring.models import Upload
from greyanchor.profiles.models import AimRecord, Profile
from tests.web.conftest import CHOICES, PROFILE, accept, found_limits, read_stage, stage_of

FORM = {
    "resolution": 1200,
    "passes": 8,
    "direction": "one way",
    "halftone": "blue noise",
    "heat": 36,
    "vacuum": 50,
    "name": "Fresh mode",
}


def test_starting_a_build_freezes_the_environment_and_lays_out_the_ramps(
    client: Client, printer: Printer, media: Media
) -> None:
    data = {**FORM, "printer": printer.pk, "ink_set": printer.ink_sets.get().pk, "media": media.pk}
    response = client.post("/builds/new/", data)
    build = Build.objects.get()
    assert response.url == f"/builds/{build.pk}/"
    assert (
        build.environment["media"] == media.name
        and build.environment_hash == build.print_environment.content_hash()
    )
    assert [s.state for s in build.stages.all()] == ["open"] + ["waiting"] * 7
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Print on Petrel 44" in page and "waits for ink limits" in page


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"passes": 12}, "runs 6, 8 passes"),
        ({"heat": 300}, "less than or equal to 90"),
        ({"name": ""}, "required"),
        ({"resolution": 2400}, "prints 600, 1200 dpi"),
    ],
)
def test_an_environment_that_the_printer_does_not_have_is_refused(
    client: Client, printer: Printer, media: Media, change: dict, words: str
) -> None:
    data = {**FORM, "printer": printer.pk, "ink_set": printer.ink_sets.get().pk, "media": media.pk, **change}
    response = client.post("/builds/new/", data)
    assert response.status_code == 422 and words in response.content.decode() and not Build.objects.exists()


def test_inks_that_cannot_be_profiled_and_names_in_use_are_refused(
    build: Build, printer: Printer, media: Media, user: User
) -> None:
    five = InkSet.objects.create(name="Five", channels=list("CMYOG"), kind="UV")
    pale = InkSet.objects.create(name="Pale", channels=list("CMYK"), light={"LO": "O"}, kind="UV")
    printer.ink_sets.add(five, pale)
    with pytest.raises(BadInput, match="Five of Petrel 44 cannot be built for: .*K is missing"):
        beginning.start_build("Other", printer, five, media, CHOICES, user)
    with pytest.raises(BadInput, match="LO belongs to O, which is not among the inks C M Y K"):
        beginning.start_build("Other", printer, pale, media, CHOICES, user)
    with pytest.raises(BadInput, match="already"):
        beginning.start_build(
            "Test mode", printer, printer.ink_sets.get(name="Tarn pigment"), media, CHOICES, user
        )


@pytest.mark.parametrize(("form", "start"), [("tif", b"II*\0"), ("pdf", b"%PDF"), ("txt", b"CGATS.17")])
def test_the_chart_can_be_downloaded_before_it_is_printed(
    client: Client, build: Build, form: str, start: bytes
) -> None:
    response = client.get(f"/builds/{build.pk}/ink-limits/sheets.{form}")
    assert response.content.startswith(start)
    if form == "txt":
        assert "vacuum 50 %" in response.content.decode()


def test_a_stage_without_evidence_cannot_be_accepted(build: Build, user: User) -> None:
    with pytest.raises(BadInput, match="no result yet"):
        accept(build, "ink-limits", user, {"limits": dict.fromkeys("CMYK", 80.0)})


def test_one_reading_only_asks_for_a_reason(build: Build, user: User, client: Client) -> None:
    stage = read_stage(build, "ink-limits", user, 1)
    limits = found_limits(stage)
    build.refresh_from_db()
    form = {
        "ink-limits-version": build.version,
        **{f"ink-limits-{c}": v for c, v in limits["limits"].items()},
    }
    refused = client.post(f"/builds/{build.pk}/ink-limits/accept/", form)
    assert refused.status_code == 422 and "1 of 2 passes read" in refused.content.decode()
    build.refresh_from_db()
    form["ink-limits-version"] = build.version
    assert (
        client.post(
            f"/builds/{build.pk}/ink-limits/accept/", {**form, "ink-limits-reason": "only a sketch"}
        ).status_code
        == 302
    )
    stage = stage_of(build, "ink-limits")
    assert stage.state == "accepted" and stage.reason == "only a sketch" and stage.decided_by == user


def test_a_moved_limit_asks_for_a_reason_and_is_kept(build: Build, user: User) -> None:
    limits = found_limits(read_stage(build, "ink-limits", user))
    limits["limits"]["C"] = 60.0
    with pytest.raises(BadInput, match="limit of C was moved"):
        accept(build, "ink-limits", user, limits)
    accept(build, "ink-limits", user, limits, "cyan bleeds in the flood patches")
    assert PrintMode.objects.get().limits["C"] == 60.0
    assert stage_of(build, "linearization").sheet_print.chart.patches.device[:, 0].max() == pytest.approx(0.6)


def test_two_people_deciding_at_once_do_not_overwrite_each_other(
    build: Build, user: User, client: Client
) -> None:
    limits = found_limits(read_stage(build, "ink-limits", user))
    stage = stage_of(build, "ink-limits")
    decisions.accept_stage(stage.pk, 1, limits, "", user)
    with pytest.raises(BadInput, match=r"accepted ink limits at \d\d:\d\d, after this page was opened"):
        decisions.accept_stage(stage_of(build, "linearization").pk, 1, {}, "me too", user)


def upload(client: Client, build: Build, kind: str, data: bytes, name: str = "mine.txt") -> str:
    file = SimpleUploadedFile(name, data)
    response = client.post(f"/builds/{build.pk}/{kind}/upload/", {"file": file}, follow=True)
    assert response.status_code == 200
    return response.content.decode()


def use(client: Client, by: str = "id") -> str:
    """Press the button of the page that shows the file that was just sent."""
    sent = Upload.objects.latest("pk")
    return client.post(f"/files/{sent.pk}/use/", {"by": by}, follow=True).content.decode()


def test_readings_from_a_file_take_the_place_of_the_instrument(
    client: Client, build: Build, user: User
) -> None:
    job = stage_of(build, "ink-limits").sheet_print
    job.ticket = {"seed": 5}
    for number in (1, 2):
        page = upload(
            client,
            build,
            "ink-limits",
            cgats.dumps(careful_reading(job, number)).encode(),
            f"pass{number}.txt",
        )
        assert "Yes, by patch ids." in page
        assert f"pass{number}.txt is kept as pass {number}" in use(client)
    stage = stage_of(build, "ink-limits")
    assert stage.result["limits"]["C"]["percent"] > 40 and stage.sheet_print.device == "printed elsewhere"


@pytest.mark.parametrize(
    "name", ["empty", "binary", "truncated", "other chart", "nan", "words", "chart only"]
)
def test_a_wrong_file_is_refused_with_its_name_and_the_stage_stays(
    client: Client, build: Build, name: str
) -> None:
    job = stage_of(build, "ink-limits").sheet_print
    job.ticket = {"seed": 5}
    good = cgats.dumps(careful_reading(job, 1))
    other = cgats.loads(good)
    data = {
        "empty": b"",
        "binary": bytes(range(256)),
        "truncated": good[:5000].encode(),
        "other chart": cgats.dumps(other.select(range(50))).encode(),
        "nan": good.replace("0.8", "nan", 1).encode(),
        "words": b"no readings here",
        "chart only": job.chart.text.encode(),
    }[name]
    page = upload(client, build, "ink-limits", data)
    assert "Nothing was changed." in page and "mine.txt" in page
    stage = stage_of(build, "ink-limits")
    assert stage.result is None and not stage.sheet_print.passes.exists() and stage.sheet_print.device == ""


def test_a_file_that_is_too_large_is_refused(client: Client, build: Build, settings: object) -> None:
    settings.UPLOAD_LIMIT = 1000
    assert "are taken" in upload(client, build, "ink-limits", b"x" * 2000)


def test_another_tone_aim_is_computed_from_the_same_readings(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("linearization")
    read_stage(build, "linearization", user)
    before = stage_of(build, "linearization").result["curves_csv"]
    client.post(f"/builds/{build.pk}/linearization/aim/", {"aim": "lstar"})
    stage = stage_of(build, "linearization")
    assert stage.result["aim"] == "lstar" and stage.result["curves_csv"] != before
    assert (
        client.get(f"/builds/{build.pk}/linearization/curves.csv")
        .content.decode()
        .startswith("channel,input,output")
    )


def test_doing_a_stage_again_names_what_becomes_void_and_keeps_it_readable(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("profile-chart")
    page = client.get(f"/builds/{build.pk}/ink-limits/part/").content.decode()
    assert "This invalidates: Linearization, Total ink, Profile chart." in page
    build.refresh_from_db()
    client.post(f"/builds/{build.pk}/ink-limits/redo/", {"version": build.version})
    states = {s.kind: s.state for s in build.stages.all()}
    assert states["ink-limits"] == "open" and states["linearization"] == states["total-ink"] == "waiting"
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "earlier result" in page and "invalidated: ink limits was done again" in page


def test_the_whole_way_to_a_released_mode(
    client: Client,
    up_to: Callable[[str], Build],
    user: User,
    aim: AimRecord,
    django_capture_on_commit_callbacks: object,
) -> None:
    build = up_to("profile")
    with django_capture_on_commit_callbacks(execute=True):
        client.post(f"/builds/{build.pk}/profile/start/", PROFILE)
    task = Task.objects.get()
    assert task.state == "done" and task.progress == 1.0, task.message
    accept(build, "profile", user, {})
    profile = Profile.objects.get()
    assert (
        icc.loads(bytes(profile.data)).description == "Test mode"
        and profile.made_from["environment"] == build.environment_hash
    )

    client.post(
        f"/builds/{build.pk}/check/lay-out/",
        {"aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": "on"},
    )
    stage = read_stage(build, "check", user, 1)
    assert stage.made_check.verdict == "pass", stage.made_check.summary
    accept(build, "check", user, {})
    mode = PrintMode.objects.get()
    assert mode.state == "ready" and mode.last_verdict == "pass"

    build.refresh_from_db()
    response = client.post(
        f"/builds/{build.pk}/release/accept/",
        {"release-version": build.version, "release-note": "for covers"},
        follow=True,
    )
    assert "is released to the library" in response.content.decode()
    mode.refresh_from_db()
    assert mode.state == "released" and mode.released_by == user and mode.note == "for covers"
    assert any("released" in (h.history_change_reason or "") for h in mode.history.all())
    file = client.get(f"/profiles/{profile.pk}/profile.icc")
    assert file.content == bytes(profile.data) and "Test-mode" in file.headers["Content-Disposition"]
    for address in (
        f"/modes/{mode.pk}/",
        f"/profiles/{profile.pk}/",
        f"/checks/{stage.made_check_id}/",
        "/checks/",
        "/",
    ):
        assert client.get(address).status_code == 200, address
    assert client.get(f"/checks/{stage.made_check_id}/patches.csv").content.decode().count("\n") == 55
    with pytest.raises(BadInput, match="released; start a new build"):
        redo.redo_stage(stage_of(build, "total-ink").pk, Build.objects.get().version, user)


def test_a_cancelled_profile_leaves_the_stage_as_it_was(up_to: Callable[[str], Build], user: User) -> None:
    build = up_to("profile")
    task = enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)
    Task.objects.filter(pk=task.pk).update(cancel_asked=True)
    queue.run(task)
    task.refresh_from_db()
    assert (
        task.state == "cancelled"
        and not Profile.objects.exists()
        and stage_of(build, "profile").result is None
    )


def test_a_worker_that_died_leaves_a_task_that_can_be_started_again(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("profile")
    task = enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)
    Task.objects.filter(pk=task.pk).update(
        state="running", heard_at=timezone.now() - timedelta(minutes=5), progress=0.4
    )
    assert "went silent" in client.get(f"/builds/{build.pk}/").content.decode()
    with_same_stage = enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)
    task.refresh_from_db()
    assert task.state == "interrupted"
    with pytest.raises(BadInput, match="being built"):
        enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)
    Task.objects.filter(pk=with_same_stage.pk).update(state="running")
    mark_interrupted(Task)
    with_same_stage.refresh_from_db()
    assert with_same_stage.state == "interrupted" and "start it again" in with_same_stage.message


def test_a_failure_in_the_engine_is_kept_with_the_task(
    up_to: Callable[[str], Build], user: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    build = up_to("profile")
    task = enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)

    def burst(*_: object) -> None:
        raise RuntimeError("the engine burst")

    monkeypatch.setattr(tasks, "build_profile", burst)
    queue.run(task)
    task.refresh_from_db()
    assert task.state == "failed" and "burst" in task.message and "RuntimeError" in task.error
