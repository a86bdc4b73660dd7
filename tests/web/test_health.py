"""Whether an installation is well, as balancers, monitors and people ask."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from django.core.files.storage import default_storage
from django.test import Client

from greyanchor.background.models import BackgroundWork
from greyanchor.colours.models import RecipeWork
from greyanchor.web import health
from tests.conftest import run_in


@pytest.fixture
def visitor(db: None, settings: object, tmp_path: Path) -> Client:
    settings.MEDIA_ROOT = tmp_path
    return Client()


def test_a_visitor_learns_that_it_is_alive_and_ready_and_no_more(visitor: Client) -> None:
    alive = visitor.get("/healthz")
    assert alive.status_code == 200
    assert alive.content == b"alive\n"
    assert "no-store" in alive["Cache-Control"]
    ready = visitor.get("/readyz")
    assert ready.status_code == 200
    assert ready.json() == {"ready": True, "database": "ok", "queue": "ok", "storage": "ok"}


def test_it_is_not_ready_without_its_storage(visitor: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    def lost(*_: object) -> str:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(default_storage, "save", lost)
    answer = visitor.get("/readyz")
    assert answer.status_code == 503
    assert answer.json()["storage"] == "bad"
    assert "No space" not in answer.content.decode(), "what is wrong is for people of the shop"
    assert visitor.get("/healthz").status_code == 200
    (found,) = health.looked_at((health.NEEDED[2],))
    assert "No space left" in found.words
    assert "can be written" in found.todo


def test_figures_stay_on_this_machine(visitor: Client) -> None:
    visitor.get("/nothing-here/")
    page = visitor.get("/metrics").content.decode()
    assert 'greyanchor_requests_total{status="4xx"}' in page or 'status="3xx"' in page
    assert 'greyanchor_well{what="database"} 1' in page
    assert visitor.get("/metrics", REMOTE_ADDR="10.1.2.3").status_code == 404
    assert visitor.get("/metrics", headers={"X-Forwarded-For": "10.1.2.3"}).status_code == 404
    names = {line.split("{")[0].split(" ")[0] for line in page.splitlines() if not line.startswith("#")}
    assert all(n == "" or n.startswith("greyanchor_") for n in names)
    assert issubclass(RecipeWork, BackgroundWork), "work is counted by what it is"


def test_the_doctor_looks_and_says_what_to_do(served_home: Path, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(served_home, home)
    done = run_in(home, "-m", "greyanchor.cli", "doctor", "--json")
    found = {f["name"]: f for f in json.loads(done.stdout)["found"]}
    assert done.returncode == 0, done.stdout
    assert set(found) >= {"database", "queue", "storage", "disk", "rights", "clock", "ghostscript", "fonts"}
    assert found["storage"]["state"] == "ok"
    (home / "secret.key").chmod(0o644)
    assert "chmod 600" in run_in(home, "-m", "greyanchor.cli", "doctor").stdout
    (home / "greyanchor.sqlite3").write_bytes(b"no database at all, but long enough to be looked at" * 40)
    broken = run_in(home, "-m", "greyanchor.cli", "doctor")
    assert broken.returncode == 1
    assert "bad" in broken.stdout.splitlines()[0]
    assert "DATABASE_URL" in broken.stdout
