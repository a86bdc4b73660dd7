"""Readying a machine: due dates, patterns, judgement by reading, and the stand-in's mechanics."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree

import numpy as np
import pytest

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SETTINGS, Ability, abilities_of
from greyanchor.core.printing.readiness import (
    TASKS,
    best_step,
    candidates,
    checked_value,
    due,
    nozzles_ready,
    task_named,
    tasks_of,
)
from greyanchor.core.simulation.machine import NOZZLES, Mechanics
from greyanchor.drawing.patterns import nozzle_pattern, step_pattern

NOW = datetime(2026, 11, 20, 9, 0, tzinfo=UTC)
ALIGN = Ability(-400, 400, 5, 0)
FEED = Ability(-2, 2, 0.01, 0)


def test_a_nozzle_check_is_due_every_day_and_after_a_bad_one() -> None:
    nozzles = task_named("nozzles")
    assert due(nozzles, None, True, None, NOW).why == "never done"
    fresh = due(nozzles, NOW - timedelta(hours=5), True, NOW, NOW)
    assert not fresh.overdue and fresh.at == NOW + timedelta(hours=19)
    assert due(nozzles, NOW - timedelta(hours=25), True, None, NOW).overdue
    assert "ended badly" in due(nozzles, NOW - timedelta(hours=1), False, None, NOW).why


def test_feed_is_due_when_the_media_changes_and_not_by_the_calendar() -> None:
    feed = task_named("feed")
    long_ago = NOW - timedelta(days=300)
    assert not due(feed, long_ago, True, long_ago - timedelta(hours=1), NOW).overdue
    assert due(feed, long_ago, True, NOW - timedelta(hours=1), NOW).why == "the media was changed since"
    assert due(task_named("alignment"), long_ago, True, long_ago - timedelta(hours=1), NOW).overdue
    assert task_named("alignment").every == "every 30 days and when the media changes"


def test_a_machine_without_a_blade_has_nothing_to_cut() -> None:
    plain = abilities_of({"feed": {"low": -1, "high": 1, "step": 0.01, "usual": 0}})
    assert [t.key for t in tasks_of(plain)] == ["nozzles", "feed"]
    with pytest.raises(BadInput):
        task_named("windows")


def test_a_pattern_stays_inside_what_the_machine_can_do() -> None:
    assert candidates(TASKS["feed"], 1.9, FEED)[-1] == 2.0 and len(candidates(TASKS["feed"], 0.0, FEED)) == 9
    assert candidates(TASKS["cut-passes"], 1, Ability(1, 4, 1, 1)) == [1, 2, 3, 4]


@pytest.mark.parametrize(
    "media", ["Saltmarsh Cotton 310", "Lightbox Film 175", "Breakwater Banner 440", "Thrift Bond 90"]
)
@pytest.mark.parametrize(("task", "ability", "close"), [("alignment", ALIGN, 12.0), ("feed", FEED, 0.04)])
def test_reading_patterns_one_after_another_finds_the_value_at_which_the_machine_is_right(
    media: str, task: str, ability: Ability, close: float
) -> None:
    machine, kind = Mechanics("PT44-0117", media, 240.0), TASKS[task]
    value = 0.0
    for sheet in range(6):
        steps = candidates(kind, value, ability)
        faults = machine.read(kind.setting, steps, kind.step, sheet)
        try:
            value = best_step(steps, faults.tolist(), ability).value
            break
        except BadInput as error:
            assert "last of the pattern" in str(error)
            value = steps[int(np.argmin(faults))]
    assert abs(value - machine.right(kind.setting)) <= close


def test_a_pattern_on_which_nothing_stands_out_is_refused() -> None:
    with pytest.raises(BadInput, match="stands out"):
        best_step([1, 2, 3, 4, 5], [0.5, 0.49, 0.48, 0.485, 0.1 + 0.4], ALIGN)
    for values, faults in (([1, 2], [0.1, 0.2]), ([1, 2, 3], [0.1, float("nan"), 0.3])):
        with pytest.raises(BadInput):
            best_step(values, faults, ALIGN)
    exact = best_step([-20, 0, 20, 40, 60], [0.9, 0.5, 0.1, 0.3, 0.7], ALIGN)
    assert exact.step == 2 and 20 <= exact.value <= 30


def test_nozzles_are_ready_while_one_of_an_ink_is_missing() -> None:
    assert nozzles_ready({"C": 1, "M": 0}) and not nozzles_ready({"C": 0, "M": 2})
    for wrong in ({}, {"C": -1}):
        with pytest.raises(BadInput):
            nozzles_ready(wrong)


def test_the_same_machine_misses_alike_each_time_and_cleaning_opens_nozzles() -> None:
    one, again, other = (Mechanics(s, "Kelp", 210.0) for s in ("A", "A", "B"))
    assert one.right("feed") == again.right("feed") != other.right("feed")
    days = [
        (len(one.closed("C", day, 0)), len(one.closed("C", day, 1)), len(one.closed("C", day, 3)))
        for day in range(60)
    ]
    assert any(before > 1 for before, _, _ in days) and any(before == 0 for before, _, _ in days)
    assert all(before >= once >= thrice == 0 or before >= 8 for before, once, thrice in days)
    assert all(0 <= n < NOZZLES for day in range(60) for n in one.closed("M", day, 0))


def test_thick_media_want_more_force_and_slower_blades() -> None:
    thin, thick = Mechanics("A", "x", 100.0), Mechanics("A", "x", 520.0)
    assert thick.right("cut_force") > thin.right("cut_force") and thick.right("cut_speed") < thin.right(
        "cut_speed"
    )
    assert (
        thick.right("cut_passes") == 3
        and checked_value(TASKS["cut-force"], 121, Ability(0, 600, 5, 100)) == 120
    )
    with pytest.raises(BadInput, match=r"700 g lies outside 0\.\.600"):
        checked_value(TASKS["cut-force"], 700, Ability(0, 600, 5, 100))


def test_patterns_are_drawn_as_they_came_out() -> None:
    drawn = ElementTree.fromstring(nozzle_pattern({"C": [3, 4], "K": []}, NOZZLES))
    lines = list(drawn.iter("path"))
    assert len(lines) == 2 * NOZZLES - 2
    for task in TASKS.values():
        if task.setting:
            picture = step_pattern(task, SETTINGS[task.setting], [1, 2, 3], [-0.8, 0.0, 0.8])
            steps = ElementTree.fromstring(picture).findall("g")
            inner = [ElementTree.tostring(g) for g in steps]
            assert len({i.split(b">", 1)[1] for i in inner}) == 3, task.key
