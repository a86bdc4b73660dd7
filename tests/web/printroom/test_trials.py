"""The trial form before a release: printed through a mode, looked at, asked for by the shop's rules."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.roles import acting
from greyanchor.builds.stages.release_evidence import evidence
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode, ShopRules
from greyanchor.printroom import prints, trials
from greyanchor.printroom.models import Print, PrintFile
from tests.devices.conftest import Running
from tests.web.printroom.test_machines import finished, words


@pytest.fixture
def trial(machine: Running, mode: PrintMode, user: User, django_capture_on_commit_callbacks) -> Print:
    """A trial form, printed through a mode that is not released yet."""
    mode.printer.model, mode.ink_set.name = "Petrel 44", "Tarn pigment"
    mode.printer.save()
    mode.ink_set.save()
    mode.state = PrintMode.State.READY
    mode.save()
    machine.server.machine.set("width_mm", 305.0)
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        trials.order_trial(mode, 210.0, user)
    record = Print.objects.get()
    with acting(user):
        prints.go(record)
    return finished(record)


def trial_line(mode: PrintMode) -> tuple[bool, str]:
    found = {e["rule"]: e for e in evidence(mode)}
    return found["trial print"]["ok"], found["trial print"]["text"]


def test_a_release_asks_for_a_trial_that_was_found_fit(trial: Print, mode: PrintMode, user: User) -> None:
    assert trial.state == "done" and trial.picture
    wide, long = prints.size_mm(trial)
    assert wide == pytest.approx(305.0, abs=0.2) and long >= 210.0, "as wide as the media in the machine"
    assert "trial print" not in {e["rule"] for e in evidence(mode)}
    rules = ShopRules.current()
    rules.trial_print = True
    rules.save()
    assert trial_line(mode) == (
        False,
        f"the trial print of {timezone.localtime(trial.ended_at):%-d %B %Y} was not judged yet",
    )
    with acting(user):
        trials.mark_fault(trial, "scuffing", 0.5, 0.8, user, "where it lifts")
        trials.judge(trial, False, user, "lifts in the middle")
        assert trial_line(mode)[0] is False and "found unfit by" in trial_line(mode)[1]
        trials.unmark_fault(trial, 1)
        trials.judge(trial, True, user)
    ok, text = trial_line(mode)
    assert ok and "found fit by" in text and "0 faults" in text
    mode.calibrated_at = timezone.now()
    mode.save()
    assert trial_line(mode) == (False, "no trial form was printed through the mode as it is"), (
        "it was calibrated since"
    )


def test_the_page_of_a_print_takes_marks_and_a_judgement(client: Client, trial: Print) -> None:
    page = client.get(f"/prints/{trial.pk}/").content.decode()
    assert "data-fault-picture" in page and "Is what it" in page
    client.post(
        f"/prints/{trial.pk}/faults/", {"kind": "banding", "across": "12,5", "along": "80", "note": "wide"}
    )
    trial.refresh_from_db()
    assert [(f["kind"], f["x"], f["y"], f["note"]) for f in trial.faults] == [("banding", 0.125, 0.8, "wide")]
    shown = words(client, f"/prints/{trial.pk}/")
    assert "Lines between passes: wide" in shown and "1 marked" not in shown
    answer = client.post(
        f"/prints/{trial.pk}/faults/", {"kind": "banding", "across": "140", "along": "8"}, follow=True
    )
    assert "a fault lies on the print" in answer.content.decode().lower()
    client.post(f"/prints/{trial.pk}/judge/", {"as": "unfit", "note": "too many lines"})
    assert "Found unfit by" in words(client, f"/prints/{trial.pk}/")
    part = words(client, f"/modes/{trial.print_file.mode_id}/trial/")
    assert "found unfit by" in part and "1 fault marked" in part
    client.post(f"/prints/{trial.pk}/faults/", {"off": "1"})
    trial.refresh_from_db()
    assert not trial.faults


def test_what_cannot_be_tried_says_so(client: Client, mode: PrintMode, user: User) -> None:
    with acting(user):
        with pytest.raises(BadInput, match="200 to 20000 mm long, not 50"):
            trials.order_trial(mode, 50.0, user)
        mode.profile = None
        with pytest.raises(BadInput, match="has no profile yet"):
            trials.order_trial(mode, 500.0, user)
    assert "None was printed through the mode as it is" in words(client, f"/modes/{mode.pk}/trial/")
    client.post(f"/modes/{mode.pk}/trial/", {"length": "never"})
    assert not PrintFile.objects.exists()
