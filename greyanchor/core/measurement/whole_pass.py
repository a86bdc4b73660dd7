"""What is wrong with a pass as a whole: white calibration, condition, a wet sheet.

Every row of such a pass looks right by itself. Held to what is known of the media and its inks, all patches
are off together: by one factor of light (the white tile), by the tint of bare media alone (the measurement
condition, or other media), or as if each ink were heavier (a wet sheet, or a machine that prints otherwise).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.expectation import Expectation, fit_common

#: from here on a pass is suspect: factor of light, tint of bare media (Lab), volume of every ink (fraction)
GAIN, TINT, HEAVY = 0.0065, 0.45, 0.022
#: standard deviations from which on a shift is more than scatter
_SURE = 4.5
#: what is expected of overprints is off alike for all of them, so that they count this much less
_OVER = 4.0
#: patches of paper and single inks below which a pass is not judged as a whole
_LEAST = 20


@dataclass(frozen=True)
class PassShift:
    """What all patches of a pass have in common against what is known.

    Attributes
    ----------
    gain
        Light relative to what was expected, 0.01 for 1 % more.
    tint
        a* and b* (2,) by which bare media differs beyond that.
    volumes
        Volume of each ink relative to what was expected (channels,), 0.05 for 5 % more; empty where the
        expectation knows no inks.
    left
        Median distance in Lab that none of this explains.
    heavy
        Volume of every ink from which on the sheet is taken to be wet.
    overprints
        Share of the patches that are overprints: what is expected of them is off alike, so that the rest must
        say more.
    unsure
        Standard deviations of `gain` and the two of `tint`, as far as patches scatter.
    """

    gain: float
    tint: tuple[float, float]
    volumes: tuple[float, ...]
    left: float
    unsure: tuple[float, ...] = ()
    heavy: float = HEAVY
    overprints: float = 0.0

    def reasons(self) -> dict[str, str]:
        """Why the pass is suspect, and what to do, by ``white``, ``media`` and ``wet``; empty where it is
        not.
        """
        found = {}
        gain, a_unsure, b_unsure = self.unsure or (0.0, 0.0, 0.0)
        if abs(self.gain) > max(GAIN * (1.0 + self.overprints), _SURE * gain):
            way = "more" if self.gain > 0 else "less"
            found["white"] = (
                f"everything reads {abs(100 * self.gain):.1f} % {way} light than this media did before: "
                "clean the white tile, calibrate again and read the sheet again"
            )
        a, b = self.tint
        if abs(a) > max(TINT, _SURE * a_unsure) or abs(b) > max(TINT, _SURE * b_unsure):
            found["media"] = (
                f"bare media differs by a* {a:+.1f}, b* {b:+.1f} from before: see that the measurement "
                "condition and the media are the same"
            )
        heavy = self.heavy
        if len(self.volumes) > 1 and min(self.volumes) > heavy / 3.0 and np.mean(self.volumes) > heavy:
            found["wet"] = (
                f"every ink reads heavier, by {100 * np.mean(self.volumes):.0f} %: let the sheet dry and "
                "read it again; if it was dry, the machine prints otherwise than before"
            )
        return found


def pass_shift(expected: Expectation, measured: Array) -> PassShift | None:
    """What a whole pass (n, 3), Lab, has in common against `expected`; None where too little is known."""
    if expected.rough or not expected.same_media:
        return None
    lab = expected.lab
    light = np.clip((lab[:, 0] + 16.0) / (lab[:, 0].max() + 16.0), 0.0, 1.0) ** 3
    slopes = np.zeros((len(lab), 3, 3))
    slopes[:, 0, 0], slopes[:, 1, 0], slopes[:, 2, 0] = (
        (lab[:, 0] + 16.0) / 3.0,
        lab[:, 1] / 3.0,
        lab[:, 2] / 3.0,
    )
    slopes[:, 1, 1] = slopes[:, 2, 2] = light
    inks = expected.slopes[:, :, 4:]
    over = (np.abs(inks).sum(axis=1) > 1.0).sum(axis=1) > 1
    if (~over).sum() < _LEAST:
        return None
    wide = Expectation(
        lab,
        np.where(over, _OVER, 1.0) * expected.spread,
        np.concatenate([slopes, inks], axis=2),
        np.concatenate([[0.03, 3.0, 3.0], np.full(inks.shape[2], 0.15)]),
    )
    common, left = fit_common(wide, measured, 6)
    off = np.linalg.norm(left, axis=1)
    typical = max(0.6, float(np.median(off / wide.spread)) / 1.54)
    flat = (wide.slopes / (typical * wide.spread)[:, None, None]).reshape(-1, len(common))
    unsure = np.sqrt(np.diag(np.linalg.inv(flat.T @ flat + np.diag(1.0 / wide.scales**2))))
    return PassShift(
        float(common[0]),
        (float(common[1]), float(common[2])),
        tuple(float(v) for v in common[3:]),
        float(np.median(off)),
        tuple(float(v) for v in unsure[:3]),
        max(HEAVY, 2.5 * float(expected.scales[4:].mean())) if inks.shape[2] else HEAVY,
        float(over.mean()),
    )
