"""Into the library, for every operator of every site."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User

from greyanchor.builds import forms
from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.base import Details, StageResult, StageType
from greyanchor.builds.stages.registry import register
from greyanchor.builds.stages.release_evidence import evidence, readings_of
from greyanchor.library.models import PrintMode
from greyanchor.library.modes.services import release_mode


@register
class Release(StageType[StageResult]):
    name = names.RELEASE
    position = 8
    title = "Release"
    purpose = "Into the library, for every operator of every site."
    why = (
        "The environment, limits, curves and profile become one print mode under one name. Its readings and "
        "checks "
        "stay with it."
    )
    accept_label = "Release to library"
    on_start_page = False
    films = None
    releases = True
    result_class = StageResult

    def missing(self, stage: Stage) -> str:
        return ""

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        return [e["text"] for e in evidence(stage.build.mode, stage.build) if not e["ok"]]

    def details(self, stage: Stage) -> Details:
        open_now = stage.state == Stage.State.OPEN
        return {"evidence": evidence(stage.build.mode, stage.build)} if open_now else {}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        return forms.ReleaseForm(data, initial=initial, prefix=self.name)

    def release(self, stage: Stage, mode: PrintMode, values: dict[str, Any], reason: str, user: User) -> None:
        facts = evidence(mode, stage.build)
        release_mode(mode.pk, user, values.get("note", ""), facts, reason, readings_of(stage.build))
