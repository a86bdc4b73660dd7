"""Readying a machine: what must be done before charts are printed, when it is due, and what a pattern
says.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SETTINGS, Ability

#: nozzles of one channel that may be missing while a machine still counts as ready
MISSING_ALLOWED = 1
#: steps on either side of the value in force that a pattern prints
REACH = 4
#: how far the best step must stand out from the middle one of the others to be believed; 1 is a fault in full
_CLEAR = 0.1
#: how far ahead a task is reported
SOON = timedelta(days=2)


@dataclass(frozen=True)
class Task:
    """One thing to do: a pattern to print, a judgement, and the setting whose value it finds."""

    key: str
    title: str
    setting: str
    every_days: float | None
    when_media_changes: bool
    by_reading: bool
    step: float
    what_to_see: str

    @property
    def every(self) -> str:
        """How often, in words."""
        times = []
        if self.every_days == 1:
            times.append("every day")
        elif self.every_days:
            times.append(f"every {self.every_days:.0f} days")
        if self.when_media_changes:
            times.append("when the media changes")
        return " and ".join(times)


_ALL = (
    Task(
        "nozzles",
        "Nozzle check",
        "",
        1,
        False,
        True,
        0,
        "Each short line is one nozzle. Count the lines that are missing, ink by ink.",
    ),
    Task(
        "alignment",
        "Alignment of both directions",
        "alignment",
        30,
        True,
        True,
        30,
        "Lines of both directions lie on one another in one step: there the line is thin and single.",
    ),
    Task(
        "feed",
        "Feed adjustment",
        "feed",
        None,
        True,
        True,
        0.1,
        (
            "Between strips there is a light line where the media moves too far, a dark one where it "
            "moves too "
            "little. One step shows neither."
        ),
    ),
    Task(
        "cut-force",
        "Blade force",
        "cut_force",
        None,
        True,
        False,
        20,
        "The right step cuts the media through and leaves the backing whole.",
    ),
    Task(
        "cut-speed",
        "Blade speed",
        "cut_speed",
        None,
        True,
        False,
        60,
        "The right step is the fastest whose corners are clean.",
    ),
    Task(
        "cut-passes",
        "Blade passes",
        "cut_passes",
        None,
        True,
        False,
        1,
        "The right step is the first that comes free without pulling.",
    ),
    Task(
        "cut-offset",
        "Print and cut offset",
        "cut_offset",
        30,
        True,
        False,
        0.1,
        "The cut lies on the printed line in one step.",
    ),
)
TASKS: dict[str, Task] = {t.key: t for t in _ALL}


def task_named(key: str) -> Task:
    """The task called `key`; `BadInput` when there is none."""
    if key not in TASKS:
        raise BadInput(f"there is no readiness task called {key}")
    return TASKS[key]


def tasks_of(abilities: Mapping[str, Ability]) -> list[Task]:
    """What a machine with these abilities has to have done."""
    return [t for t in _ALL if not t.setting or t.setting in abilities]


@dataclass(frozen=True)
class Due:
    """When a task must be done again: `overdue` and why, or `at` when it will be (None: when the media
    changes).
    """

    task: Task
    overdue: bool
    why: str
    at: datetime | None = None

    @property
    def words(self) -> str:
        """When and why, for people."""
        if self.overdue:
            return f"due, {self.why}"
        return f"due again {self.at:%-d %B}" if self.at else self.why

    def soon(self, now: datetime) -> bool:
        """Whether it is not due yet and will be within `SOON`."""
        return not self.overdue and self.at is not None and self.at <= now + SOON


def due(task: Task, done_at: datetime | None, good: bool, loaded_at: datetime | None, now: datetime) -> Due:
    """Whether `task` must be done: `done_at` is its last time on the media that is loaded, `good` how it
    ended.
    """
    if done_at is None:
        return Due(task, True, "never done on this media" if task.when_media_changes else "never done")
    if not good:
        return Due(task, True, "its last time ended badly")
    if task.when_media_changes and loaded_at is not None and loaded_at > done_at:
        return Due(task, True, "the media was changed since")
    if task.every_days is None:
        return Due(task, False, "done for this media")
    at = done_at + timedelta(days=task.every_days)
    if at <= now:
        return Due(task, True, f"last done {done_at:%-d %B}", at)
    return Due(task, False, f"last done {done_at:%-d %B}", at)


def candidates(task: Task, current: float, ability: Ability) -> list[float]:
    """Values that a pattern prints: up to `REACH` steps on either side of `current`, all of which the machine
    can do.
    """
    values = {ability.nearest(current + k * task.step) for k in range(-REACH, REACH + 1)}
    return sorted(values)


@dataclass(frozen=True)
class Best:
    """What a reading of a pattern found: the value, the step nearest to it, and what is left there."""

    value: float
    step: int
    left: float


def best_step(values: Sequence[float], faults: Sequence[float], ability: Ability) -> Best:
    """The value with the smallest fault, between steps where a parabola through the lowest three says so.

    Raises `BadInput` where the smallest fault is at an end of the pattern, or where no step stands out.
    """
    v, f = np.asarray(values, dtype=float), np.asarray(faults, dtype=float)
    if len(v) < 3 or len(v) != len(f) or not np.all(np.isfinite(f)):
        raise BadInput("a pattern is read at three steps or more, each with a figure")
    low = int(np.argmin(f))
    if low in (0, len(v) - 1):
        raise BadInput(
            f"the best step is the last of the pattern, {v[low]:g}; take it over and print the pattern "
            "around it"
        )
    around = np.delete(f, low)
    if float(np.median(around) - f[low]) < _CLEAR:
        raise BadInput("no step stands out; print the pattern again, or judge it by eye")
    a, b, _ = np.polyfit(v[low - 1 : low + 2] - v[low], f[low - 1 : low + 2] ** 2, 2)
    shift = -b / (2 * a) if a > 0 else 0.0
    value = ability.nearest(float(np.clip(v[low] + shift, v[low - 1], v[low + 1])))
    return Best(value, low, float(f[low]))


def nozzles_ready(missing: Mapping[str, int]) -> bool:
    """Whether so few nozzles are missing that charts may be printed.

    Raises `BadInput` for an empty count, or one that is no whole number from 0.

    >>> nozzles_ready({"C": 0, "M": 1}), nozzles_ready({"C": 40})
    (True, False)
    """
    if not missing:
        raise BadInput("say for each ink how many nozzles are missing; 0 where none is")
    for channel, count in missing.items():
        if not isinstance(count, int) or count < 0:
            raise BadInput(f"missing nozzles of {channel} are a whole number from 0")
    return max(missing.values()) <= MISSING_ALLOWED


def checked_value(task: Task, value: float, ability: Ability) -> float:
    """A judged value the machine can hold; `BadInput` outside its range."""
    setting = SETTINGS[task.setting]
    if not ability.low <= value <= ability.high:
        raise BadInput(
            f"{setting.title} of {value:g} {setting.unit} lies outside {ability.low:g}..{ability.high:g}"
        )
    return ability.nearest(value)
