"""Files and names that somebody made odd, or that are large."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any
from unittest import mock

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.core.errors import BadInput
from greyanchor.core.plain_text import file_name, hidden_in
from greyanchor.library.models import Media
from greyanchor.measuring import inbox, uploads
from greyanchor.measuring.models import Delivered, Upload
from greyanchor.printroom import hot_folders
from greyanchor.printroom.models import Arrived, HotFolder
from greyanchor.profiles.services import small_content_of

ODD = [
    b"\xff\xfe broken.txt",
    "turned \u202etxt.exe.txt".encode(),
    b"line\nbreak.txt",
    b"=cmd.txt",
    b"x" * 250 + b".txt",
    "Łódź — ß.txt".encode(),
    b"-rf.txt",
    b"tab\there.csv",
]


def _put(folder: Path, names: list[bytes], data: bytes = b"not readings\n") -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name in names:
        path = os.path.join(os.fsencode(folder), name)
        Path(os.fsdecode(path)).write_bytes(data)
        os.utime(path, (time.time() - 60, time.time() - 60))


@pytest.mark.django_db
def test_odd_names_do_not_stop_the_watched_folder(tmp_path: Path, settings: Any) -> None:
    settings.INBOX = tmp_path / "inbox"
    _put(settings.INBOX, ODD)
    os.mkfifo(settings.INBOX / "pipe.txt")
    (settings.INBOX / "loop.txt").symlink_to("loop.txt")
    inbox.collect()
    assert Delivered.objects.count() == len(ODD) and not any(
        p.is_file() for p in settings.INBOX.iterdir() if p.name not in ("pipe.txt", "loop.txt")
    )
    assert not any(hidden_in(n) for n in Delivered.objects.values_list("name", flat=True))
    refused = list((settings.INBOX / "refused").glob("*.reason.txt"))
    assert len(refused) == len(ODD) and all(p.read_text() for p in refused)


@pytest.mark.django_db
def test_a_file_that_makes_the_program_fail_is_put_away_and_the_next_is_taken(
    tmp_path: Path, settings: Any
) -> None:
    settings.INBOX = tmp_path / "inbox"
    _put(settings.INBOX, [b"a.txt", b"b.txt"])
    plain = inbox.deliver

    def fails(name: str, *rest: Any) -> Any:
        if name == "a.txt":
            raise RuntimeError("a fault of ours")
        return plain(name, *rest)

    with mock.patch.object(inbox, "deliver", fails):
        inbox.collect()
    assert [d.name for d in Delivered.objects.all()] == ["b.txt"]
    assert "a fault of ours" in (settings.INBOX / "refused" / "a.txt.reason.txt").read_text()


@pytest.mark.django_db
def test_odd_names_in_a_hot_folder_are_kept_and_never_deleted(
    tmp_path: Path, settings: Any, user: User
) -> None:
    settings.HOT_FOLDERS = tmp_path / "hot"
    folder = HotFolder.objects.create(name="night", made_by=user)
    place = hot_folders.path_of(folder)
    _put(place, ODD)
    for name in ODD:
        os.utime(os.path.join(os.fsencode(place), name), (1, 1))
    with mock.patch.object(hot_folders, "SETTLED", -1.0):
        hot_folders.collect()
    assert Arrived.objects.count() == len(ODD)
    kept = [p for p in place.rglob("*") if p.is_file()]
    assert len(kept) == len(ODD), "all of them are somewhere"


@pytest.mark.parametrize("name", ["a\u202eb", "nul\0", "bell\x07", "\u2066hidden\u2069", "\udcff"])
def test_no_record_gets_a_name_with_what_cannot_be_seen(name: str, user: User) -> None:
    assert hidden_in(name)
    media = Media(name=name)
    with pytest.raises(BadInput, match="cannot be seen, U\\+"):
        media.save()


def test_names_are_cleaned_and_keep_their_ending() -> None:
    assert file_name("..\\..\\windows\\a.txt") == "a.txt"
    assert file_name("a\u202eb.txt") == "a\ufffdb.txt" and file_name("  ") == "unnamed"
    long = file_name("x" * 500 + " chart.cxf")
    assert len(long) == 200 and long.endswith(" chart.cxf")
    assert file_name("Łódź — ß.txt") == "Łódź — ß.txt"


def _table(rows: int) -> bytes:
    lines = ["id,C %,M %,Y %,K %,L*,a*,b*"]
    lines += [f"{i},{i % 101},0,0,0,{95 - 0.4 * (i % 101):.2f},1.0,-2.0" for i in range(1, rows + 1)]
    return "\n".join(lines).encode()


def test_a_small_file_is_parsed_once_and_its_page_parses_nothing(client: Client, user: User) -> None:
    client.force_login(user)
    sent = SimpleUploadedFile("small.csv", _table(60))
    led = client.post("/files/", {"file": sent})
    with mock.patch("greyanchor.core.formats.readings_file.loads", side_effect=AssertionError):
        page = client.get(led["Location"]).content.decode()
    assert "As it was understood" in page and "and 48 more" in page


def test_a_large_file_is_the_workers_and_what_it_found_is_kept(client: Client, user: User) -> None:
    client.force_login(user)
    with mock.patch.object(uploads.queue, "start") as handed:
        led = client.post("/files/", {"file": SimpleUploadedFile("large.csv", _table(20_000))})
    upload = Upload.objects.get()
    assert handed.call_args[0][0] == upload and upload.understood is None
    with mock.patch("greyanchor.core.formats.readings_file.loads", side_effect=AssertionError):
        page = client.get(led["Location"]).content.decode()
        assert "waits for the worker" in page
        part = client.get(f"{led['Location']}part/")
    assert part.status_code == 200
    uploads.queue.run(upload)
    assert client.get(f"{led['Location']}part/").status_code == 286
    assert "and 19988 more" in client.get(led["Location"]).content.decode().replace("19,988", "19988")


def test_text_that_would_take_long_is_refused_where_somebody_waits_for_it(client: Client, user: User) -> None:
    large = SimpleUploadedFile("large.csv", b"name,L,a,b\n" + b"x,1,2,3\n" * 1_000_000)
    with pytest.raises(BadInput, match="text of up to 6 MB is taken here"):
        small_content_of(large)
    sound = SimpleUploadedFile("small.csv", b"name,L,a,b\nx,1,2,3\n")
    assert small_content_of(sound).startswith(b"name")
