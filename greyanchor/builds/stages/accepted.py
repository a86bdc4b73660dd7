"""What the accepted stages of a build have decided, for the stages that follow."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.names import INK_LIMITS, LINEARIZATION, PROFILE, TOTAL_INK
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.measuring.pipelines import channels_of, sent_channels, to_raw
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


def limits_and_splits(build: Build) -> tuple[dict[str, float], list[dict[str, Any]]]:
    """Accepted limits in percent, and how inks of other weights share; nothing where the printer parts R G B
    itself.
    """
    if build.mode.ink_set.parts_itself:
        return {}, []
    decision = decided(build, INK_LIMITS)
    return decision["limits"], decision.get("splits", [])


def total_of(build: Build) -> float | None:
    """Accepted total ink, percent; None where the build has no such stage."""
    if not build.stages.filter(kind=TOTAL_INK).exists():
        return None
    return float(decided(build, TOTAL_INK)["total_ink"])


@dataclass(frozen=True)
class Way:
    """From device values of a build to what its printer is sent.

    Attributes
    ----------
    channels
        Names of the device values.
    sent
        Names of what is sent.
    curves
        Curves that the values go through.
    splits
        How inks of other weights share, as decided.
    """

    channels: tuple[str, ...]
    sent: tuple[str, ...]
    curves: CurveSet
    splits: list[dict[str, Any]]

    def raw(self, device: Array) -> Array:
        """Raw values (n, sent) of device values (n, channels), fractions."""
        return to_raw(self.splits, self.channels)(self.curves.apply(device))


def way_of(build: Build, curves: CurveSet | None = None) -> Way:
    """The way through `curves`, or through those in use."""
    _, splits = limits_and_splits(build)
    inks = build.mode.ink_set
    return Way(channels_of(inks), sent_channels(inks, splits), curves or curves_of(build), splits)
