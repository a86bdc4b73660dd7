"""A stage that is added is one file: nothing else knows its name."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.lifecycle import redo
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build
from greyanchor.builds.stages.registry import register, stage_types, unregister
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Media, Printer, PrintMode
from tests.web.builds.ninth_stage import Rub
from tests.web.conftest import CHOICES, accept, found_limits, read_stage, stage_of

ROOT = Path(__file__).parents[3]


@pytest.fixture
def rub() -> Iterator[None]:
    register(Rub)
    yield
    unregister(Rub.name)


def test_a_ninth_stage_is_printed_read_accepted_done_again_and_put_on_the_mode(
    rub: None, client: Client, printer: Printer, media: Media, user: User
) -> None:
    inks = printer.ink_sets.get()
    assert [t.name for t in stage_types() if t.serves(inks)][:3] == ["ink-limits", "rub", "linearization"]
    build = start_build("Rubbed", printer, printer.ink_sets.get(), media, CHOICES, user)
    assert build.stages.count() == 9
    accept(build, "ink-limits", user, found_limits(read_stage(build, "ink-limits", user)))
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Rub test" in page and "How dark the media may be printed" in page and "Print on Petrel 44" in page
    assert "Rub test" in client.get("/").content.decode()
    stage = read_stage(build, "rub", user, 1)
    assert len(stage.result["lightness"]) == 4
    accepting = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Accept rub test" in accepting
    with pytest.raises(BadInput, match="comes off"):
        accept(build, "rub", user, {"survives": False})
    build.refresh_from_db()
    page = client.post(
        f"/builds/{build.pk}/rub/accept/", {"rub-version": build.version}, follow=True
    ).content.decode()
    assert "Rub test accepted." in page and f"darkest L* {stage.result['darkest']:.1f}" in page
    mode = PrintMode.objects.get(pk=build.mode_id)
    assert mode.note == f"darkest L* {stage.result['darkest']:.1f}"
    assert stage_of(build, "linearization").state == "open"
    build.refresh_from_db()
    redo.redo_stage(stage_of(build, "rub").pk, build.version, user)
    mode.refresh_from_db()
    assert mode.note == "" and stage_of(build, "linearization").state == "waiting"


def test_builds_begun_before_a_stage_was_added_go_on_without_it(
    build: Build, client: Client, user: User, request: pytest.FixtureRequest
) -> None:
    request.getfixturevalue("rub")
    accept(build, "ink-limits", user, found_limits(read_stage(build, "ink-limits", user)))
    assert client.get(f"/builds/{build.pk}/").status_code == 200
    assert stage_of(build, "linearization").state == "open"


def test_nothing_outside_the_stages_asks_which_stage_it_is() -> None:
    asks = re.compile(
        r"\.kind (==|!=|in|not in) |kind=names\.|names\.[A-Z_]+ (==|in) |== names\.|in \(names\."
    )
    builds = ROOT / "greyanchor" / "builds"
    outside = [p for p in builds.rglob("*.py") if not {"stages", "migrations"} & set(p.parts)]
    assert len(outside) > 20
    assert [p.name for p in outside if asks.search(p.read_text(encoding="utf-8"))] == []
