"""Films: the least ink that stops enough light."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from greyanchor.builds import forms
from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType, rounded
from greyanchor.builds.stages.registry import register
from greyanchor.core.calibration.film import find_opacity, opacity_chart
from greyanchor.core.calibration.light_split import Alongside
from greyanchor.core.colour.transmission import NAMES, OPAQUE, STATUS, THIN, UV, VISUAL
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.numbers import parse_number
from greyanchor.drawing.films import opacity_of_film_plot
from greyanchor.library.models import PrintMode

#: a limit moved by less than this is taken as found, percent
_SAME = 0.05
_WHICH = {"UV": UV, "visual": VISUAL}


@dataclass
class FilmOpacityResult(StageResult):
    """Density asked for and reached, in which light; film: of bare film; limit of the main ink and share of
    the others, percent; amounts with densities by share, for the plot.
    """

    which: str
    asked: float
    density: float
    reached: bool
    film: float
    limit: float
    share: float
    reason: str
    amounts: list[float] = field(default_factory=list)
    curves: dict[str, list[float]] = field(default_factory=dict)

    def density_at(self, limit: float) -> float:
        """Density of a solid of another amount of the main ink (percent)."""
        import numpy as np

        shares = sorted(self.curves, key=float)
        there = [float(np.interp(limit, self.amounts, self.curves[s])) for s in shares]
        return float(np.interp(self.share, [float(s) for s in shares], there))


@register
class FilmOpacity(StageType[FilmOpacityResult]):
    name = names.FILM_OPACITY
    position = 0
    title = "Opacity"
    purpose = "The least ink whose solid stops enough light."
    why = (
        "A plate or an emulsion is exposed through the film: light that leaks through a solid hardens what "
        "should stay soft. More ink than that only dries later and spreads. Density is read by the light "
        f"that comes through ({STATUS}); where one ink is not enough, others are printed with it."
    )
    passes = 2
    accept_label = "Accept opacity"
    read_twice_rule = True
    films = True
    result_class = FilmOpacityResult

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        return {"asked": OPAQUE, "which": NAMES[UV]}

    def layout_options(self, stage: Stage, chosen: dict[str, Any]) -> dict[str, Any]:
        return {**{k: stage.options[k] for k in ("asked", "which") if k in stage.options}, **chosen}

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        channels = tuple(stage.build.mode.ink_set.raw_channels)
        return ChartDesign("film-opacity", opacity_chart(len(channels)), channels)

    def compute(self, stage: Stage, readings: ReadingSet) -> FilmOpacityResult:
        asked, which = float(stage.options.get("asked", OPAQUE)), str(stage.options.get("which", NAMES[UV]))
        found = find_opacity(readings, asked, _WHICH[which])
        return FilmOpacityResult(
            which,
            asked,
            round(found.density, 3),
            found.reached,
            round(found.film, 3),
            round(100.0 * found.limit, 2),
            round(100.0 * found.share, 2),
            found.reason,
            rounded(100.0 * found.amounts[::8], 2),
            {f"{100.0 * s:g}": rounded(v[::8]) for s, v in found.curves.items()},
        )

    def choose(self, stage: Stage, data: Mapping[str, str]) -> None:
        asked, which = parse_number(data.get("asked", "")), data.get("which", "")
        if which not in _WHICH or not 1.0 <= asked <= 6.0:
            raise BadInput("ask for a density of 1 to 6, UV or visual")
        stage.options = {**stage.options, "asked": asked, "which": which}

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        if found is None:
            return super().headline(stage)
        limit = float((stage.decision or {}).get("limit", found.limit))
        return f"{found.which} density {found.density_at(limit):.2f} with {_inks(stage, limit, found.share)}"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        if found is None:
            return []
        limit = float((values or {}).get("limit", found.limit))
        got, against = found.density_at(limit), []
        if got < found.asked:
            thin = f", below {THIN:g} films are not opaque" if got < THIN else ""
            against.append(
                f"the solid has {found.which} density {got:.2f}, {found.asked:g} is asked for{thin}"
            )
        if abs(limit - found.limit) > _SAME:
            against.append("the amount was moved from what was found")
        return against

    def check_values(self, values: dict[str, Any]) -> None:
        if not 15 <= values["limit"] <= 100:
            raise BadInput(f"the amount, {values['limit']:g} %, lies outside 15..100 %")

    def found_values(self, stage: Stage) -> dict[str, Any]:
        found = self.required_result(stage)
        return {"limit": found.limit}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        found = self.result(stage)
        start = {"limit": found.limit} if found else {}
        return OpacityForm(data, initial=start | initial, prefix=self.name)

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        found = self.result(stage) if stage else None
        if stage is None or found is None:
            mode.limits, mode.splits, mode.film = {}, [], {}
            return
        limit = float((stage.decision or {}).get("limit", found.limit))
        mode.limits = dict(zip(mode.ink_set.raw_channels, _amounts(stage, limit, found.share)))
        mode.splits = splits_of(stage)
        mode.film = {
            "which": found.which,
            "asked": found.asked,
            "density": round(found.density_at(limit), 2),
            "solid": mode.limits,
            "screen": mode.environment.get("screen", ""),
        }

    def plots(self, stage: Stage) -> list[str]:
        found = self.required_result(stage)
        limit = float((stage.decision or {}).get("limit", found.limit))
        inks = stage.build.mode.ink_set.raw_channels
        return [opacity_of_film_plot(found.amounts, found.curves, inks, limit, found.asked, found.which)]


def _amounts(stage: Stage, limit: float, share: float) -> list[float]:
    """Percent of each ink in a solid."""
    others = len(stage.build.mode.ink_set.raw_channels) - 1
    return [round(limit, 2), *[round(limit * share / 100.0, 2)] * others]


def _inks(stage: Stage, limit: float, share: float) -> str:
    names_of = stage.build.mode.ink_set.raw_channels
    amounts = zip(names_of, _amounts(stage, limit, share))
    return " ".join(f"{c} {v:.1f} %" for c, v in amounts if v > 0.0)


def splits_of(stage: Stage) -> list[dict[str, Any]]:
    """How the other inks follow the main one, as accepted."""
    found = FilmOpacity().required_result(stage)
    main, *others = stage.build.mode.ink_set.raw_channels
    return [dict(Alongside(main, other, found.share / 100.0).as_dict()) for other in others]


class OpacityForm(forms.DecisionForm):
    """The amount of the main ink in a solid, percent of raw."""

    limit = forms.percent_field("Ink in a solid, %", 15)
    field_order = ("version", "limit", "reason")

    def values(self) -> dict[str, Any]:
        return {"limit": self.cleaned_data["limit"]}
