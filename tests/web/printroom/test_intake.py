"""Artwork comes in: kept once, examined, named where it cannot be used."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.accounts.roles import acting
from greyanchor.core.artwork.inspection import examine
from greyanchor.core.errors import BadInput
from greyanchor.demo.artwork import pieces
from greyanchor.library.models import PrintMode
from greyanchor.measuring.claims import claimed
from greyanchor.printroom import files, hot_folders, intake
from greyanchor.printroom.models import Arrived, Artwork, HotFolder, Job, PrintFile
from tests.web.printroom.conftest import picture


def test_a_file_is_kept_once_and_examined(artwork: Artwork, user: User) -> None:
    assert artwork.state == "done" and artwork.kind == "picture"
    page = artwork.pages[0]
    assert (page["width_mm"], page["height_mm"]) == (
        pytest.approx(48.77, abs=0.01),
        pytest.approx(24.38, abs=0.01),
    )
    assert any("taken for sRGB" in f["text"] for f in artwork.findings)
    assert files.local(artwork.raster).exists() and files.local(artwork.thumbnail).exists()
    with acting(user):
        same, new = intake.add(ContentFile(picture()), "another name.png", user)
    assert same == artwork and not new and Artwork.objects.count() == 1


def test_several_files_at_once_and_what_became_of_each(
    client: Client, django_capture_on_commit_callbacks
) -> None:
    sent = [
        SimpleUploadedFile("good.png", picture(2)),
        SimpleUploadedFile("../../etc/evil\x00.png", picture(3)),
        SimpleUploadedFile("empty.png", b""),
        SimpleUploadedFile("words.pdf", b"these are words"),
    ]
    with django_capture_on_commit_callbacks(execute=True):
        answer = client.post("/artwork/add/", {"files": sent}, follow=True)
    page = answer.content.decode()
    assert "3 files taken in." in page and "empty.png: the file is empty" in page
    names = set(Artwork.objects.values_list("name", flat=True))
    assert "good.png" in names and not any("/" in n or "\x00" in n for n in names)
    refused = Artwork.objects.get(name="words.pdf")
    assert refused.worst == "refused" and "no picture that can be printed" in refused.message
    wall = client.get("/artwork/?kind=refused").content.decode()
    assert "words.pdf" in wall and "Refused:" in wall and "good.png" not in wall
    assert "good.png" in client.get("/artwork/?q=goo").content.decode()


def test_the_demo_s_pieces_are_named_for_what_is_wrong_with_them(tmp_path: Path) -> None:
    found: dict[str, str] = {}
    for name, data in pieces():
        (tmp_path / name).write_bytes(data)
        try:
            facts = examine(tmp_path / name)
            found[name] = " ".join(f.text for f in facts.findings)
        except BadInput as error:
            found[name] = f"REFUSED {error}"
    assert "CutContour is a cut contour" in found["harbour-chart-lantern-sound.pdf"]
    assert "spot colour Shoal blue" in found["harbour-chart-lantern-sound.pdf"]
    assert "40 ppi" in found["lighthouse-from-the-web.jpg"]
    assert "390 % of ink" in found["night-approach-heavy-ink.tif"]
    assert "fonts are not in the file: Times-Roman" in found["old-plan-fonts-missing.pdf"]
    assert "thinner than" in found["tide-tables-two-pages.pdf"]
    assert "damaged or cut off" in found["harbour-plan-cut-off.png"]
    assert "locked by a password" in found["locked-proof.pdf"]


def test_contours_lie_where_they_are_drawn(tmp_path: Path) -> None:
    path = tmp_path / "chart.pdf"
    path.write_bytes(dict(pieces())["harbour-chart-lantern-sound.pdf"])
    page = examine(path).pages[0]
    assert (page.width_mm, page.height_mm) == (pytest.approx(420, abs=0.1), pytest.approx(297, abs=0.1))
    lines = page.contours["CutContour"]
    xs = [x for line in lines for x, _ in line]
    assert min(xs) == pytest.approx(4 / 420, abs=1e-3) and max(xs) == pytest.approx(416 / 420, abs=1e-3)


@pytest.fixture
def folder(user: User, mode: PrintMode) -> HotFolder:
    with acting(user):
        return hot_folders.make(
            "Deck charts", "deck", user, mode=mode, width_mm=60.0, go=True, kinds="png pdf"
        )


def drop(folder: HotFolder, name: str, data: bytes, age: float = 60.0) -> Path:
    path = hot_folders.path_of(folder) / name
    path.write_bytes(data)
    os.utime(path, (time.time() - age,) * 2)
    return path


def collect(monkeypatch: pytest.MonkeyPatch, callbacks) -> int:
    monkeypatch.setattr(hot_folders, "SETTLED", 0.0)
    with callbacks(execute=True):
        taken = hot_folders.collect()
    with callbacks(execute=True):
        hot_folders.go_by_themselves()
    return taken


def test_a_hot_folder_makes_jobs_with_its_defaults(
    folder, mode, monkeypatch, django_capture_on_commit_callbacks
) -> None:
    for i in range(3):
        drop(folder, f"piece {i}.png", picture(10 + i))
    drop(folder, "notes.txt", b"not artwork")
    drop(folder, "odd näme 漢字.png", picture(20))
    (hot_folders.path_of(folder) / "linked.png").symlink_to("/etc/passwd")
    assert collect(monkeypatch, django_capture_on_commit_callbacks) == 5
    assert Job.objects.count() == 4
    job = Job.objects.first()
    assert job.mode == mode and job.choices["width_mm"] == 60.0
    assert Arrived.objects.get(name="notes.txt").reason.endswith("this folder takes png, pdf alone")
    left = sorted(p.name for p in hot_folders.path_of(folder).iterdir())
    assert left == ["linked.png", "refused", "taken"]
    assert PrintFile.objects.filter(state="done").count() == 4, "they went by themselves"


def test_a_file_that_is_still_written_is_left_alone(folder, django_capture_on_commit_callbacks) -> None:
    path = drop(folder, "growing.png", picture(30), age=0.0)
    assert hot_folders.collect() == 0 and path.exists()


def test_same_names_do_not_overwrite_one_another(
    folder, monkeypatch, django_capture_on_commit_callbacks
) -> None:
    for i in (1, 2):
        drop(folder, "same.png", picture(40 + i))
        collect(monkeypatch, django_capture_on_commit_callbacks)
    kept = sorted(p.name for p in (hot_folders.path_of(folder) / "taken").iterdir())
    assert kept == ["same (2).png", "same.png"] and Artwork.objects.count() == 2


def test_what_stops_does_not_go_by_itself(folder, monkeypatch, django_capture_on_commit_callbacks) -> None:
    drop(folder, "plan.pdf", dict(pieces())["old-plan-fonts-missing.pdf"])
    collect(monkeypatch, django_capture_on_commit_callbacks)
    job = Job.objects.get()
    assert job.held and not job.print_files.exists()


def test_defaults_are_copied_and_do_not_flow_back(
    folder, monkeypatch, django_capture_on_commit_callbacks
) -> None:
    drop(folder, "a.png", picture(50))
    collect(monkeypatch, django_capture_on_commit_callbacks)
    HotFolder.objects.update(width_mm=99.0)
    assert Job.objects.get().choices["width_mm"] == 60.0


@pytest.mark.parametrize("name", ["", "..", "a/b", ".hidden", "../up"])
def test_a_hot_folder_stays_inside_the_shop_s(user: User, name: str) -> None:
    with acting(user), pytest.raises(BadInput):
        hot_folders.make("x", name, user)


def test_a_worker_killed_before_the_file_was_put_away_makes_one_job(
    folder, monkeypatch, django_capture_on_commit_callbacks
) -> None:
    class Killed(BaseException):
        """The process is gone."""

    def killed(*_: object) -> None:
        raise Killed

    drop(folder, "piece.png", picture(60))
    with monkeypatch.context() as held:
        held.setattr(hot_folders, "_put_away", killed)
        with pytest.raises(Killed):
            collect(held, django_capture_on_commit_callbacks)
    assert (hot_folders.path_of(folder) / "piece.png").exists() and Job.objects.count() == 1
    collect(monkeypatch, django_capture_on_commit_callbacks)
    assert Job.objects.count() == 1 and Arrived.objects.count() == 1
    assert (hot_folders.path_of(folder) / "taken" / "piece.png").exists()
    drop(folder, "piece.png", picture(61))
    collect(monkeypatch, django_capture_on_commit_callbacks)
    assert Job.objects.count() == 2, "another file of that name is another piece"


def test_two_workers_send_a_job_once(folder, monkeypatch, django_capture_on_commit_callbacks) -> None:
    drop(folder, "piece.png", picture(62))
    monkeypatch.setattr(hot_folders, "SETTLED", 0.0)
    with django_capture_on_commit_callbacks(execute=True):
        hot_folders.collect()
    with claimed("hot folders go"):
        assert hot_folders.go_by_themselves() == 0, "another one is at it"
    assert not PrintFile.objects.exists()
    with django_capture_on_commit_callbacks(execute=True):
        assert hot_folders.go_by_themselves() == 1
    assert hot_folders.go_by_themselves() == 0 and PrintFile.objects.count() == 1
    assert Arrived.objects.get().reason == ""
