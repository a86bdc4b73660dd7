"""A print as pages show it: its chart, its passes, and how they agree."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from greyanchor.core.measurement.repeatability import LARGEST_LIMIT, Comparison
from greyanchor.drawing.patches import difference_map
from greyanchor.library.machines.connections import driver_of
from greyanchor.measuring.evidence import uses_of
from greyanchor.measuring.models import ReadingPass, SheetPrint
from greyanchor.measuring.printing import instrument_of, is_simulated
from greyanchor.measuring.queries import chart_facts, double_reading
from greyanchor.measuring.services import method_of
from greyanchor.measuring.suspicions import Suspicion, suspicions


@dataclass(frozen=True)
class Repair:
    """Rows of a pass to read again."""

    number: int
    pk: int
    rows: str

    @property
    def label(self) -> str:
        many = "," in self.rows
        return f"Read row{'s' * many} {self.rows} again in pass {self.number}"


@dataclass
class PrintView:
    """A print with its passes and how they agree."""

    job: SheetPrint
    facts: dict[str, Any]
    passes: list[ReadingPass]
    open_pass: ReadingPass | None
    wanted: int
    comparison: Comparison | None = None
    advice: list[str] = field(default_factory=list)
    map: str = ""
    worst: list[tuple[str, int, float]] = field(default_factory=list)
    suspicions: list[Suspicion] = field(default_factory=list)
    repairs: list[Repair] = field(default_factory=list)
    marks: list[str] = field(default_factory=list)
    uses: list[str] = field(default_factory=list)
    aside: list[ReadingPass] = field(default_factory=list)
    driver: str = ""
    readable: bool = False
    simulated: bool = False

    @property
    def limit(self) -> float:
        """dE00 above which two readings of a patch are not accepted."""
        return LARGEST_LIMIT

    @property
    def doubtful(self) -> list[ReadingPass]:
        """Passes to leave out: those that are named, or all where it is not known which is wrong."""
        named = {s.number for s in self.suspicions}
        return [p for p in self.passes if p.number in named] if 0 not in named else self.passes

    @property
    def repair_look(self) -> str:
        """A single repair is the thing to do; of several a person chooses."""
        return "btn-main" if len(self.repairs) == 1 else "btn-plain"

    @property
    def is_settled(self) -> bool:
        """Whether it was printed and read as often as asked, with nothing left to deal with."""
        enough = len(self.passes) >= self.wanted and self.open_pass is None
        return (
            enough
            and not self.suspicions
            and not self.advice
            and (self.comparison is None or self.comparison.acceptable)
        )

    @property
    def line(self) -> str:
        """Its chart and its readings in a line."""
        count = len(self.passes)
        said = f"{self.facts['patches']} patches, {count} pass{'es' * (count != 1)}"
        if self.comparison is not None:
            found = self.comparison
            said += (
                f", {found.mean:.2f} mean and {found.max:.2f} largest dE00 between them. The passes agree."
            )
        return said

    @property
    def next_number(self) -> int:
        return max((p.number for p in self.passes), default=0) + 1


def print_view(job: SheetPrint, wanted: int) -> PrintView:
    """A print with its passes: agreement as figures, words, map and list."""
    passes = list(job.passes.select_related("started_by").defer("text"))
    done = [p for p in passes if p.state == ReadingPass.State.DONE]
    being_read = next((p for p in passes if p.state == ReadingPass.State.OPEN), None)
    view = PrintView(job, chart_facts(job.chart), done, being_read, wanted)
    view.aside = [p for p in passes if p.state == ReadingPass.State.ASIDE]
    view.uses = uses_of(job)
    view.marks = [
        f"Row {row} of pass {p.number} read alike twice although {reason}"
        for p in done
        for row, reason in p.marks.items()
    ]
    view.suspicions = suspicions(job) if done else []
    view.repairs = _repairs(view.suspicions, done)
    driver = driver_of(job.printer)
    view.driver = driver.title if driver else ""
    view.readable = instrument_of(job, method_of(job)) is not None
    view.simulated = is_simulated(job)
    if len(done) > 1:
        found = double_reading(job)
        assert found is not None
        view.comparison, view.advice = found, [] if view.suspicions else found.advice()
        chart = job.chart.patches
        if chart.rows is not None and chart.columns is not None:
            view.map = difference_map(chart.ids, found.differences, chart.rows, chart.columns, LARGEST_LIMIT)
            worst = np.argsort(found.differences)[::-1][:12]
            view.worst = [(chart.ids[i], int(chart.rows[i]), float(found.differences[i])) for i in worst]
    return view


def _repairs(found: list[Suspicion], done: list[ReadingPass]) -> list[Repair]:
    """What to read again: in the pass that is wrong, or in any that holds rows where that is not known."""
    by_hand = {p.number: p for p in done if p.rows.exists()}
    rows: dict[int, set[int]] = {}
    for suspicion in found:
        numbers = [suspicion.number] if suspicion.number else list(by_hand)
        for number in numbers:
            if number in by_hand:
                rows.setdefault(number, set()).update(suspicion.rows)
    return [
        Repair(number, by_hand[number].pk, ", ".join(map(str, sorted(chosen))))
        for number, chosen in sorted(rows.items())
        if chosen
    ]
