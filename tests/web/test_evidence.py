"""Evidence cannot be lost, doubled or doctored: one file is one pass, decided readings stand, withdrawing
voids."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from greyanchor.accounts.audit_log import noted
from greyanchor.accounts.roles import NotAllowed, Role
from greyanchor.background.work import is_alive, mark_interrupted, this_process
from greyanchor.builds import enqueue
from greyanchor.builds.evidence.charts import lay_out_stage
from greyanchor.builds.maintenance.restores import start_restore
from greyanchor.builds.models import Baseline, Build, Stage, Task
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import PrintMode
from greyanchor.measuring import evidence, inbox, services, suspicions
from greyanchor.measuring.claims import claimed
from greyanchor.measuring.models import Claim, ReadingPass, SheetPrint
from greyanchor.measuring.printing import print_sheet
from greyanchor.profiles.models import AimRecord, Profile
from tests.web.conftest import PROFILE, read_stage, stage_of
from tests.web.test_profiles import profile
from tests.web.test_roles import _FORMS, LOOKING, addresses, arguments, person, posting, world

__all__ = ["profile", "world"]

# --- once, and by one ---------------------------------------------------------------------------


def test_one_process_at_a_time_takes_files_up(db: None) -> None:
    with claimed("arrivals") as mine, claimed("arrivals") as other, claimed("something else") as apart:
        assert (mine, other, apart) == (True, False, True)
        assert inbox.collect() == [], "another process is at it"
    assert not Claim.objects.exists()
    gone = subprocess.Popen(["true"])
    gone.wait()
    Claim.objects.create(
        name="arrivals",
        holder=f"{socket.gethostname()}:{gone.pid} x",
        until=timezone.now() + timedelta(seconds=90),
    )
    with claimed("arrivals") as mine:
        assert mine, "at once, where the process of this host is gone"
    Claim.objects.create(
        name="arrivals", holder=f"elsewhere:{gone.pid} x", until=timezone.now() + timedelta(seconds=90)
    )
    with claimed("arrivals") as mine:
        assert not mine, "nothing is known of processes of other hosts"
    Claim.objects.all().delete()
    Claim.objects.create(name="arrivals", holder="died", until=timezone.now() - timedelta(seconds=1))
    with claimed("arrivals") as mine:
        assert mine, "a claim of a process that died is taken over"


def test_the_same_readings_are_one_pass_of_a_print(build: Build, user: User) -> None:
    job = read_stage(build, "ink-limits", user, 1).sheet_print
    with pytest.raises(BadInput, match="these readings are pass 1 already"):
        services.keep_whole_pass(job, careful_reading(job, 1), "again", user)
    services.keep_whole_pass(job, careful_reading(job, 2), "another", user)
    assert job.passes.count() == 2


DROPS = """
import django; django.setup()
import sys, time
from greyanchor.measuring import inbox
while time.time() < float(sys.argv[1]):
    inbox.collect()
    time.sleep(0.02)
"""
PREPARE = """
import django; django.setup()
import os
from pathlib import Path
from django.conf import settings
from django.contrib.auth.models import User
from greyanchor.builds.models import Build
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.core.formats import cgats
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import Media, Printer
from greyanchor.measuring import inbox
from greyanchor.measuring.printing import print_sheet
ines = User.objects.get(username="ines")
printer = Printer.objects.get(name="Petrel 44")
choices = {"resolution": 1200, "passes": 8, "direction": "one way", "halftone": "blue noise", "heat": 36.0,
           "vacuum": 50.0}
inbox.collect()
folder = Path(settings.INBOX)
for k, media in enumerate(Media.objects.filter(unreadable=False).order_by("pk")[:8]):
    build = start_build(f"Mode {k}", printer, printer.ink_sets.first(), media, choices, ines)
    job = print_sheet(build.stages.get(kind="ink-limits").sheet_print_id, ines)
    path = folder / f"print-{job.pk} pass.txt"
    path.write_text(cgats.dumps(careful_reading(job, 1)))
    os.utime(path, (path.stat().st_atime, path.stat().st_mtime - 60))
"""
COUNT = """
import django; django.setup()
from greyanchor.measuring.models import Delivered, ReadingPass
taken = Delivered.objects.filter(outcome="taken")
print(ReadingPass.objects.count(), taken.count(), Delivered.objects.count())
"""


def test_files_are_one_pass_each_however_many_workers_sweep(served_home: Path, tmp_path: Path) -> None:
    home = tmp_path / "shop"
    shutil.copytree(served_home, home)
    kept = {k: v for k, v in os.environ.items() if k != "DJANGO_SETTINGS_MODULE"}
    variables = {
        **kept,
        "GREYANCHOR_HOME": str(home),
        "DJANGO_SETTINGS_MODULE": "greyanchor.config.settings",
    }

    def run(code: str, *arguments: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-c", code, *arguments],
            env=variables,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    prepared = run(PREPARE)
    assert prepared.wait() == 0, prepared.communicate()[1]
    sweepers = [run(DROPS, str(time.time() + 12.0)) for _ in range(3)]
    for sweeper in sweepers:
        assert sweeper.wait() == 0, sweeper.communicate()[1]
    counted = run(COUNT)
    assert counted.communicate()[0].split() == ["8", "8", "8"]


# --- workers --------------------------------------------------------------------------------------


def test_a_worker_that_starts_leaves_the_work_of_another_alone(
    up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("profile")
    task = enqueue.start_profile(stage_of(build, "profile"), PROFILE, user)
    Task.objects.filter(pk=task.pk).update(state="running", worker=this_process(), heard_at=timezone.now())
    mark_interrupted(Task)
    task.refresh_from_db()
    assert task.state == "running", "its process lives and was heard of"
    Task.objects.filter(pk=task.pk).update(worker="other-host:17")
    mark_interrupted(Task)
    task.refresh_from_db()
    assert task.state == "running", "of another machine, and heard of"
    Task.objects.filter(pk=task.pk).update(heard_at=timezone.now() - timedelta(minutes=2))
    mark_interrupted(Task)
    task.refresh_from_db()
    assert task.state == "interrupted", "silent for too long"


def test_the_work_of_a_process_that_ended_is_interrupted_at_once(
    up_to: Callable[[str], Build], user: User
) -> None:
    done = subprocess.Popen([sys.executable, "-c", ""])
    done.wait()
    host = this_process().rpartition(":")[0]
    assert is_alive(this_process()) and not is_alive(f"{host}:{done.pid}") and not is_alive("")
    task = enqueue.start_profile(stage_of(up_to("profile"), "profile"), PROFILE, user)
    Task.objects.filter(pk=task.pk).update(state="running", worker=f"{host}:{done.pid}")
    mark_interrupted(Task)
    task.refresh_from_db()
    assert task.state == "interrupted"


KEEPER = """
import os, subprocess, sys, time
worker = subprocess.Popen([sys.executable, "-m", "greyanchor.cli", "worker"], start_new_session=True,
                          env={**os.environ, "GREYANCHOR_KEEPER": str(os.getpid())})
print(worker.pid, flush=True)
time.sleep(600)
"""


def test_a_worker_that_outlives_a_killed_web_process_ends_itself(served_home: Path, tmp_path: Path) -> None:
    home = tmp_path / "shop"
    shutil.copytree(served_home, home)
    keeper = subprocess.Popen(
        [sys.executable, "-c", KEEPER],
        env={**os.environ, "GREYANCHOR_HOME": str(home)},
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert keeper.stdout is not None
    pid = int(keeper.stdout.readline())
    time.sleep(6.0)
    os.kill(pid, 0)
    keeper.send_signal(signal.SIGKILL)
    keeper.wait()
    for _ in range(360):  # it may still be starting, on a machine with much to do
        try:
            os.kill(pid, 0)
        except ProcessLookupError:
            return
        time.sleep(0.5)
    os.kill(pid, signal.SIGKILL)
    pytest.fail("the worker went on without its web process")


# --- what was decided on stands -------------------------------------------------------------------


def test_readings_of_an_accepted_stage_stand(up_to: Callable[[str], Build], user: User) -> None:
    build = up_to("linearization")
    job = stage_of(build, "ink-limits").sheet_print
    first = job.passes.first()
    for act in (
        lambda: evidence.leave_out(first.pk, user),
        lambda: evidence.reopen_rows(first.pk, [1], user),
        lambda: services.start_pass(job, user),
        lambda: services.keep_whole_pass(job, careful_reading(job, 7), "late", user),
    ):
        with pytest.raises(BadInput, match="the evidence of ink limits of Test mode"):
            act()
    assert job.passes.count() == 2 and not noted(job).exists()


def test_a_lead_withdraws_a_pass_and_what_rests_on_it_is_void_by_name(
    up_to: Callable[[str], Build], user: User, client: Client
) -> None:
    build = up_to("profile-chart")
    job = stage_of(build, "linearization").sheet_print
    wrong = job.passes.first()
    page = client.get(f"/builds/{build.pk}/linearization/part/").content.decode()
    assert "This invalidates linearization of Test mode." in page
    with pytest.raises(BadInput, match="say why this pass is withdrawn"):
        evidence.withdraw(wrong.pk, " ", user)
    with pytest.raises(NotAllowed):
        evidence.withdraw(wrong.pk, "dirty", person("rook", Role.TECHNICIAN))
    answer = client.post(f"/readings/{wrong.pk}/withdraw/", {"reason": "the tile was dirty"}, follow=True)
    text = answer.content.decode()
    assert "Pass 1 is withdrawn; void now: linearization of Test mode." in text
    stages = {s.kind: s for s in build.stages.all()}
    assert stages["ink-limits"].state == "accepted"
    assert stages["linearization"].state == "open"
    assert "evidence withdrawn: the tile was dirty" in stages["linearization"].superseded[-1]["why"]
    assert stages["total-ink"].state == "waiting"
    assert "evidence of linearization was withdrawn" in stages["total-ink"].superseded[-1]["why"]
    assert Baseline.objects.get(mode=build.mode).withdrawn == "the tile was dirty"
    with pytest.raises(BadInput, match="were withdrawn: the tile was dirty"):
        start_restore(build.mode, user)
    mode = PrintMode.objects.get(pk=build.mode_id)
    assert mode.state == "building" and "withdrawn: the tile was dirty" in str(
        mode.history.first().history_change_reason
    )
    wrong.refresh_from_db()
    assert wrong.state == "aside" and wrong.put_aside["reason"] == "the tile was dirty"
    assert wrong.put_aside["voids"] == ["linearization of Test mode"]
    entry = noted(job).first()
    assert entry.before == "complete" and "withdrawn: the tile was dirty; voids linearization" in entry.after
    assert "withdrawn by Mara Voss: the tile was dirty" in text, "it stands in the list of passes"
    assert stages["linearization"].result is not None, "computed again from the pass that is left"


def test_the_last_pass_withdrawn_leaves_no_result(up_to: Callable[[str], Build], user: User) -> None:
    build = up_to("profile-chart")
    job = stage_of(build, "total-ink").sheet_print
    assert evidence.withdraw(job.passes.get().pk, "another sheet", user) == ["total ink of Test mode"]
    stage = stage_of(build, "total-ink")
    assert stage.state == "open" and stage.result is None and job.passes.filter(state="done").count() == 0
    services.keep_whole_pass(job, careful_reading(job, 1), "the same file once more", user)
    assert stage_of(build, "total-ink").result is not None


def test_a_pass_that_is_left_out_stays_in_the_list(build: Build, user: User, client: Client) -> None:
    job = read_stage(build, "ink-limits", user).sheet_print
    client.post(f"/readings/{job.passes.first().pk}/leave-out/")
    assert [p.state for p in job.passes.all()] == ["aside", "done"]
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "left out by Mara Voss" in page and "One pass only" not in page
    with pytest.raises(BadInput, match="is left out already"):
        evidence.leave_out(job.passes.first().pk, user)
    with pytest.raises(BadInput, match="only complete pass"):
        evidence.leave_out(job.passes.last().pk, user)


def state_of_evidence() -> tuple[Any, ...]:
    """Everything that rests on readings, and the readings."""
    return (
        list(ReadingPass.objects.order_by("pk").values_list("pk", "state", "text", "marks")),
        [str(v) for v in SheetPrint.objects.order_by("pk").values_list("pk", "sent", "confirmed")],
        [
            str(v)
            for v in Stage.objects.filter(state="accepted")
            .order_by("pk")
            .values_list("pk", "result", "decision", "reason", "sheet_print", "confirm_print", "profile")
        ],
        list(Baseline.objects.order_by("pk").values_list("pk", "text", "curves", "withdrawn")),
        [
            str(v)
            for v in PrintMode.objects.order_by("pk").values_list("pk", "state", "limit_set", "curve_set")
        ],
    )


#: what leads and technicians do on purpose to decided stages and released modes, each with its own page
DECISIONS = {"pass-withdraw", "stage-redo", "build-environment", "mode-retire", "media-classes-lend"}


@pytest.mark.parametrize("role", list(Role))
def test_no_address_changes_accepted_or_released_evidence(
    world: dict[str, Any],
    up_to: Callable[[str], Build],
    user: User,
    role: Role,
    settings: Any,
    tmp_path: Any,
) -> None:
    settings.HOME = tmp_path
    build = Build.objects.get(pk=world["build"])
    Stage.objects.filter(build=build, kind="ink-limits").update(sheet_print=None, state="open")
    stage = Stage.objects.get(build=build, kind="ink-limits")
    lay_out_stage(stage, {})
    build = up_to("profile-chart")
    job = stage_of(build, "linearization").sheet_print
    PrintMode.objects.filter(pk=build.mode_id).update(state="released")
    first = job.passes.first()
    decided = {**world, "build": build.pk, "mode": build.mode_id, "print": job.pk, "pass": first.pk}
    client = Client(raise_request_exception=False)
    client.force_login(person(role.word, role))
    before = state_of_evidence()
    patterns = dict(addresses())
    tried = 0
    for name in posting():
        if name in LOOKING or (name in DECISIONS and role != Role.OPERATOR):
            continue
        for act in ("read", "undo", "skip") if name == "reading-act" else ("",):
            kwargs = arguments(name, patterns[name], decided)
            if act:
                kwargs["act"] = act
            form = {"rows": "1", "row": "1", "reason": "x", **_FORMS.get(name, lambda w: {})(decided)}
            client.post(f"/{_path(name, kwargs)}", form)
            tried += 1
            now = state_of_evidence()
            changed = [i for i, (a, b) in enumerate(zip(before, now)) if a != b and not _added(a, b)]
            assert not changed, f"{role.word} changed evidence {changed} by {name}"
            before = now
    assert tried > 60


def _path(name: str, kwargs: dict[str, Any]) -> str:
    return reverse(name, kwargs=kwargs).lstrip("/")


def _added(before: Any, now: Any) -> bool:
    """Whether only new records came in: what was there is as it was."""
    return list(now[: len(before)]) == list(before) or set(map(str, before)) <= set(map(str, now))


# --- suspect readings ----------------------------------------------------------------------------


def test_suspect_readings_give_no_result_until_somebody_settles_it(
    up_to: Callable[[str], Build], user: User, client: Client
) -> None:
    build = up_to("linearization")
    job = _printed(build, user)
    good = careful_reading(job, 1)
    spectra = good.spectra.copy()
    places = np.flatnonzero(good.rows == 3)
    spectra[places] = np.vstack([spectra[places][:4], spectra[places][5:], spectra[places][-1:]])
    services.keep_whole_pass(job, replace(good, spectra=spectra), "reader", user)
    assert stage_of(build, "linearization").result is None
    found = suspicions.suspicions(job)
    assert [s.rows for s in found] == [(3,)] and "a patch was missed" in found[0].text
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Suspect readings: no result until they are dealt with." in page and "a patch was missed" in page
    assert "% off" not in page and "uneven" not in page
    services.keep_whole_pass(job, careful_reading(job, 2), "reader", user)
    found = suspicions.suspicions(job)
    assert found and {s.number for s in found} == {1}, "the right second pass is kept, the first is named"
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "pass 1" in page and "Leave pass 1 out" in page
    evidence.leave_out(job.passes.get(number=1).pk, user)
    assert stage_of(build, "linearization").result is not None
    assert suspicions.suspicions(job) == []


def test_passes_are_named_by_their_own_numbers_when_some_were_left_out(
    up_to: Callable[[str], Build], user: User, client: Client
) -> None:
    build = up_to("linearization")
    job = _printed(build, user)
    for number in (1, 2):
        services.keep_whole_pass(job, careful_reading(job, number), "reader", user)
    evidence.leave_out(job.passes.get(number=1).pk, user)
    bad = careful_reading(job, 3)
    spectra = bad.spectra.copy()
    places = np.flatnonzero(bad.rows == 3)
    spectra[places] = spectra[places][::-1]
    services.keep_whole_pass(job, replace(bad, spectra=spectra), "reader", user)
    assert {s.number for s in suspicions.suspicions(job)} == {3}
    services.keep_whole_pass(job, careful_reading(job, 4), "reader", user)
    found = suspicions.suspicions(job)
    assert {s.number for s in found} == {3}, "of three passes too"
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "pass 3 misread it" in page and stage_of(build, "linearization").result is None
    evidence.leave_out(job.passes.get(number=3).pk, user)
    assert stage_of(build, "linearization").result is not None


def _printed(build: Build, user: User) -> SheetPrint:
    job = stage_of(build, "linearization").sheet_print
    return print_sheet(job.pk, user, timezone.now() - timedelta(hours=1))


def test_using_suspect_readings_asks_for_a_reason_and_keeps_it(
    up_to: Callable[[str], Build], user: User, client: Client
) -> None:
    build = up_to("linearization")
    job = _printed(build, user)
    good = careful_reading(job, 1)
    services.keep_whole_pass(job, replace(good, spectra=good.spectra * 0.97), "reader", user)
    assert "less light than this media did before" in suspicions.suspicions(job)[0].text
    with pytest.raises(BadInput, match="say why"):
        suspicions.use_suspect_readings(job.pk, "  ", user)
    with pytest.raises(NotAllowed):
        suspicions.use_suspect_readings(job.pk, "x", person("dock", Role.OPERATOR))
    client.post(f"/prints/{job.pk}/use-suspect/", {"reason": "a new lot of this media"})
    assert stage_of(build, "linearization").result is not None
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Used all the same by Mara Voss" in page and "a new lot of this media" in page
    assert noted(job).first().after == "a new lot of this media"
    with pytest.raises(BadInput, match="nothing about these readings is suspect"):
        suspicions.use_suspect_readings(job.pk, "again", user)


# --- what is not there ----------------------------------------------------------------------------


@pytest.mark.parametrize(
    "address",
    [
        "/readings/4711/reopen/",
        "/readings/4711/leave-out/",
        "/readings/4711/withdraw/",
        "/readings/4711/read/",
        "/prints/4711/use-suspect/",
        "/prints/4711/dry/",
    ],
)
def test_a_pass_that_is_not_there_is_not_found(client: Client, address: str) -> None:
    assert client.post(address, {"rows": "1", "row": "1", "reason": "x"}).status_code == 404


def test_a_prediction_against_an_aim_without_its_patches_says_what_is_missing(
    client: Client, up_to: Callable[[str], Build], user: User, aim: AimRecord, profile: Profile
) -> None:
    text = cgats.dumps(careful_reading(_printed(up_to("linearization"), user), 1))
    AimRecord.objects.all().delete()
    short = AimRecord.objects.create(name="Short aim", source="t", data=text.encode())
    for query in ("", f"?aim={short.pk}&tolerances=iso12647-7:2016"):
        answer = client.get(f"/checks/predict/{profile.pk}/{query}")
        assert answer.status_code in (200, 422)
        assert "holds no value for" in answer.content.decode() and "of 54 patches" in answer.content.decode()
