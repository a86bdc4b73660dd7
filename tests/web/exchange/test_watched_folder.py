"""Readings that arrive as files."""

from __future__ import annotations

import os
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.builds.models import Build
from greyanchor.checks.models import Check, CheckPrint
from greyanchor.demo.prints import careful_reading
from greyanchor.library.modes import services
from greyanchor.measuring import inbox, waiting
from greyanchor.measuring.models import Delivered, ReadingPass, SheetPrint
from greyanchor.measuring.printing import make_chart
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.profiles.models import AimRecord
from tests.web.conftest import accept, found_limits, stage_of
from tests.web.exchange.conftest import readings_text


def settle(folder: Path) -> None:
    """Date the files of a folder back, as if they had been written a while ago."""
    for path in folder.iterdir():
        if path.is_file() and not path.is_symlink():
            os.utime(path, (path.stat().st_atime, path.stat().st_mtime - 10))


def test_files_in_the_watched_folder_are_taken_or_refused_with_a_reason(
    printed: SheetPrint, client: Client
) -> None:
    inbox.collect()  # makes the folder
    folder = Path(settings.INBOX)
    (folder / "good.txt").write_bytes(readings_text(printed))
    (folder / "bad.csv").write_text("nothing here")
    (folder / "note.docx").write_text("not ours")
    (folder / "link.txt").symlink_to("/etc/hostname")
    assert inbox.collect() == [], "a file that may still be written is left"
    settle(folder)
    facts = {d.name: d for d in inbox.collect()}
    assert (
        facts["good.txt"].outcome == "taken"
        and facts["good.txt"].sheet_print == printed
        and facts["bad.csv"].outcome == "refused"
    )
    assert (folder / "taken" / "good.txt").exists() and "bad.csv" in (
        folder / "refused" / "bad.csv.reason.txt"
    ).read_text()
    assert sorted(p.name for p in folder.iterdir() if not p.is_dir()) == ["link.txt", "note.docx"]
    assert printed.passes.count() == 1 and inbox.collect() == []
    page = client.get("/files/").content.decode()
    assert "good.txt" in page and "bad.csv" in page and "watched folder" in page
    (folder / "good.txt").write_bytes(readings_text(printed, 2))
    settle(folder)
    inbox.collect()
    assert (folder / "taken" / "good-2.txt").exists() and printed.passes.count() == 2


def test_readings_that_could_be_of_two_prints_are_left_to_a_person(
    printed: SheetPrint, user: User, build: Build
) -> None:
    twin = SheetPrint.objects.get(pk=printed.pk)
    twin.pk = None
    twin.save()
    stage = stage_of(build, "linearization")
    stage.state, stage.sheet_print = "open", twin
    stage.save()
    made = inbox.deliver("one.txt", readings_text(printed), "program", user)
    assert made.outcome == "refused" and "could be of" in made.reason and printed.passes.count() == 0
    assert (
        inbox.deliver("one.txt", readings_text(printed), "program", user, printed).outcome
        == Delivered.Outcome.TAKEN
    )
    named = inbox.deliver(f"Print-{printed.pk} second.txt", readings_text(printed, 2), "watched folder", None)
    assert named.outcome == "taken" and printed.passes.count() == 2 and twin.passes.count() == 0
    nobody = inbox.deliver("print-4711.txt", readings_text(printed), "watched folder", None)
    assert "there is no print 4711" in nobody.reason


def test_a_file_that_says_which_chart_it_was_read_from_belongs_to_it(
    printed: SheetPrint, user: User, build: Build
) -> None:
    """Two charts of the same patches wait; the descriptor of the readings is the title of one of them."""
    twin = SheetPrint.objects.get(pk=printed.pk)
    twin.pk, twin.chart = (
        None,
        make_chart("ink-limit", printed.chart.patches.device, "another chart", build.print_environment),
    )
    twin.save()
    stage = stage_of(build, "linearization")
    stage.state, stage.sheet_print = "open", twin
    stage.save()
    found = readings_text(printed)
    title = f'DESCRIPTOR\t"{printed.chart.title}"'.encode()
    assert title in found
    silent = inbox.deliver("a.txt", found.replace(title, b'DESCRIPTOR\t"job"'), "watched folder", None)
    assert "could be of" in silent.reason
    made = inbox.deliver("b.txt", found, "watched folder", None)
    assert made.outcome == "taken" and made.sheet_print == printed


def test_what_is_decided_on_waits_for_no_readings(
    printed: SheetPrint, user: User, build: Build, client: Client
) -> None:
    assert list(waiting.open_prints()) == [printed]
    for number in (1, 2):
        inbox.deliver("p.txt", readings_text(printed, number), "program", user)
    assert (
        list(waiting.open_prints()) == [printed]
        and "Charts that wait" in client.get("/files/").content.decode()
    )
    accept(build, "ink-limits", user, found_limits(stage_of(build, "ink-limits")))
    assert printed not in waiting.open_prints()
    late = inbox.deliver("p.txt", readings_text(printed, 3), "program", user, printed)
    assert "waits for no readings" in late.reason and printed.passes.count() == 2
    services.retire_mode(build.mode_id, build.mode.history.latest().version, user, "called off")
    assert not waiting.open_prints().exists(), "a mode that is put away waits for nothing"


def test_an_older_strip_is_not_in_the_way_of_a_new_one(
    printed: SheetPrint, user: User, aim: AimRecord, build: Build
) -> None:
    """Last week's print of the same chart was judged: today's readings can only be of today's."""
    shared = {"mode": build.mode, "aim": aim, "tolerances": "iso12647-7:2016", "started_by": user}
    build.stages.update(state="waiting")
    prints = []
    for _ in range(2):
        one = SheetPrint.objects.get(pk=printed.pk)
        one.pk = None
        one.save()
        prints.append(one)
    old, new = prints
    verdict = Check.objects.create(
        mode=build.mode, aim=aim, tolerances="x", verdict="pass", summary="s", readings="r", readings_hash="h"
    )
    CheckPrint.objects.create(sheet_print=old, made_check=verdict, **shared)
    reading = keep_whole_pass(old, careful_reading(old, 1), "test", user)
    assert list(waiting.open_prints()) == [old], "its second reading may still come"
    CheckPrint.objects.filter(sheet_print=old).update(made_check=verdict)
    later = CheckPrint.objects.create(sheet_print=new, **shared)
    assert list(waiting.open_prints()) == [new], "once the next strip is there, the last one is done"
    later.delete()
    ReadingPass.objects.filter(pk=reading.pk).update(finished_at=timezone.now() - timedelta(days=7))
    assert not waiting.open_prints().exists(), "nobody reads it again after a week"
    CheckPrint.objects.create(sheet_print=new, **shared)
    made = inbox.deliver("strip.txt", readings_text(new), "watched folder", None)
    assert made.outcome == "taken" and made.sheet_print == new
