"""The first stage of a printer that takes R G B: what its own driver does, and curves in front of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.base import ChartDesign, Details, StageResult, StageType, rounded
from greyanchor.builds.stages.curves import curve_facts
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.driver import (
    EVEN_WITHIN,
    RGB,
    STRAIGHT,
    TONES,
    driver_chart,
    predicted,
    read_driver,
    short_driver_chart,
    tone_curves,
)
from greyanchor.core.calibration.driver import evenness_of as measured_evenness
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.calibration import cast_plot, curve_plot, grey_lightness_plot
from greyanchor.library.models import InkSet, PrintMode
from greyanchor.measuring.services import averaged

#: mean dE00 to what was predicted that a second print keeps
REPEATS_WITHIN = 1.2


@dataclass
class DriverResult(StageResult):
    """What the driver does: greys, faults in words, evenness (percent), cast (chroma), and the curves before
    it.

    `confirm` holds off (mean dE00 to what was predicted), uneven, cast and good.
    """

    tones: str
    inputs: list[float]
    greys: list[list[float]]
    through: list[list[float]]
    faults: list[str]
    uneven: list[float]
    cast: float
    fit: float
    curves_csv: str = ""
    curves: dict[str, list[float]] = field(default_factory=dict)
    handles: dict[str, list[list[float]]] | None = None
    confirm: dict[str, Any] | None = None


@register
class DriverStage(StageType[DriverResult]):
    name = names.DRIVER
    position = 0
    title = "Driver"
    purpose = "What the printer's own driver does with R, G and B, and curves in front of it."
    why = (
        "The printer parts R, G and B among its inks itself, so there are no ink limits to find. Ramps and "
        "greys show whether its range is clipped or turns back: if so, another media or quality in it "
        "helps more than any profile. Curves before the driver make the greys even; later they bring a "
        "drifted machine back."
    )
    passes = 2
    accept_label = "Accept driver"
    read_twice_rule = True
    takes_baseline = True
    confirms = True
    lends, lends_field, lends_label = "curves", "curves", "the curves"
    result_class = DriverResult

    def belongs(self, ink_set: InkSet) -> bool:
        return ink_set.parts_itself

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {"tones": STRAIGHT}

    def layout_options(self, stage: Stage, chosen: dict[str, Any]) -> dict[str, Any]:
        return {**chosen, "tones": stage.options.get("tones", STRAIGHT)}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        return ChartDesign("driver", driver_chart(), RGB)

    def compute(self, stage: Stage, readings: ReadingSet) -> DriverResult:
        stage.confirm_print = None  # it was printed through other curves
        return find(readings, str(stage.options.get("tones", STRAIGHT)))

    def choose(self, stage: Stage, data: Mapping[str, str]) -> None:
        tones = data.get("tones", "")
        if tones not in TONES:
            raise BadInput(f"greys are made {', '.join(TONES.values())}; choose one of these")
        stage.options = {**stage.options, "tones": tones}

    def confirmation(self, stage: Stage) -> ChartDesign:
        found = self.result(stage)
        if stage.state != Stage.State.OPEN or found is None:
            raise BadInput("curves are confirmed while the driver stage is open and has a result")
        curves = CurveSet.from_csv(found.curves_csv, "curves of this build")
        return ChartDesign("short", short_driver_chart(), RGB, curves.apply, subject="short")

    def compute_confirmation(self, stage: Stage, readings: ReadingSet) -> DriverResult:
        found = self.required_result(stage)
        assert stage.sheet_print is not None
        curves = CurveSet.from_csv(found.curves_csv, "curves of this build")
        wanted = predicted(averaged(stage.sheet_print), curves.apply(readings.values()))
        off = float(delta_e_2000(wanted, readings.lab()).mean())
        uneven, cast = measured_evenness(readings)
        even = found.tones == STRAIGHT or uneven[0] <= EVEN_WITHIN
        confirm = {
            "off": round(off, 3),
            "uneven": rounded(uneven, 2),
            "cast": round(cast, 2),
            "good": off <= REPEATS_WITHIN and even,
        }
        return replace(found, confirm=confirm)

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        range_words = f"{len(found.faults)} faults of range" if found.faults else "whole range"
        second = f", second print {found.confirm['off']:.2f} dE00 off" if found.confirm else ""
        return f"{range_words}; {TONES[found.tones]}{second}"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None:
            return []
        against = list(found.faults)
        if found.confirm is None:
            return [*against, "the curves were not confirmed by a second print"]
        if not found.confirm["good"]:
            against.append(
                f"the second print is {found.confirm['off']:.2f} dE00 off what was predicted, greys "
                f"{found.confirm['uneven'][0]:.1f} % off even"
            )
        return against

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        mode.curves = (stage.result or {}).get("curves_csv", "") if stage else ""

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        curves = CurveSet.from_csv(lender.curves, f"curves of {lender.name}")
        stage.result = {
            **DriverResult(STRAIGHT, [], [], [], [], [], 0.0, 0.0).to_json(),
            **curve_facts(curves),
        }
        return {}

    def baseline(self, stage: Stage) -> tuple[ReadingSet, bool] | None:
        confirmed = stage.confirm_print if (stage.result or {}).get("confirm") else None
        return (averaged(confirmed), True) if confirmed is not None else None

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        if not found.inputs:
            return []
        return [
            grey_lightness_plot(found.inputs, found.greys, found.through),
            cast_plot(found.inputs, found.greys, found.through),
            curve_plot(found.curves),
        ]

    def details(self, stage: Stage) -> Details:
        return {"tones": TONES}


def find(readings: ReadingSet, tones: str) -> DriverResult:
    """What the readings of a driver's chart say, and curves that make greys by `tones`."""
    driver = read_driver(readings)
    inputs, greys = driver.greys
    curves = tone_curves(driver, tones)
    through = predicted(readings, curves.apply(np.repeat(inputs[:, None], 3, axis=1)))
    return DriverResult(
        tones=tones,
        inputs=rounded(100.0 * inputs, 1),
        greys=[rounded(row, 2) for row in greys],
        through=[rounded(row, 2) for row in through],
        faults=[f.words for f in driver.faults],
        uneven=rounded(driver.uneven, 2),
        cast=round(driver.cast, 2),
        fit=round(driver.model.held_out.mean, 3),
        **curve_facts(curves),
    )
