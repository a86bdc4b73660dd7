"""Composed greys that are neutral, and both grey scales on the G7 tone; verified by a second print."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import linear_curves, way_of
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType, rounded
from greyanchor.builds.stages.curves import curve_facts
from greyanchor.builds.stages.linearization import predicted_baseline, second_print
from greyanchor.builds.stages.registry import register
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.greybalance import balance, on_top
from greyanchor.core.charts.patches import design
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.proof import grey_plots
from greyanchor.library.models import InkSet, PrintMode

#: the tolerance set that grey balance is verified under
VERIFIED_UNDER = "g7-grayscale"


@dataclass
class GreyBalanceResult(StageResult):
    """Curves on top of the linearization, both scales before, aimed at and predicted, and the verification.

    `figures` are weighted differences (mean, largest) by scale, before and after; `unmet` are tones that the
    solids do not reach, percent; `confirm` names the check of the second print, its verdict and summary.
    """

    figures: dict[str, dict[str, list[float]]]
    tones: list[float]
    target: list[list[float]]
    before: list[list[float]]
    after: list[list[float]]
    fit: float
    curves_csv: str
    curves: dict[str, list[float]]
    unmet: list[float] = field(default_factory=list)
    on_top: dict[str, list[float]] = field(default_factory=dict)
    handles: dict[str, list[list[float]]] | None = None
    confirm: dict[str, Any] | None = None


@register
class GreyBalance(StageType[GreyBalanceResult]):
    name = names.GREY_BALANCE
    position = 2
    title = "Grey balance"
    purpose = (
        "Composed greys that are neutral on this media, and both grey scales on the G7 tone. Not "
        "every mode needs it."
    )
    why = (
        "The eye sees a tint in a grey before anywhere else. C, M and Y are shifted until their greys "
        "are those of CGATS TR 015 from paper to black. A second print through the new curves proves "
        "it."
    )
    why_picture = "greys"
    passes = 2
    accept_label = "Accept grey balance"
    takes_baseline = True
    confirms = True
    skip_text, skip_subject = "greys were not balanced", "grey balance"
    skip_label = "Skip grey balance"
    result_class = GreyBalanceResult

    def belongs(self, ink_set: InkSet) -> bool:
        return set("CMYK") <= set(ink_set.channels)

    def wanted(self, build: Build) -> bool:
        return bool(build.measuring.get("greys"))

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        way = way_of(stage.build, linear_curves(stage.build))
        return ChartDesign("grey", design("grey", way.channels), way.channels, way.raw, sent=way.sent)

    def compute(self, stage: Stage, readings: ReadingSet) -> GreyBalanceResult:
        stage.confirm_print = None
        return find(readings, linear_curves(stage.build))

    def confirmation(self, stage: Stage) -> ChartDesign:
        found = self.result(stage)
        if stage.state != Stage.State.OPEN or found is None:
            raise BadInput("grey balance is verified while it is open and has a result")
        device = STRIPS["grey"].patches()
        return second_print(stage, found.curves_csv, "grey-verification", device, "grey verification")

    def compute_confirmation(self, stage: Stage, readings: ReadingSet) -> GreyBalanceResult:
        """The verdict on grey balance: a check of the second print under G7 Grayscale."""
        job, mode = stage.confirm_print, stage.build.mode
        assert job is not None
        subject = Subject(mode, None, mode.printer, job, f"{mode.name}, grey balance")
        made = make_check(subject, readings, Order(None, VERIFIED_UNDER), job.printed_by)
        confirm = {"check": made.pk, "verdict": made.verdict, "summary": made.summary}
        return replace(self.required_result(stage), confirm=confirm)

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        tone, grey = found.figures["cmy_tone"], found.figures["cmy_balance"]
        text = (
            f"wdL* {tone['before'][0]:.1f} to {tone['after'][0]:.2f}, "
            f"wdCh {grey['before'][0]:.1f} to {grey['after'][0]:.2f} predicted"
        )
        return (
            f"{text}; verified: {found.confirm['verdict'].upper()}"
            if found.confirm
            else f"{text}; not verified"
        )

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None:
            return []
        if found.confirm is None:
            return ["grey balance was calibrated, but not verified by a second print"]
        passed = found.confirm["verdict"] == "pass"
        return [] if passed else [f"the verification failed: {found.confirm['summary']}"]

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        if stage and stage.result:
            mode.curves = stage.result.get("curves_csv", "")

    def skip(self, stage: Stage) -> None:
        stage.result, stage.sheet_print, stage.confirm_print = None, None, None

    def baseline(self, stage: Stage) -> tuple[ReadingSet, bool] | None:
        return predicted_baseline(stage, stage.build.stages.get(kind=names.LINEARIZATION))

    def plots(self, stage: Stage) -> list[str]:
        return grey_plots(self.required_result(stage).to_json())


def find(readings: ReadingSet, beneath: CurveSet) -> GreyBalanceResult:
    """Curves of grey balance on top of the linearization, from readings of the grey chart."""
    made = balance(readings)
    scales = zip(("cmy_tone", "cmy_balance", "k_tone"), made.weighted(False), made.weighted())
    figures = {name: {"before": _mean_and_largest(b), "after": _mean_and_largest(a)} for name, b, a in scales}
    return GreyBalanceResult(
        figures=figures,
        tones=rounded(made.tones),
        target=[rounded(row) for row in made.target],
        before=[rounded(row) for row in made.before],
        after=[rounded(row) for row in made.after],
        fit=round(made.fit, 3),
        unmet=[round(100.0 * t, 1) for t in made.unmet],
        on_top={c: rounded(100.0 * made.curves.outputs[i][::31]) for i, c in enumerate(made.curves.channels)},
        **curve_facts(on_top(made.curves, beneath)),
    )


def _mean_and_largest(values: Any) -> list[float]:
    return [float(values.mean()), float(values.max())]
