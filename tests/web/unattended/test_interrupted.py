"""Work that is killed at any moment, and goes on as if nothing had happened."""

from __future__ import annotations

import functools
import random
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from datetime import timedelta
from typing import Any
from unittest import mock

import pytest
from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.maintenance import restores
from greyanchor.builds.models import Build, Restore, Stage
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.library.machines.controls import set_controls
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.services import keep_profile
from greyanchor.unattended import building, engine, nightly, services, sheets
from greyanchor.unattended.models import Unattended
from tests.web.builds.conftest import careful_hands, finish  # noqa: F401  hands that never slip
from tests.web.conftest import CHOICES, PROFILE

#: what each kind of work does to the world, by where it is called
_SHEETS = (
    (sheets, "print_sheet"),
    (sheets, "start_pass"),
    (sheets, "calibrate_white"),
    (sheets, "read_sheet"),
)
_BUILD = (
    *_SHEETS, (building, "lay_out_stage"), (building, "lay_out_confirmation"), (building, "accept_stage"),
    (building.queue, "run"),
)  # fmt: skip
_NIGHT = (
    *_SHEETS, (restores, "start_restore"), (restores, "print_confirmation"), (restores, "use_curves"),
    (nightly, "start_check_print"),
)  # fmt: skip


LATER = timezone.now() + timedelta(days=1)


class Killed(BaseException):
    """The process ends here: nothing catches it."""


class Killer:
    """Ends the process before or after half of the calls that change something."""

    def __init__(self, seed: int = 11) -> None:
        self.kills, self._random = 0, random.Random(seed)

    def around(self, does: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(does)
        def called(*args: Any, **given: Any) -> Any:
            when = self._random.random()
            self.kills += when < 0.5
            if when < 0.25:
                raise Killed
            found = does(*args, **given)
            if when < 0.5:
                raise Killed
            return found

        return called

    def carry(self, work: Unattended, does: Sequence[tuple[Any, str]]) -> Unattended:
        """Go on with `work`, killed again and again, until it ends or waits for a person."""
        with ExitStack() as stack:
            for place, name in does:
                stack.enter_context(mock.patch.object(place, name, self.around(getattr(place, name))))
            for _ in range(400):
                try:
                    engine.tick(LATER, seconds=120)
                except Killed:
                    continue
                work.refresh_from_db()
                if work.state != Unattended.State.GOING:
                    break
        assert self.kills >= 8, self.kills
        return work


@pytest.mark.slow
def test_a_build_killed_before_and_after_all_that_it_does_ends_like_any_other(
    machine: Printer, media: Media, user: User, aim: AimRecord
) -> None:
    build = start_build("Killed", machine, machine.ink_sets.get(), media, CHOICES, user)
    wishes = {"patches": 220, "aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": True}
    killer = Killer()
    work = killer.carry(services.start_build_alone(build, wishes, user), _BUILD)
    assert killer.kills > 20
    assert work.state == Unattended.State.DONE, (work.words, [str(s) for s in work.steps.all()][-4:])
    mode = PrintMode.objects.get(pk=work.mode_id)
    assert mode.state == PrintMode.State.READY and mode.last_verdict == "pass"
    stages = Stage.objects.filter(build=build)
    assert all(s.state == Stage.State.ACCEPTED for s in stages if s.kind != "release")
    # nothing was printed that no stage knows of, and nothing was left half read
    known = {pk for s in stages for pk in (s.sheet_print_id, s.confirm_print_id) if pk}
    assert set(SheetPrint.objects.exclude(device="").values_list("pk", flat=True)) == known
    assert not ReadingPass.objects.exclude(state=ReadingPass.State.DONE).exists()
    accepted = [s.what for s in work.steps.all() if s.what.endswith(" accepted")]
    decided = stages.filter(state=Stage.State.ACCEPTED).exclude(kind="grey-balance")  # it was not asked for
    assert len(accepted) == decided.count() == len(set(accepted)), accepted
    assert Build.objects.get(pk=build.pk).finished_at is None


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_night_killed_at_any_step_restores_once_and_is_checked(
    up_to: Callable[[str], Build], machine: Printer, user: User, aim: AimRecord, built: ProfileResult,
    seed: int,
) -> None:  # fmt: skip
    mode = finish(up_to("profile"), user)
    mode.profile = keep_profile(built, "Kept", 4, PROFILE, {}, user)
    mode.save()
    rule = {"is_on": True, "every_days": 1, "from_hour": 2, "tolerance": 1.5, "share_percent": 50.0,
            "aim": aim, "tolerances": "iso12647-7:2016"}  # fmt: skip
    services.set_rule(mode, rule, 0, user)
    set_controls(machine, {"C": 112.0, "M": 91.0})
    work = Killer(seed).carry(services.start_night(mode, user), _NIGHT)
    assert work.state == Unattended.State.DONE, (work.words, [str(s) for s in work.steps.all()][-4:])
    found = Restore.objects.get(mode=mode)
    assert found.state == Restore.State.DONE and work.restore_id == found.pk
    assert work.check_made is not None and work.check_made.verdict == "pass"
    steps = [s.what for s in work.steps.all()]
    assert steps.count("Restored") == steps.count("Corrected curves in use") == 1, steps
    mode.refresh_from_db()
    assert mode.curves == found.curves_after
