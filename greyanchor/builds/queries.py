"""What pages ask of builds."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.contrib.auth.models import AbstractBaseUser
from django.db.models import QuerySet

from greyanchor.builds import visual
from greyanchor.builds.acceptance_rules import objections
from greyanchor.builds.inheritance import Lender, lenders
from greyanchor.builds.models import Build, Restore, Stage, Task
from greyanchor.builds.services import voided_by
from greyanchor.builds.stages import kinds, results
from greyanchor.builds.stages.headlines import headline
from greyanchor.checks.models import Check
from greyanchor.core.calibration.consequences import Cost, drying_minutes, ink_load, limit_cost
from greyanchor.core.calibration.inklimit import moved
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.restore import RESTORED
from greyanchor.core.calibration.totalink import find_total_ink, gamut_kept, lightness_at
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.drawing.calibration import (
    curve_plot,
    deviation_plot,
    drift_plot,
    limit_plot,
    path_plot,
    split_plot,
    tone_plot,
    total_ink_plot,
)
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.proof import grey_plots
from greyanchor.library.models import PrintMode
from greyanchor.library.modes.queries import restore_trend
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.prints import PrintView, print_view
from greyanchor.measuring.services import averaged

#: most modes of each list on the start page
DESK = 20


@dataclass
class StageView:
    """A stage as the log shows it."""

    stage: Stage
    kind: kinds.Kind
    headline: str
    waits_for: str
    print: PrintView | None = None
    confirm: PrintView | None = None
    plots: list[str] = field(default_factory=list)
    objections: list[Any] = field(default_factory=list)
    voids: list[str] = field(default_factory=list)
    task: Task | None = None
    form: Any = None
    made_under: str = ""
    lenders: list[Lender] = field(default_factory=list)
    more: dict[str, Any] = field(default_factory=dict)

    @property
    def is_open(self) -> bool:
        return bool(self.stage.state == Stage.State.OPEN)


def log(build: Build) -> list[StageView]:
    """Every stage of a build, the open one with all its evidence; folded ones bring theirs when they are opened."""
    stages = list(
        build.stages.select_related("sheet_print__chart", "confirm_print__chart", "decided_by").defer(
            "profile__data"
        )
    )
    views = []
    for i, stage in enumerate(stages):
        waits = (
            kinds.BY_NAME[stages[i - 1].kind].title.lower()
            if i and stage.state == Stage.State.WAITING
            else ""
        )
        view = StageView(stage, kinds.BY_NAME[stage.kind], headline(stage), waits)
        if stage.state == Stage.State.OPEN:
            _evidence(view)
        views.append(view)
    return views


def stage_view(stage: Stage) -> StageView:
    """One stage with all its evidence."""
    view = StageView(stage, kinds.BY_NAME[stage.kind], headline(stage), "")
    if stage.state != Stage.State.WAITING:
        _evidence(view)
    return view


def _evidence(view: StageView) -> None:
    stage, open_now = view.stage, view.stage.state == Stage.State.OPEN
    if stage.sheet_print is not None:
        view.print = print_view(stage.sheet_print, view.kind.passes)
    if stage.confirm_print is not None:
        view.confirm = print_view(stage.confirm_print, 2)
    view.plots = plots(stage)
    view.objections = objections(stage) if open_now else []
    view.voids = [kinds.BY_NAME[s.kind].title for s in voided_by(stage)]
    view.task = stage.tasks.first() if stage.kind == kinds.PROFILE else None
    view.lenders = lenders(stage) if open_now else []
    if stage.made_under:
        view.made_under = PrintEnvironment(**stage.made_under).label()
    view.more = _more(stage, open_now)


def plots(stage: Stage) -> list[str]:
    """The curve views of a stage."""
    r = stage.result
    if not r:
        return []
    open_now = stage.state == Stage.State.OPEN
    if stage.kind == kinds.INK_LIMITS and r["curves"]:
        limits = (stage.decision or {}).get("limits") or {c: v["percent"] for c, v in r["limits"].items()}
        older = ghost_limits(stage)[1]
        return [
            *(limit_plot(r["curves"], limits, q, older) for q in ("chroma", "density", "hue")),
            path_plot(r["curves"], limits),
        ]
    if stage.kind == kinds.LINEARIZATION:
        curves = curve_plot(r["curves"], r.get("handles") if open_now else None)
        confirm = r.get("confirm")
        return [
            *([tone_plot(r["scales"])] if r["scales"] else []),
            curves,
            *([deviation_plot(confirm["scales"])] if confirm else []),
        ]
    if stage.kind == kinds.GREYS:
        return grey_plots(r)
    if stage.kind == kinds.TOTAL_INK and r["sums"]:
        return [total_ink_plot(r, (stage.decision or {}).get("total_ink", r["percent"]))]
    return []


def ghost_limits(stage: Stage) -> tuple[str, dict[str, float]]:
    """Name and limits of an older mode to hold new limits against: the build's base, or the newest on the same media."""
    build = stage.build
    if build.base is not None:
        before = build.base.stages.get(kind=kinds.INK_LIMITS)
        return build.base.mode.name, dict((before.decision or {}).get("limits", {}))
    older = (
        PrintMode.objects.filter(
            printer=build.mode.printer_id, ink_set=build.mode.ink_set_id, media=build.mode.media_id
        )
        .exclude(pk=build.mode_id)
        .exclude(limits={})
        .order_by("-created_at")
        .first()
    )
    return (older.name, dict(older.limits)) if older is not None else ("", {})


def _more(stage: Stage, open_now: bool) -> dict[str, Any]:
    """What only one kind of stage shows."""
    r = stage.result or {}
    found: dict[str, Any] = {}
    if stage.kind == kinds.INK_LIMITS and r:
        found["ghost"] = ghost_limits(stage)[0]
        splits = (stage.decision or r).get("splits", [])
        found["splits"] = [(s, _split_picture(s)) for s in splits]
        if r["curves"] and stage.sheet_print is not None:
            limits = (stage.decision or {}).get("limits") or {c: v["percent"] for c, v in r["limits"].items()}
            found["cost"] = cost_of(stage, limits)
    if stage.kind in (kinds.INK_LIMITS, kinds.TOTAL_INK) and open_now:
        found["eye"] = eye_view(stage)
    if stage.kind == kinds.LINEARIZATION and open_now and stage.build.mode.media.unreadable:
        found["match"] = [
            (c, len(visual.matched(stage, c)), len(p)) for c, p in visual.pairs(stage.build).items()
        ]
    if stage.kind == kinds.TOTAL_INK and r and stage.sheet_print is not None:
        total = (stage.decision or {}).get("total_ink", r["percent"])
        found["consequences"] = total_consequences(stage, total)
    return found


def _split_picture(split: dict[str, Any]) -> str:
    made = results.checked_splits([split])[0]
    inputs = np.linspace(0.0, 1.0, 101)
    light, full = made.apply(inputs)
    return split_plot(split, (100 * light).tolist(), (100 * full).tolist(), (100 * inputs).tolist())


def cost_of(stage: Stage, limits: dict[str, float]) -> dict[str, Any]:
    """What limits (percent) keep and save, in all and ink by ink, from the stage's readings."""
    assert stage.sheet_print is not None
    ramps = find_ramps(averaged(stage.sheet_print))
    told = {c: min(max(v, 1.0), 100.0) / 100.0 for c, v in limits.items() if c in ramps}
    parents = {c: r for c, r in ramps.items() if c in "CMYK"}
    cost: Cost = limit_cost(parents, {c: v for c, v in told.items() if c in parents})
    each = {c: moved(ramps[c], v) for c, v in told.items()}
    return {"gamut": cost.gamut_kept, "saved": cost.ink_saved, "each": each}


def eye_view(stage: Stage) -> dict[str, Any]:
    """What the eye is asked, and what it marked so far."""
    marks = stage.options.get("marks", {})
    rows = [
        {
            "name": subject,
            "steps": visual.steps_of(stage.kind, subject),
            "faults": [
                {"name": f, "key": f"{subject}|{f}", "mark": marks.get(subject, {}).get(f)}
                for f in visual.faults_of(stage.kind)
            ],
        }
        for subject in visual.subjects(stage.build, stage.kind)
    ]
    return {"subjects": rows, "faults": visual.faults_of(stage.kind), "marked": bool(marks)}


def total_consequences(stage: Stage, total: float) -> dict[str, float]:
    """What a total (percent) means for gamut, the darkest overprint, ink on the sheet and drying."""
    assert stage.sheet_print is not None
    readings = averaged(stage.sheet_print)
    found = find_total_ink(readings)
    share = total / 100.0
    return {
        "gamut": gamut_kept(readings, share),
        "darkest": lightness_at(found.whole, share),
        "load": ink_load(np.array([share])),
        "drying": drying_minutes(share, stage.sheet_print.dry_minutes),
        "usual": stage.sheet_print.dry_minutes,
    }


def match_view(stage: Stage, channel: str) -> list[dict[str, Any]]:
    """Pairs of a channel with their colours, each as often as it is to be matched."""
    paper, solid, steps = visual.looks(stage.build, channel)
    colours = hex_colours(np.array([paper, solid]))
    chosen = visual.matched(stage, channel)
    out = []
    for repeat in range(visual.REPEATS):
        for pair, lab in zip(visual.pairs(stage.build)[channel], steps):
            key = f"{pair.tone:g}"
            told = chosen.get(key, [])
            shown = [
                (round(100 * s, 2), c, len(told) > repeat and abs(told[repeat] - 100 * s) < 0.006)
                for s, c in zip(pair.steps, hex_colours(lab))
            ]
            out.append(
                {
                    "key": key, "repeat": repeat, "tone": 100 * pair.tone, "coverage": 100 * pair.coverage,
                    "steps": shown if repeat % 2 == 0 else shown[::-1], "paper": colours[0], "solid": colours[1],
                }
            )  # fmt: skip
    return out


def mode_curves(build: Build) -> str:
    """The small curve picture of the mode's card."""
    wanted = [kinds.LINEARIZATION, kinds.GREYS]
    done = [s for s in build.stages.filter(kind__in=wanted, state=Stage.State.ACCEPTED) if s.result]
    return curve_plot(done[-1].result["curves"]) if done else ""


def restore_view(found: Restore) -> dict[str, Any]:
    """A restore with its prints, its drift as a plot, and what is left after."""
    return {
        "print": print_view(found.sheet_print, 2),
        "confirm": print_view(found.confirm_print, 2) if found.confirm_print else None,
        "plot": drift_plot(found.drift["channels"]) if found.drift else "",
        "after_plot": drift_plot(found.after["channels"]) if found.after else "",
        "limit": RESTORED,
        "trend": restore_trend(found.mode),
    }


def _newest(records: QuerySet[Any]) -> dict[int, Any]:
    """The last of ordered records for each mode, by its primary key."""
    return {r.mode_id: r for r in records}


def desk(user: AbstractBaseUser) -> dict[str, Any]:
    """What the start page lists: running, being read, going on in the bench, waiting for release, failing."""
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
        .exclude(kind=kinds.RELEASE)
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
        "open_stages": [(s, kinds.BY_NAME[s.kind]) for s in open_stages],
        "failing": [(m, last_check.get(m.pk)) for m in failing],
        "ready": [(m, last_build.get(m.pk)) for m in ready],
        "restoring": restoring.select_related("mode", "started_by"),
        "recent": Check.objects.select_related("mode").only(
            "pk", "name", "verdict", "summary", "made_at", "tolerances", "mode__name"
        )[:6],
        "released": PrintMode.objects.filter(state=PrintMode.State.RELEASED).count(),
    }
