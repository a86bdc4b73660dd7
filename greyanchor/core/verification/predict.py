"""What a check will say before anything is printed, from the profile alone."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import control_strip
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.formats.icc import IccProfile
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.aims import Aim, strip_through_profile
from greyanchor.core.verification.check import CheckResult, again, check
from greyanchor.core.verification.guard import usual_scatter
from greyanchor.core.verification.tolerances import ToleranceSet

#: dE00 from which a patch counts as out of reach: several times what tables and fit are off by
OUT_OF_REACH = 1.0
#: readings that a predicted figure is the mean of
_READINGS = 60


@dataclass(frozen=True)
class Prediction:
    """A check of the control strip as the profile predicts it.

    Attributes
    ----------
    result
        The check, as one reading of such a print would have it on average: what the noise of an instrument
        adds to each figure is in it, what a printer scatters by is not.
    strip
        The strip with predicted Lab.
    out_of_reach
        Patches whose aim the printer cannot print, by more than `OUT_OF_REACH`, worst first, with the dE00.
    """

    result: CheckResult
    strip: ReadingSet
    out_of_reach: tuple[tuple[str, float], ...]

    @property
    def within_reach(self) -> bool:
        """Whether a perfect print would pass."""
        return self.result.verdict == "pass"


def _as_read(result: CheckResult) -> CheckResult:
    """A noise-free check with each figure as readings of it have it on average: noise lengthens differences,
    and largest ones most.
    """
    errors = usual_scatter().drawn(result.measured, np.random.default_rng(1), _READINGS)
    rows, _ = again(result).figures_of_many(result.measured + errors)
    columns = list(zip(*rows))
    found = tuple(
        f if f.value is None else replace(f, value=float(np.mean([v for v in column if v is not None])))
        for f, column in zip(result.findings, columns)
    )
    return replace(result, findings=found)


def predict(profile: IccProfile, aim: Aim, tolerances: ToleranceSet, corrected: bool = False) -> Prediction:
    """Send the control strip through the profile to the aim's colours and back to colour, absolute
    colorimetric.

    Raises `BadInput` when the profile has no way back, or the aim does not know the strip's patches.
    """
    strip, _ = lay_out(control_strip(4.0), tuple("CMYK"))
    sent = strip_through_profile(strip, aim, profile, corrected)
    printed = replace(strip, measured_lab=profile.device_to_lab(sent.values(), "absolute"))
    result = _as_read(check(printed, aim, tolerances, corrected))
    off = delta_e_2000(result.aim, result.measured)
    order = np.argsort(-off, kind="stable")
    far = tuple((strip.ids[i], float(off[i])) for i in order if off[i] > OUT_OF_REACH)
    return Prediction(result, printed, far)
