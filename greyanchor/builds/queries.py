"""What pages ask of builds."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db.models import QuerySet

from greyanchor.builds.evidence.log import headline
from greyanchor.builds.evidence.visual import looks, view_of
from greyanchor.builds.lifecycle.acceptance_rules import objections
from greyanchor.builds.lifecycle.inheritance import Lender, lenders
from greyanchor.builds.lifecycle.redo import voided_by
from greyanchor.builds.maintenance import film_restores
from greyanchor.builds.maintenance.restores import came_back
from greyanchor.builds.models import Build, Restore, Stage, Task
from greyanchor.builds.stages.base import EyeSubject, StageType
from greyanchor.builds.stages.matching import REPEATS, matched, pairs
from greyanchor.builds.stages.registry import stage_types, type_of
from greyanchor.checks.models import Check
from greyanchor.core.calibration.restore import RESTORED
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.drawing.calibration import (
    curve_plot,
    drift_plot,
)
from greyanchor.drawing.colours import channel_colour, hex_colours
from greyanchor.library.models import PrintMode
from greyanchor.library.modes.queries import restore_trend
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.prints import PrintView, print_view

#: most modes of each list on the start page
DESK = 20


@dataclass
class StageView:
    """A stage as the log shows it."""

    stage: Stage
    kind: StageType[Any]
    headline: str
    waits_for: str
    print: PrintView | None = None
    confirm: PrintView | None = None
    plots: list[str] = field(default_factory=list)
    objections: list[str] = field(default_factory=list)
    voids: list[str] = field(default_factory=list)
    form: Any = None
    inherit: Any = None
    made_under: str = ""
    lenders: list[Lender] = field(default_factory=list)
    eye: dict[str, Any] = field(default_factory=dict)
    details: dict[str, Any] = field(default_factory=dict)

    @property
    def is_settled(self) -> bool:
        """Whether its chart has done its work, so that it folds."""
        return bool(self.stage.result) and self.print is not None and self.print.is_settled

    @property
    def channels(self) -> list[tuple[str, str]]:
        """Inks of the build with the colours of their lines."""
        inks = self.stage.build.mode.ink_set
        shown = inks.raw_channels if (self.stage.result or {}).get("splits") else inks.channels
        return [(c, channel_colour(c)) for c in shown]

    @property
    def is_printed(self) -> bool:
        return self.print is not None and bool(self.print.job.device)

    @property
    def is_open(self) -> bool:
        return bool(self.stage.state == Stage.State.OPEN)


def log(build: Build) -> list[StageView]:
    """Every stage of a build, the open one with all its evidence; folded ones bring theirs when they are
    opened.
    """
    stages = list(
        build.stages.select_related("sheet_print__chart", "confirm_print__chart", "decided_by").defer(
            "profile__data"
        )
    )
    views = []
    for i, stage in enumerate(stages):
        before = type_of(stages[i - 1]).title.lower() if i and stage.state == Stage.State.WAITING else ""
        view = StageView(stage, type_of(stage), headline(stage), before)
        if stage.state == Stage.State.OPEN:
            _evidence(view)
        views.append(view)
    return views


def stage_view(stage: Stage) -> StageView:
    """One stage with all its evidence."""
    view = StageView(stage, type_of(stage), headline(stage), "")
    if stage.state != Stage.State.WAITING:
        _evidence(view)
    return view


def _evidence(view: StageView) -> None:
    stage, stage_type = view.stage, view.kind
    if stage.sheet_print is not None:
        view.print = print_view(stage.sheet_print, stage_type.passes)
    if stage.confirm_print is not None:
        view.confirm = print_view(stage.confirm_print, 2)
    view.plots = stage_type.plots(stage) if stage.result else []
    view.details = stage_type.details(stage)
    view.voids = [type_of(s).title for s in voided_by(stage)]
    if view.is_open:
        view.objections, view.lenders, view.eye = objections(stage), lenders(stage), eye_view(stage)
    # of an open stage it stands beside the log, unless it was another
    if stage.made_under and (not view.is_open or stage.made_under != stage.build.environment):
        view.made_under = PrintEnvironment(**stage.made_under).label()


def eye_view(stage: Stage) -> dict[str, Any]:
    """What the eye is asked, and what it marked so far; empty where the stage is not judged by eye."""
    subjects = type_of(stage).eye_subjects(stage.build)
    if not subjects:
        return {}
    marks = stage.options.get("marks", {})
    return {
        "subjects": [_eye_row(s, marks.get(s.name, {})) for s in subjects],
        "marked": bool(marks),
        "pictured": view_of(stage.build) is not None,
    }


def _eye_row(subject: EyeSubject, marks: dict[str, Any]) -> dict[str, Any]:
    faults = [{"name": f, "key": f"{subject.name}|{f}", "mark": marks.get(f)} for f in subject.faults]
    return {"name": subject.name, "steps": subject.steps, "faults": faults}


def match_view(stage: Stage, channel: str) -> list[dict[str, Any]]:
    """Pairs of a channel with their colours, each as often as it is to be matched."""
    paper, solid, steps = looks(stage.build, channel)
    colours = hex_colours(np.array([paper, solid]))
    chosen = matched(stage, channel)
    out = []
    for repeat in range(REPEATS):
        for pair, lab in zip(pairs(stage.build)[channel], steps):
            key = f"{pair.tone:g}"
            found = chosen.get(key, [])
            shown = [
                (round(100 * s, 2), c, len(found) > repeat and abs(found[repeat] - 100 * s) < 0.006)
                for s, c in zip(pair.steps, hex_colours(lab))
            ]
            out.append(
                {
                    "key": key,
                    "repeat": repeat,
                    "tone": 100 * pair.tone,
                    "coverage": 100 * pair.coverage,
                    "steps": shown if repeat % 2 == 0 else shown[::-1],
                    "paper": colours[0],
                    "solid": colours[1],
                }
            )
    return out


def mode_curves(build: Build) -> str:
    """The small curve picture of the mode's card."""
    done = build.stages.filter(state=Stage.State.ACCEPTED).order_by("-position")
    shaped = next((s for s in done if s.result and "curves_csv" in s.result), None)
    return curve_plot(shaped.result["curves"]) if shaped is not None and shaped.result else ""


def restore_view(found: Restore) -> dict[str, Any]:
    """A restore with its prints, its drift as a plot, and what is left after."""
    return {
        "print": print_view(found.sheet_print, 2),
        "confirm": print_view(found.confirm_print, 2) if found.confirm_print else None,
        "plot": drift_plot(found.drift["channels"]) if found.drift else "",
        "after_plot": drift_plot(found.after["channels"]) if found.after else "",
        "film": found.mode.ink_set.is_film,
        "unit": found.mode.drift_unit,
        "limit": film_restores.RESTORED if found.mode.ink_set.is_film else RESTORED,
        "back": bool(found.after) and came_back(found),
        "trend": restore_trend(found.mode),
    }


def _newest(records: QuerySet[Any]) -> dict[int, Any]:
    """The last of ordered records for each mode, by its primary key."""
    return {r.mode_id: r for r in records}


def desk(user: User) -> dict[str, Any]:
    """What the start page lists: running, being read, going on in builds, waiting for release, failing."""
    running = Task.objects.filter(state__in=[Task.State.QUEUED, Task.State.RUNNING]).select_related(
        "stage__build__mode"
    )
    reading = ReadingPass.objects.filter(state=ReadingPass.State.OPEN).select_related(
        "sheet_print__chart", "started_by"
    )
    stopped = Task.objects.filter(
        state__in=[Task.State.INTERRUPTED, Task.State.FAILED], stage__state=Stage.State.OPEN
    ).exclude(stage__build__mode__state=PrintMode.State.RETIRED)
    open_stages = (
        Stage.objects.filter(state=Stage.State.OPEN)
        .filter(kind__in=[t.name for t in stage_types() if t.on_start_page])
        .exclude(build__mode__state=PrintMode.State.RETIRED)
        .select_related("build__mode__printer__site", "build__mode__media", "build__owner")
    )
    failing = (
        PrintMode.objects.filter(last_verdict="fail")
        .exclude(state=PrintMode.State.RETIRED)
        .select_related("printer__site", "media")[:DESK]
    )
    ready = PrintMode.objects.filter(state=PrintMode.State.READY).select_related("printer__site", "media")[
        :DESK
    ]
    last_check = _newest(
        Check.objects.filter(mode__in=list(failing)).only("pk", "mode").order_by("made_at", "pk")
    )
    last_build = _newest(
        Build.objects.filter(mode__in=list(ready)).only("pk", "mode").order_by("started_at", "pk")
    )
    restoring = Restore.objects.exclude(state__in=[Restore.State.DONE, Restore.State.CLOSED])
    return {
        "running": [t for t in running if not t.looks_dead],
        "reading": reading,
        "stopped": [*stopped.select_related("stage__build__mode"), *[t for t in running if t.looks_dead]],
        "open_stages": [(s, type_of(s)) for s in open_stages],
        "failing": [(m, last_check.get(m.pk)) for m in failing],
        "ready": [(m, last_build.get(m.pk)) for m in ready],
        "restoring": restoring.select_related("mode", "started_by"),
        "recent": Check.objects.select_related("mode").only(
            "pk", "name", "verdict", "summary", "made_at", "tolerances", "mode__name"
        )[:6],
        "released": PrintMode.objects.filter(state=PrintMode.State.RELEASED).count(),
    }
