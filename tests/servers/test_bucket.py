"""Files in a bucket (S3, by another program's server), and two machines that share nothing else."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.servers.conftest import HERE, Shop, answers, free_port, wait_for

pytestmark = pytest.mark.slow

TAKE = """
import django; django.setup()
from django.core.files.base import ContentFile
from greyanchor.printroom import files
sha, size = files.take_in(ContentFile(b"artwork " * 100_000))
with files.whole("thumbnails/x.jpg") as partial:
    partial.write_bytes(b"small")
folder = files.place("plates/7/a.tif")
folder.write_bytes(b"plate")
files.share("plates/7")
print(sha)
"""
FETCH = """
import django, sys; django.setup()
import hashlib
from greyanchor.printroom import files
with files.opened(files.artwork_name(sys.argv[1])) as kept:
    assert hashlib.sha256(kept.read()).hexdigest() == sys.argv[1]
assert files.opened("thumbnails/x.jpg").read() == b"small"
assert files.opened("plates/7/a.tif").read() == b"plate"
files.remove("thumbnails/x.jpg")
"""
GONE = """
import django; django.setup()
from django.core.files.storage import default_storage
from greyanchor.web import health
print(default_storage.exists("thumbnails/x.jpg"), health._storage().state)
"""


@pytest.fixture
def bucket() -> Iterator[dict[str, str]]:
    port = free_port()
    server = subprocess.Popen(
        [sys.executable, "-m", "moto.server", "-p", str(port), "-H", HERE],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    wait_for(lambda: answers(port))
    settings = {
        "GREYANCHOR_S3": "artwork-of-the-shop",
        "AWS_S3_ENDPOINT_URL": f"http://{HERE}:{port}",
        "AWS_ACCESS_KEY_ID": "made up",
        "AWS_SECRET_ACCESS_KEY": "made up",
        "AWS_DEFAULT_REGION": "eu-central-1",
    }
    import boto3

    made = boto3.client(
        "s3", endpoint_url=settings["AWS_S3_ENDPOINT_URL"], aws_access_key_id="made up",
        aws_secret_access_key="made up", region_name="eu-central-1",
    )  # fmt: skip
    made.create_bucket(
        Bucket=settings["GREYANCHOR_S3"], CreateBucketConfiguration={"LocationConstraint": "eu-central-1"}
    )
    yield settings
    server.kill()
    server.wait()


def test_what_one_machine_keeps_another_one_fetches(bucket: dict[str, str], tmp_path: Path) -> None:
    for name in ("one", "two"):
        os.mkdir(tmp_path / name)
    one, two = Shop(tmp_path / "one", **bucket), Shop(tmp_path / "two", **bucket)
    sha = one.run(TAKE).strip()
    assert not (tmp_path / "two" / "files" / "artwork").exists()
    done = subprocess.run(
        [sys.executable, "-c", FETCH, sha], env=two.environment, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert list((tmp_path / "two" / "files" / "artwork").rglob(sha)), "kept here from now on"
    assert one.run(GONE).split() == ["False", "ok"]
