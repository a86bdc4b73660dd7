"""Modes held to their baseline at night: left alone, restored, checked, or handed to a person."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from greyanchor.builds.maintenance.restores import close_restore, start_restore
from greyanchor.builds.models import Build, Restore
from greyanchor.core.calibration.nightly import LEAVE, PERSON, RESTORE, DriftLimits, decide
from greyanchor.core.errors import BadInput
from greyanchor.library.machines.controls import set_controls
from greyanchor.library.models import Printer, PrintMode
from greyanchor.library.records.editing import Outdated
from greyanchor.unattended import engine, queries, services
from greyanchor.unattended.models import NightRule, Unattended
from tests.web.builds.conftest import careful_hands, finish  # noqa: F401  hands that never slip

#: at three, after whatever the fixtures have done by the real clock
NIGHT = timezone.localtime().replace(hour=3, minute=0, second=0, microsecond=0) + timedelta(days=2)
RULE = {"is_on": True, "every_days": 1, "from_hour": 2, "tolerance": 1.5, "share_percent": 50.0, "aim": None,
        "tolerances": ""}  # fmt: skip


@pytest.fixture
def kept(up_to: Callable[[str], Build], user: User, settings: Any) -> PrintMode:
    """A released mode with a rule, its media in its machine."""
    settings.DEMO = True
    mode = finish(up_to("profile"), user)
    mode.media.travels_backwards = True
    mode.media.save()
    Printer.objects.filter(pk=mode.printer_id).update(loaded_media=mode.media, loaded_at=timezone.now())
    services.set_rule(mode, RULE, 0, user)
    return mode


def _night(mode: PrintMode, now: datetime = NIGHT) -> Unattended:
    for _ in range(6):
        engine.tick(now, seconds=60)
    return Unattended.objects.filter(mode=mode).latest("pk")


def test_a_steady_machine_is_left_alone_and_the_day_after_it_is_looked_at_again(kept: PrintMode) -> None:
    curves = kept.curves
    work = _night(kept)
    assert work.state == Unattended.State.DONE and "below 0.75" in work.words, work.words
    kept.refresh_from_db()
    assert kept.curves == curves and Restore.objects.get(mode=kept).state == Restore.State.CLOSED
    _night(kept, NIGHT + timedelta(hours=2))
    assert Unattended.objects.count() == 1, "once a night"
    _night(kept, NIGHT + timedelta(days=1))
    assert Unattended.objects.count() == 2
    assert [w.pk for w in queries.nights().lines] == [w.pk for w in queries.works()]


def test_it_waits_for_its_hour(kept: PrintMode) -> None:
    engine.tick(NIGHT.replace(hour=1))
    assert not Unattended.objects.exists()
    NightRule.objects.update(is_on=False)
    engine.tick(NIGHT)
    assert not Unattended.objects.exists()


def test_a_machine_that_drifted_is_brought_back(kept: PrintMode) -> None:
    set_controls(kept.printer, {"C": 112.0, "M": 91.0})
    before = kept.curves
    work = _night(kept)
    assert work.state == Unattended.State.DONE, (work.words, [str(s) for s in work.steps.all()])
    kept.refresh_from_db()
    assert kept.curves != before and "restored" in work.words
    found = Restore.objects.get(mode=kept)
    assert found.state == Restore.State.DONE and found.after["mean"] < 0.5 < found.drift["mean"]
    what = [s.what for s in work.steps.all()]
    assert "Restored" in what and "Corrected curves in use" in what
    assert next(s for s in work.steps.all() if s.what == "Restored").figure, "what drifted is said"


def test_what_curves_cannot_bring_back_is_restored_once_then_a_person_looks(kept: PrintMode) -> None:
    limits = DriftLimits()
    lost = ["C prints less than its solid had"]
    assert decide(0.5, limits, lost, False).act == LEAVE
    assert decide(1.0, limits, lost, False).act == RESTORE
    assert (
        decide(1.0, limits, lost, True).act == PERSON and "fell short" in decide(1.0, limits, lost, True).why
    )
    set_controls(kept.printer, {"C": 72.0})
    first = _night(kept)
    found = Restore.objects.filter(mode=kept).latest("pk")
    assert found.drift["not_enough"], found.drift["words"]
    if first.state == Unattended.State.DONE:
        set_controls(kept.printer, {"C": 60.0})
        second = _night(kept, NIGHT + timedelta(days=1))
        assert second.stop == "lost" and "find what the machine has lost" in second.todo
    else:
        assert first.stop == "drift" and "come back only" in first.words


def test_rules_that_contradict_themselves_are_refused(kept: PrintMode, user: User, aim: Any) -> None:
    with pytest.raises(BadInput, match="outside 10..100"):
        services.set_rule(kept, {**RULE, "share_percent": 5.0}, 1, user)
    with pytest.raises(BadInput, match="tolerance set as well"):
        services.set_rule(kept, {**RULE, "aim": aim}, 1, user)
    with pytest.raises(Outdated, match="somebody changed"):
        services.set_rule(kept, RULE, 0, user)
    kept.baseline.withdrawn = "a scratch"
    kept.baseline.save()
    with pytest.raises(BadInput, match="no baseline"):
        services.set_rule(kept, RULE, 1, user)


def test_a_night_may_begin_at_once(kept: PrintMode, client: Client) -> None:
    NightRule.objects.update(last_at=NIGHT, from_hour=23)
    engine.tick(NIGHT)
    assert not Unattended.objects.exists()
    assert client.post(reverse("nights-now")).status_code == 302
    assert _night(kept).state == Unattended.State.DONE
    assert not NightRule.objects.get().from_now, "once"


def test_machines_read_by_hand_get_a_list(kept: PrintMode, client: Client) -> None:
    kept.printer.site.connections.filter(method="inline").delete()
    engine.tick(NIGHT)
    assert not Unattended.objects.exists()
    NightRule.objects.update(from_hour=0)
    page = client.get(reverse("start")).content.decode()
    assert "its short chart is due, by hand" in page and kept.name in page
    found = start_restore(kept, kept.made_by)
    close_restore(found, "looked at by hand")
    assert "its short chart is due, by hand" not in client.get(reverse("start")).content.decode()


def test_pages_say_what_was_done_and_take_rules(kept: PrintMode, client: Client) -> None:
    work = _night(kept)
    page = client.get(work.url).content.decode()
    assert "Left as it is" in page and "Steps and decisions" in page
    overview = client.get(reverse("unattended")).content.decode()
    assert kept.name in overview and "every day" in overview
    sent = {
        "version": 1,
        "is_on": "on",
        "every_days": "7",
        "from_hour": "4",
        "tolerance": "2",
        "share_percent": "40",
    }
    assert client.post(reverse("night-rule", args=[kept.pk]), sent).status_code == 302
    assert NightRule.objects.get(mode=kept).limits.restores_from == pytest.approx(0.8)
    wrong = client.post(reverse("night-rule", args=[kept.pk]), {**sent, "version": 2, "share_percent": "3"})
    assert wrong.status_code == 422
    assert client.post(reverse("night-now", args=[kept.pk])).status_code == 302
    assert Unattended.objects.filter(state=Unattended.State.GOING).count() == 1
    going = Unattended.objects.get(state=Unattended.State.GOING)
    assert client.post(reverse("unattended-act", args=[going.pk, "end"])).status_code == 302
    assert "Ended" in client.get(going.url).content.decode()
