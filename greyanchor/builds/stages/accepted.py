"""What the accepted stages of a build have decided, for the stages that follow."""

from __future__ import annotations

from typing import Any

from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.names import LINEARIZATION, PROFILE
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.profiles.models import Profile


def _title(name: str) -> str:
    return name.replace("-", " ").capitalize()


def decided(build: Build, name: str) -> dict[str, Any]:
    """The decision of an accepted stage; `BadInput` while it is open."""
    stage = build.stages.get(kind=name)
    if stage.state != Stage.State.ACCEPTED or stage.decision is None:
        raise BadInput(f"{_title(name)} must be accepted first")
    return dict(stage.decision)


def curves_of(build: Build) -> CurveSet:
    """The curves in use: of the last accepted stage that made some."""
    for stage in build.stages.filter(state=Stage.State.ACCEPTED).order_by("-position"):
        if stage.result and "curves_csv" in stage.result:
            return CurveSet.from_csv(stage.result["curves_csv"], "curves of this build")
    raise BadInput(f"{_title(LINEARIZATION)} must be accepted first")


def linear_curves(build: Build) -> CurveSet:
    """The accepted linearization."""
    stage = build.stages.get(kind=LINEARIZATION)
    if stage.state != Stage.State.ACCEPTED or not stage.result:
        raise BadInput(f"{_title(LINEARIZATION)} must be accepted first")
    return CurveSet.from_csv(stage.result["curves_csv"], "curves of this build")


def profile_of(build: Build) -> Profile:
    """The accepted profile."""
    stage = build.stages.select_related("profile").get(kind=PROFILE)
    if stage.state != Stage.State.ACCEPTED or stage.profile is None:
        raise BadInput(f"{_title(PROFILE)} must be accepted first")
    return stage.profile
