"""What pages ask of builds."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.contrib.auth.models import AbstractBaseUser

from greyanchor.bench import kinds
from greyanchor.bench.headlines import headline
from greyanchor.bench.models import Build, Stage, Task
from greyanchor.bench.services import objections, voided_by
from greyanchor.checks.models import Check
from greyanchor.core.agreement import Comparison
from greyanchor.drawing.calibration import curve_plot, limit_plot, tone_plot, total_ink_plot
from greyanchor.drawing.patches import difference_map
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.queries import chart_facts, double_reading


@dataclass
class StageView:
    """A stage as the log shows it."""

    stage: Stage
    kind: kinds.Kind
    headline: str
    waits_for: str
    facts: dict[str, Any] | None = None
    passes: list[ReadingPass] = field(default_factory=list)
    comparison: Comparison | None = None
    comparison_map: str = ""
    suspects: str = ""
    plots: list[str] = field(default_factory=list)
    objections: list[Any] = field(default_factory=list)
    voids: list[str] = field(default_factory=list)
    task: Task | None = None
    form: Any = None
    open_pass: ReadingPass | None = None


def log(build: Build) -> list[StageView]:
    """Every stage of a build, the open one with all its evidence; folded ones bring theirs when they are opened."""
    stages = list(build.stages.select_related("sheet_print__chart", "decided_by").defer("profile__data"))
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
    stage = view.stage
    job = stage.sheet_print
    if job is not None:
        view.facts = chart_facts(job.chart)
        passes = list(job.passes.select_related("started_by").defer("text"))
        view.passes = [p for p in passes if p.state == ReadingPass.State.DONE]
        view.open_pass = next((p for p in passes if p.state == ReadingPass.State.OPEN), None)
        if len(view.passes) > 1:
            view.comparison = double_reading(job)
            view.suspects = ", ".join(map(str, _rows_to_read_again(view.comparison)))
            chart = job.chart.patches
            if chart.rows is not None and chart.columns is not None:
                view.comparison_map = difference_map(
                    chart.ids, view.comparison.differences, chart.rows, chart.columns, 2.0
                )
    view.plots = plots(stage)
    view.objections = objections(stage) if stage.state == Stage.State.OPEN else []
    view.voids = [kinds.BY_NAME[s.kind].title for s in voided_by(stage)]
    view.task = stage.tasks.first() if stage.kind == kinds.PROFILE else None


def _rows_to_read_again(comparison: Comparison) -> list[int]:
    """Suspect rows, and the rows of single outliers when the passes do not agree."""
    rows = set(comparison.suspect_rows)
    if not comparison.acceptable() and comparison.rows is not None:
        far = comparison.differences > 2.0
        rows |= {int(r) for r in comparison.rows[far]}
    return sorted(rows)


def plots(stage: Stage) -> list[str]:
    """The curve views of a stage."""
    r = stage.result
    if not r:
        return []
    if stage.kind == kinds.INK_LIMITS:
        limits = (stage.decision or {}).get("limits") or {c: v["percent"] for c, v in r["limits"].items()}
        return [limit_plot(r["curves"], limits, "work"), limit_plot(r["curves"], limits, "density")]
    if stage.kind == kinds.LINEARIZATION:
        return [tone_plot(r["scales"]), curve_plot(r["curves"])]
    if stage.kind == kinds.TOTAL_INK:
        return [total_ink_plot(r, (stage.decision or {}).get("total_ink", r["percent"]))]
    return []


def mode_curves(build: Build) -> str:
    """The small curve picture of the mode's card."""
    stage = build.stages.filter(kind=kinds.LINEARIZATION, state=Stage.State.ACCEPTED).first()
    return curve_plot(stage.result["curves"]) if stage and stage.result else ""


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
    )
    open_stages = (
        Stage.objects.filter(state=Stage.State.OPEN)
        .exclude(kind=kinds.RELEASE)
        .select_related("build__mode__printer__site", "build__mode__media", "build__owner")
    )
    failing = (
        PrintMode.objects.filter(last_verdict="fail")
        .exclude(state=PrintMode.State.RETIRED)
        .select_related("printer__site", "media")
    )
    ready = PrintMode.objects.filter(state=PrintMode.State.READY).select_related("printer__site", "media")
    return {
        "running": [t for t in running if not t.looks_dead],
        "reading": reading,
        "stopped": [*stopped.select_related("stage__build__mode"), *[t for t in running if t.looks_dead]],
        "open_stages": [(s, kinds.BY_NAME[s.kind]) for s in open_stages],
        "failing": [(m, m.checks.only("pk").first()) for m in failing.defer("curves")],
        "ready": [(m, m.builds.first()) for m in ready.defer("curves")],
        "recent": Check.objects.select_related("mode").only(
            "pk", "verdict", "summary", "made_at", "tolerances", "mode__name"
        )[:6],
        "released": PrintMode.objects.filter(state=PrintMode.State.RELEASED).count(),
    }
