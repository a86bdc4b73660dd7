"""A spot colour as a mode prints it: how much of which ink each tint takes, and what it looks like."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_to_xyz, xyz_to_lab
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.separation.link import Nudge
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.verification.spots import SpotColour, responses

#: steps of a tint
STEPS = 256
_FINE = 4 * STEPS + 1


@dataclass(frozen=True)
class SpotInk:
    """A spot colour on a mode.

    Attributes
    ----------
    name
        As artwork calls it.
    device
        Values of the mode's profile (256, channels), fractions, for tints 0 to 1.
    asked
        What tints should look like (256, 3), Lab relative to the mode's paper.
    difference
        dE00 between the solid and what its recipe is predicted to print.
    """

    name: str
    device: Array
    asked: Array
    difference: float

    def device_of(self, tint: Array) -> Array:
        """Device values (n, channels) of tints (n,), fractions."""
        return _along(self.device, tint)

    def through(self, tint: Array) -> Array:
        """What share of X, Y and Z (n, 3) tints (n,) leave of what lies under them."""
        return lab_to_xyz(_along(self.asked, tint)) / (100.0 * PCS_WHITE)


def spot_ink(colour: SpotColour, recipe: Array, target: ProfileColour) -> SpotInk:
    """A spot colour by its recipe (channels,), the device values of its solid.

    All tints use the inks of the solid in the same shares, which keeps their hue from jumping; how much is
    where the spot colour tone value of ISO 20654, of what the profile predicts, is the tint.
    """
    share = np.linspace(0.0, 1.0, _FINE)
    ramp = share[:, None] * np.asarray(recipe, dtype=float)
    printed = xyz_to_lab(100.0 * target.to_xyz(ramp, "relative"))
    away = np.sqrt(((responses(printed) - responses(printed[:1])) ** 2).sum(axis=1))
    value = np.maximum.accumulate(away / max(float(away[-1]), 1e-9))
    tint = np.linspace(0.0, 1.0, STEPS)
    device = np.interp(tint, value + 1e-9 * share, share)[:, None] * recipe
    device[0] = 0.0
    white = xyz_to_lab(100.0 * target.white[None])[0]
    absolute = np.array([colour.aim(100.0 * t, white) if t > 0 else white for t in tint])
    asked = xyz_to_lab(lab_to_xyz(absolute) * (PCS_WHITE / target.white))
    solid = xyz_to_lab(lab_to_xyz(printed[-1:]) * (target.white / PCS_WHITE))
    return SpotInk(
        colour.name, device, asked, float(delta_e_2000(solid, np.array([colour.lab], dtype=float))[0])
    )


def nudged(ink: SpotInk, nudge: Nudge, target: ProfileColour, channels: Sequence[str]) -> SpotInk:
    """A spot colour with a job's nudge: more or less of its recipe until its lightness is moved as the
    nudge moves lightness, then single inks.
    """
    if not nudge:
        return ink
    device = ink.device
    if nudge.lightness or nudge.contrast:
        solid = ink.device[-1]
        most = min(1.0 / max(float(solid.max()), 1e-6), 2.0)
        share = np.linspace(0.0, most, 2 * _FINE)
        printed = xyz_to_lab(100.0 * target.to_xyz(share[:, None] * solid, "relative"))
        darker = np.maximum.accumulate(-printed[:, 0]) + 1e-9 * share
        now = xyz_to_lab(100.0 * target.to_xyz(ink.device, "relative"))
        device = np.interp(-nudge.of_lab(now)[:, 0], darker, share)[:, None] * solid
        device[0] = 0.0
    return replace(ink, device=np.clip(nudge.of_inks(device, channels), 0.0, 1.0))


def _along(ramp: Array, tint: Array) -> Array:
    at = np.clip(tint, 0.0, 1.0) * (len(ramp) - 1)
    low = np.minimum(at.astype(int), len(ramp) - 2)
    share = (at - low)[:, None]
    return np.asarray(ramp[low] * (1.0 - share) + ramp[low + 1] * share)
