"""A build from an empty environment to a checked mode, with nobody there, on the reader inside the
machine.
"""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User

from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build, Stage
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.devices.standin.readers import StandinSheetReader
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.measuring.models import SheetPrint
from greyanchor.profiles.models import AimRecord
from greyanchor.unattended import engine, services
from greyanchor.unattended.models import Unattended
from tests.web.conftest import CHOICES, stage_of


@pytest.fixture
def handed(machine: Printer, media: Media, user: User, aim: AimRecord) -> Unattended:
    build = start_build("Alone", machine, machine.ink_sets.get(), media, CHOICES, user)
    wishes = {"patches": 300, "aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": True}
    return services.start_build_alone(build, wishes, user)


def _go(work: Unattended, steps: int = 40) -> Unattended:
    for _ in range(steps):
        engine.tick(seconds=120)
        work.refresh_from_db()
        if work.state != Unattended.State.GOING:
            break
    return work


@pytest.mark.slow
def test_a_mode_is_made_and_checked_without_a_key_pressed(handed: Unattended) -> None:
    work = _go(handed)
    said = [(s.what, s.figure, s.why) for s in work.steps.all()]
    assert work.state == Unattended.State.DONE, (work.words, said[-3:])
    mode = PrintMode.objects.get(pk=work.mode_id)
    assert mode.state == PrintMode.State.READY and mode.last_verdict == "pass" and mode.profile is not None
    assert "waits for its release" in work.words
    build = Build.objects.get(pk=work.build_id)
    assert build.finished_at is None, "a person releases"
    decided = build.stages.filter(state=Stage.State.ACCEPTED)
    assert decided.count() >= 6 and {s.reason for s in decided if s.sheet_print} == {
        "decided unattended: nothing speaks against it"
    }
    # each decision has its reason and its figure
    for what, figure, why in said:
        if what.endswith("accepted"):
            assert figure and "nothing speaks against it" in why, what
    limits = next(f for w, f, _ in said if w == "Ink limits accepted")
    assert limits.startswith("C ") and "%" in limits
    jobs = SheetPrint.objects.filter(stages__build=build)
    assert all(j.passes.count() >= 2 for j in jobs if j.chart.purpose == "profile")


def test_it_waits_for_its_media_and_goes_on_by_itself(handed: Unattended, media: Media) -> None:
    Printer.objects.filter(pk=handed.printer_id).update(loaded_media=None)
    engine.tick()
    handed.refresh_from_db()
    assert handed.is_stopped and handed.stop == "media"
    assert "Harbour Proof Semimatt 235 is called for" in handed.words and "load the media" in handed.todo
    Printer.objects.filter(pk=handed.printer_id).update(loaded_media=media)
    engine.tick()
    handed.refresh_from_db()
    assert handed.state == Unattended.State.GOING


def test_a_reader_that_fails_twice_stops_it_and_it_goes_on_from_there(
    handed: Unattended, monkeypatch: pytest.MonkeyPatch, user: User
) -> None:
    def dirty(*_: Any) -> Any:
        raise NotReadable("the white tile is dirty: clean it")

    with monkeypatch.context() as patched:
        patched.setattr(StandinSheetReader, "read_sheet", dirty)
        engine.tick()
    handed.refresh_from_db()
    assert handed.stop == "suspect" and "dirty" in handed.words
    stage = stage_of(handed.build, "ink-limits")
    assert stage.state == Stage.State.OPEN and stage.result is None, "nothing was decided on it"
    printed = stage.sheet_print
    services.carry_on(handed, user)
    engine.tick(seconds=20)
    handed.refresh_from_db()
    stage = stage_of(handed.build, "ink-limits")
    assert stage.sheet_print == printed, "the same sheet is read, not printed again"
    assert stage.result is not None


def test_a_machine_that_does_not_answer_stops_it(handed: Unattended, monkeypatch: pytest.MonkeyPatch) -> None:
    def silent(*_: Any) -> Any:
        raise TimeoutError("no answer within 30 s")

    monkeypatch.setattr(StandinSheetReader, "read_sheet", silent)
    engine.tick()
    handed.refresh_from_db()
    assert (
        handed.stop == "reader"
        and "does not answer" in handed.words
        and "no answer within 30 s" in handed.words
    )


def test_limits_that_keep_too_little_are_a_persons(handed: Unattended) -> None:
    Unattended.objects.filter(pk=handed.pk).update(wishes={**handed.wishes, "keeps": 99.9})
    work = _go(handed)
    assert work.stop == "limit" and "keep less" in work.words and "%" in work.words
    assert stage_of(work.build, "ink-limits").state == Stage.State.OPEN


def test_what_cannot_be_done_alone_is_said_at_once(
    machine: Printer, media: Media, user: User, aim: AimRecord
) -> None:
    build = start_build("Alone", machine, machine.ink_sets.get(), media, CHOICES, user)
    with pytest.raises(BadInput, match="which aim"):
        services.start_build_alone(build, {"patches": 300}, user)
    wishes = {"aim": aim.pk, "tolerances": "iso12647-7:2016"}
    media.travels_backwards = False
    media.save()
    build.refresh_from_db()
    with pytest.raises(BadInput, match="backwards"):
        services.start_build_alone(Build.objects.get(pk=build.pk), wishes, user)
    media.travels_backwards = True
    media.save()
    services.start_build_alone(Build.objects.get(pk=build.pk), wishes, user)
    with pytest.raises(BadInput, match="already"):
        services.start_build_alone(Build.objects.get(pk=build.pk), wishes, user)
    machine.site.connections.filter(method="inline").delete()
    with pytest.raises(BadInput, match="no reader inside"):
        services.start_night(build.mode, user)


def test_whoever_began_it_gets_a_message(handed: Unattended, settings: Any, mailoutbox: list[Any]) -> None:
    settings.EMAIL_HOST = "mail.invalid"
    User.objects.filter(pk=handed.started_by_id).update(email="mara@chart.invalid")
    Printer.objects.filter(pk=handed.printer_id).update(loaded_media=None)
    engine.tick()
    assert len(mailoutbox) == 1 and mailoutbox[0].to == ["mara@chart.invalid"]
    assert "is called for" in mailoutbox[0].body and "load the media" in mailoutbox[0].body
