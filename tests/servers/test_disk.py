"""A disk that fills up, and one that can only be read: said, and nothing is half done."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
import requests

from tests.servers.conftest import Shop

pytestmark = pytest.mark.slow

NOTE = "FULL DISK "


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of its own, of 250 MB."""
    place = tmp_path / "disk"
    place.mkdir()
    command = ["mount", "-t", "tmpfs", "-o", "size=250M", "tmpfs", str(place)]
    if subprocess.run(command, capture_output=True).returncode:
        pytest.skip("no disk can be mounted here (it takes root)")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


@pytest.fixture
def shop(disk: Path, served_home: Path) -> Iterator[Shop]:
    shutil.copytree(served_home, disk / "home")
    made = Shop(disk / "home")
    made.start()
    yield made
    made.stop()


def _signed_in(shop: Shop) -> requests.Session:
    visitor = requests.Session()
    page = visitor.get(f"{shop.url}/sign-in/", timeout=30).text
    answer = visitor.post(
        f"{shop.url}/sign-in/",
        data={"csrfmiddlewaretoken": _token(page), "username": "ines", "password": "quay-street-1"},
        timeout=30,
    )
    assert "What needs doing" in answer.text
    return visitor


def _token(page: str) -> str:
    found = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)
    assert found is not None
    return found[1]


def _fill(disk: Path) -> Path:
    """Fill the disk to the last page."""
    filler = disk / "filler"
    with filler.open("wb", buffering=0) as out, suppress(OSError):
        while True:
            out.write(os.urandom(65536))
    return filler


def _upload(visitor: requests.Session, shop: Shop, name: str) -> requests.Response:
    page = visitor.get(f"{shop.url}/files/", timeout=30).text
    return visitor.post(
        f"{shop.url}/files/",
        data={"csrfmiddlewaretoken": _token(page)},
        files={"file": (name, b"x" * 200_000)},
        timeout=60,
    )


KEPT = "import django; django.setup()\nfrom greyanchor.measuring.models import Upload\n"
KEPT += "print(*Upload.objects.values_list('name', flat=True))"


def test_a_full_disk_is_said_and_nothing_is_half_kept(shop: Shop, disk: Path) -> None:
    visitor = _signed_in(shop)
    assert _upload(visitor, shop, "before.txt").status_code == 200
    filler = _fill(disk)
    answer = _upload(visitor, shop, "during.txt")
    assert answer.status_code == 507 and "full" in answer.text and "Nothing was half saved" in answer.text
    backup = shop.command("backup", "all.zip")
    assert backup.returncode == 2 and "Traceback" not in backup.stderr, backup.stderr
    filler.unlink()
    assert not list(shop.home.glob("*.part")) and not list(shop.home.glob(".backup*"))
    assert _upload(visitor, shop, "after.txt").status_code == 200
    assert sorted(shop.run(KEPT).split()) == ["after.txt", "before.txt"]


def test_a_disk_that_can_only_be_read_is_said_at_the_top(shop: Shop, disk: Path) -> None:
    visitor = _signed_in(shop)
    command = ["mount", "-o", "remount,ro", str(disk)]
    shop.stop()
    if subprocess.run(command, capture_output=True).returncode:
        pytest.skip("this disk cannot be made read-only here")
    started = shop.command("serve", "--port", str(shop.port))
    assert started.returncode == 2 and "Traceback" not in started.stderr, started.stderr[-2000:]
    assert "read" in started.stderr
    subprocess.run(["mount", "-o", "remount,rw", str(disk)], check=True)
    shop.start()
    assert visitor.get(f"{shop.url}/media/", timeout=30).status_code == 200
