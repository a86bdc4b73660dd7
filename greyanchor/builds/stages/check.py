"""Proof on a second print that the mode meets the aim."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.builds import forms
from greyanchor.builds.models import Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import profile_of, way_of
from greyanchor.builds.stages.base import ChartDesign, StageResult, StageType
from greyanchor.builds.stages.registry import register
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.checks.strip_prints import own_patches, sent_of, with_own
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.aims import strip_through_profile
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.queries import aim_of


@dataclass
class CheckResult(StageResult):
    """Verdict (pass or fail) and the worst criterion in words."""

    verdict: str
    summary: str


@register
class CheckStage(StageType[CheckResult]):
    name = names.CHECK
    position = 7
    title = "Check"
    purpose = "Proof on a second print that the mode meets the aim."
    why = (
        "A strip printed through the profile is held to the aim: another print than the one the profile "
        "learned from. Substrate-corrected means that the aim is carried onto your paper, so that its "
        "tint does not count."
    )
    why_picture = "paper"
    passes = 1
    accept_label = "Accept check"
    skip_text, skip_subject, skip_label = "no check was made", "a check", "Skip check"
    mode_state = PrintMode.State.READY
    result_class = CheckResult
    layout_form = forms.CheckOptions

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        build = stage.build
        profile, way, corrected = profile_of(build), way_of(build), bool(options.get("corrected"))
        aim = aim_of(AimRecord.objects.get(pk=options["aim"]))
        parsed = icc.loads(bytes(profile.data), profile.title)

        own = own_patches(build.mode)
        device = np.vstack([design("control-strip"), np.zeros((len(own), 4))])
        names = (*("",) * (len(device) - len(own)), *own) if own else ()

        def through_profile(strip: ReadingSet) -> Array:
            raw = way.raw(strip_through_profile(strip, aim, parsed, corrected).values())
            return with_own(strip, build.mode, raw)

        sent = sent_of(build.mode, np.zeros((1, len(way.sent) + 1))) if own else way.sent
        return ChartDesign(
            "control-strip",
            device,
            sheet_pipeline=through_profile,
            sent=sent,
            names=names,
        )

    def options_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> dict[str, Any]:
        if not wishes.get("aim"):
            raise BadInput("what the check is held to was not chosen")
        return {"aim": wishes["aim"], "tolerances": wishes["tolerances"],
                "corrected": bool(wishes.get("corrected", True))}  # fmt: skip

    def compute(self, stage: Stage, readings: ReadingSet) -> CheckResult:
        mode, job, options = stage.build.mode, stage.sheet_print, stage.options
        assert job is not None
        aim = AimRecord.objects.get(pk=options["aim"])
        order = Order(aim, options["tolerances"], bool(options.get("corrected")))
        subject = Subject(mode, profile_of(stage.build), mode.printer, job)
        stage.made_check = make_check(subject, readings, order, job.printed_by)
        return CheckResult(stage.made_check.verdict, stage.made_check.summary)

    def headline(self, stage: Stage) -> str:
        found = self.result(stage)
        return f"{found.verdict.upper()}: {found.summary}" if found else super().headline(stage)

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        found = self.result(stage)
        return [f"the check failed: {found.summary}"] if found and found.verdict != "pass" else []

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        made = stage.made_check if stage else None
        mode.last_verdict, mode.last_check_summary = (made.verdict, made.summary) if made else ("", "")
