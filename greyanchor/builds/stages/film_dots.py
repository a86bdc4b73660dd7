"""Films: dots of the screen as large as they are asked for, confirmed by a second print."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import decided
from greyanchor.builds.stages.base import ChartDesign, Details, StageResult, StageType, rounded
from greyanchor.builds.stages.curves import curve_facts
from greyanchor.builds.stages.film_opacity import splits_of
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.film import (
    SHORT,
    TRUE_LARGEST,
    TRUE_MEAN,
    FilmTones,
    dot_chart,
    film_tones,
    linearize_film,
)
from greyanchor.core.colour.transmission import PhysicalDots
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.numbers import parse_number
from greyanchor.core.printing.film_screen import SOLID, FilmScreen, solid_text
from greyanchor.drawing.films import dot_deviation_plot, film_curve_plot, film_dots_plot
from greyanchor.library.models import PrintMode
from greyanchor.measuring.pipelines import sent_channels, to_raw
from greyanchor.measuring.services import averaged


@dataclass
class FilmDotsResult(StageResult):
    """Curve as CSV (raw ink) and its dots (percent); dots before and predicted after, percent; densities of
    film and solid, visual and UV; what the second print measured: inputs, dots, mean, max, solid_uv, good.
    """

    curves_csv: str
    curves: dict[str, list[float]]
    inputs: list[float]
    before: list[float]
    after: list[float]
    film: list[float]
    solid: list[float]
    physical: list[list[float]] | None = None
    confirm: dict[str, Any] | None = None
    handles: dict[str, list[list[float]]] | None = None

    def off(self, dots: Sequence[float]) -> tuple[float, float]:
        """Mean and largest deviation from what was asked for, percent."""
        apart = np.abs(np.array(dots) - np.array(self.inputs))
        return float(apart.mean()), float(apart.max())


@register
class FilmDots(StageType[FilmDotsResult]):
    name = names.FILM_DOTS
    position = 1
    title = "Dots"
    purpose = "Dot percent as it is asked for, whatever the film does to dots."
    why = (
        "Drops spread, so that dots come out larger than they were asked for, most in the middle tones and "
        "with fine screens. The curve asks for smaller ones. Dot percent is Murray and Davies from the light "
        "that comes through: 100 (1 - 10^-(Dt - D0)) / (1 - 10^-(Ds - D0)). A second print confirms it; "
        "restores come back to it."
    )
    passes = 2
    accept_label = "Accept dots"
    read_twice_rule = True
    takes_baseline = True
    confirms = True
    films = True
    mode_state = PrintMode.State.READY
    result_class = FilmDotsResult

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {}

    def layout_options(self, stage: Stage, chosen: dict[str, Any]) -> dict[str, Any]:
        return {**{k: stage.options[k] for k in ("physical",) if k in stage.options}, **chosen}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        straight = CurveSet.straight({_main(stage): _limit(stage)})
        return _design(stage, straight, "film-dots", dot_chart())

    def compute(self, stage: Stage, readings: ReadingSet) -> FilmDotsResult:
        stage.confirm_print = None  # it was printed through other curves
        pairs = stage.options.get("physical") or []
        found = linearize_film(readings, PhysicalDots.of([(a, b) for a, b in pairs]))
        facts = curve_facts(found.raw(_main(stage), _limit(stage)))
        before = found.before
        return FilmDotsResult(
            **facts,
            inputs=rounded(before.inputs, 2),
            before=rounded(before.dots),
            after=rounded(found.after),
            film=[round(before.film, 3), round(before.film_uv, 3)],
            solid=[round(before.solid, 3), round(before.solid_uv, 3)],
            physical=pairs or None,
        )

    def choose(self, stage: Stage, data: Mapping[str, str]) -> None:
        pairs = parse_pairs(data.get("physical", ""))
        PhysicalDots.of(pairs)
        stage.options = {**stage.options, "physical": [list(p) for p in pairs]}

    def confirmation(self, stage: Stage) -> ChartDesign:
        found = self.result(stage)
        if stage.state != Stage.State.OPEN or found is None:
            raise BadInput("dots are confirmed while the stage is open and has a result")
        curves = CurveSet.from_csv(found.curves_csv, "curves of this build")
        return replace(_design(stage, curves, "film-short", dot_chart(SHORT)), subject="confirming")

    def compute_confirmation(self, stage: Stage, readings: ReadingSet) -> FilmDotsResult:
        found = self.required_result(stage)
        physical = PhysicalDots.of([(a, b) for a, b in found.physical or []])
        return replace(found, confirm=confirm_facts(film_tones(readings, physical)))

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        if found.confirm:
            measured = f"{found.confirm['mean']:.2f} % mean, {found.confirm['max']:.2f} % largest"
            return f"dots within {measured}, confirmed; {FilmScreen.of(_screen(stage)).words}"
        return f"dots {found.off(found.before)[1]:.1f} % too large before, curve not confirmed yet"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None:
            return []
        if found.confirm is None:
            return ["the dots were not confirmed by a second print"]
        if found.confirm["good"]:
            return []
        return [
            f"the confirming print is off by {found.confirm['mean']:.2f} % mean, "
            f"{found.confirm['max']:.2f} % largest; {TRUE_MEAN:g} and {TRUE_LARGEST:g} are allowed"
        ]

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        found = self.result(stage) if stage else None
        mode.curves = found.curves_csv if found else ""
        dots = found.confirm if found else None
        mode.film = {k: v for k, v in mode.film.items() if k not in ("mean", "max", "solid_uv")}
        if dots:
            mode.film |= {k: dots[k] for k in ("mean", "max", "solid_uv")}

    def baseline(self, stage: Stage) -> tuple[ReadingSet, bool] | None:
        if stage.confirm_print is None or not (stage.result or {}).get("confirm"):
            return None
        return averaged(stage.confirm_print), True

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        channel = _main(stage)
        areas = 100.0 * np.array(found.curves[channel]) / max(found.curves[channel][-1], 1e-6)
        curve = film_curve_plot({"film": areas.tolist()})
        views = [film_dots_plot(found.inputs, found.before, found.after), curve]
        if found.confirm:
            views.append(dot_deviation_plot(found.confirm["inputs"], found.confirm["dots"]))
        return views

    def details(self, stage: Stage) -> Details:
        found = self.result(stage)
        if found is None:
            return {}
        return {
            "off_before": found.off(found.before),
            "pairs": "; ".join(f"{a:g} {b:g}" for a, b in found.physical or []),
        }


def _main(stage: Stage) -> str:
    return str(stage.build.mode.ink_set.channels[0])


def _screen(stage: Stage) -> str:
    return str(stage.build.environment.get("screen") or "am")


def _limit(stage: Stage) -> float:
    return float(decided(stage.build, names.FILM_OPACITY)["limit"]) / 100.0


def _design(stage: Stage, curves: CurveSet, purpose: str, device: Any) -> ChartDesign:
    """Dots through curves, with what is within them."""
    opacity = stage.build.stages.get(kind=names.FILM_OPACITY)
    splits = splits_of(opacity)
    channels = curves.channels
    return ChartDesign(
        purpose,
        device,
        channels,
        lambda values: to_raw(splits, channels)(curves.apply(values)),
        sent=sent_channels(stage.build.mode.ink_set, splits),
        facts=solid_facts(curves, splits),
    )


def solid_facts(curves: CurveSet, splits: list[dict[str, Any]]) -> dict[str, str]:
    """What a chart of a film says of the ink within its dots."""
    solid = to_raw(splits, curves.channels)(curves.apply(np.ones((1, 1))))[0]
    inks = (*curves.channels, *(str(s["alongside"]) for s in splits))
    return {SOLID: solid_text({c: 100.0 * float(v) for c, v in zip(inks, solid)})}


def confirm_facts(measured: FilmTones) -> dict[str, Any]:
    """What a print through the curve measured."""
    return {
        "inputs": rounded(measured.inputs, 2),
        "dots": rounded(measured.dots),
        "mean": round(measured.mean, 3),
        "max": round(measured.largest, 3),
        "solid_uv": round(measured.solid_uv, 2),
        "good": measured.true,
    }


def parse_pairs(text: str) -> list[tuple[float, float]]:
    """Pairs of optical and physical percent from ``20 18; 50 47``. Raises `BadInput` for other text."""
    pairs = []
    for part in filter(None, (p.strip() for p in text.replace("\n", ";").split(";"))):
        numbers = part.split()
        if len(numbers) != 2:
            raise BadInput(f"pairs are written 20 18; 50 47 (optical, physical); {part!r} is not understood")
        pairs.append((parse_number(numbers[0]), parse_number(numbers[1])))
    return pairs
