"""The application's log, as a process writes it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import run_in

TABLES = """
import django; django.setup()
from django.apps import apps
from django.conf import settings
from django.core.management import call_command
settings.MIGRATION_MODULES = {a.label: None for a in apps.get_app_configs()}
call_command("migrate", run_syncdb=True, verbosity=0)
from django.contrib.auth.models import User
User.objects.create_user("ines", password="x")
"""
ASK = """
import django; django.setup()
from django.contrib.auth.models import User
from django.test import Client
client = Client(HTTP_HOST="localhost", REMOTE_ADDR="192.0.2.7")
client.get("/sign-in/?next=/modes/")
client.force_login(User.objects.get())
client.get("/nowhere/")
"""
FAIL = """
import django; django.setup()
from greyanchor.background import work
from greyanchor.library.models import PackImport
def burst():
    raise RuntimeError("the engine burst")
job = PackImport.objects.create(name="x.zip")
work.carry_out(PackImport, job.pk, burst)
job.refresh_from_db()
assert job.state == "failed", job.state
"""


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A home with tables and one person."""
    made = tmp_path_factory.mktemp("logged")
    done = run_in(made, "-c", TABLES)
    assert done.returncode == 0, done.stderr
    return made


def lines(home: Path, code: str, **variables: str) -> list[dict[str, object]]:
    done = run_in(home, "-c", code, GREYANCHOR_LOG_FORMAT="json", **variables)
    assert done.returncode == 0, done.stderr
    return [json.loads(line) for line in done.stderr.splitlines() if line.startswith("{")]


def test_a_request_is_one_line_with_user_address_status_and_milliseconds(home: Path) -> None:
    first, second = (line for line in lines(home, ASK) if line["event"] == "request")
    assert first["address"] == "/sign-in/?next=/modes/" and first["status"] == 200 and first["user"] == ""
    assert first["remote"] == "192.0.2.7" and first["method"] == "GET" and first["level"] == "info"
    assert isinstance(first["ms"], float) and 0 < first["ms"] < 60_000
    assert second["address"] == "/nowhere/" and second["status"] == 404 and second["user"] == "ines"
    assert str(second["timestamp"]).startswith("20")


def test_the_level_leaves_lines_out_and_text_is_for_people(home: Path) -> None:
    assert lines(home, ASK, GREYANCHOR_LOG_LEVEL="warning") == []
    done = run_in(home, "-c", ASK)
    (line,) = (one for one in done.stderr.splitlines() if "/nowhere/" in one)
    assert "status=404" in line and "user=ines" in line


def test_failed_work_is_logged_with_its_traceback(home: Path) -> None:
    found = {str(line["event"]): line for line in lines(home, FAIL)}
    failed = found["work failed"]
    assert failed["level"] == "error" and str(failed["work"]).endswith("PackImport") and failed["id"] == 1
    assert "in burst" in str(failed["exception"])
    assert "RuntimeError: the engine burst" in str(failed["exception"])


@pytest.mark.parametrize(
    ("variable", "value", "sentence"),
    [
        ("GREYANCHOR_LOG_LEVEL", "loud", "use one of DEBUG, INFO, WARNING, ERROR"),
        ("GREYANCHOR_LOG_FORMAT", "xml", "use text or json"),
    ],
)
def test_a_level_or_form_that_there_is_not_is_refused(
    tmp_path: Path, variable: str, value: str, sentence: str
) -> None:
    done = run_in(tmp_path, "-c", "import django; django.setup()", **{variable: value})
    assert done.returncode != 0 and sentence in done.stderr
