"""G7 (CGATS TR 015): the tone and grey-balance aims of a printed grey scale, and weighted differences."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.interpolate import PchipInterpolator

from greyanchor.core.charts.patches import near_neutral
from greyanchor.core.colour.colorimetry import D50_WHITE, Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput

#: tone value, fraction, of the anchors, and neutral density over paper there
ANCHORS = (0.25, 0.50, 0.75)
CMY_DENSITY = (0.25, 0.54, 0.92)
K_DENSITY = (0.22, 0.50, 0.90)
#: weight of differences at 100 %; it is 1 up to 50 % and falls linearly between
LEAST_WEIGHT = 0.25


def weight(tone: npt.ArrayLike) -> Array:
    """Weight (n,) of a difference at a tone value 0..1: 1 up to 0.5, then falling linearly to 0.25 at 1."""
    t = np.asarray(tone, dtype=float)
    return np.asarray(1.0 - (1.0 - LEAST_WEIGHT) * np.clip((t - 0.5) / 0.5, 0.0, 1.0))


def tone_aim(tone: npt.ArrayLike, printed_maximum: float, black: bool = False) -> Array:
    """Neutral density over paper (n,) that tone values 0..1 aim at, up to the printed maximum.

    A monotone cubic through the published anchors and the printed maximum. Where the maximum lies under
    the straight continuation of the last two anchors, the shadow half is compressed toward it.
    """
    middle = K_DENSITY if black else CMY_DENSITY
    ample = 2.0 * middle[2] - middle[1]
    knots = np.array([0.0, *middle, printed_maximum])
    if printed_maximum < ample:
        if printed_maximum < 1.3 * middle[1]:  # hardly any shadow: the whole scale gives way
            knots[:4] *= printed_maximum / ample
        else:
            room = (printed_maximum - middle[1]) / (ample - middle[1])
            knots[3] = middle[1] + (middle[2] - middle[1]) * room
    return np.asarray(PchipInterpolator([0.0, *ANCHORS, 1.0], knots)(np.clip(tone, 0.0, 1.0)))


def neutral_density(lab: npt.ArrayLike, paper: npt.ArrayLike) -> Array:
    """Neutral density over paper (n,) of Lab (n, 3), absolute: -log10(Y / Y of the paper)."""
    y = lab_to_xyz(np.atleast_2d(np.asarray(lab, dtype=float)))[:, 1]
    return np.asarray(-np.log10(np.maximum(y, 1e-6) / lab_to_xyz(paper)[1]))


def lightness_at(density: npt.ArrayLike, paper: npt.ArrayLike) -> Array:
    """L* (n,) of neutral densities (n,) over a paper of Lab (3,)."""
    y = lab_to_xyz(paper)[1] * 10.0 ** -np.asarray(density, dtype=float)
    xyz = np.stack([y / 100.0 * D50_WHITE[0], y, y / 100.0 * D50_WHITE[2]], axis=-1)
    return np.asarray(xyz_to_lab(xyz)[..., 0])


@dataclass(frozen=True)
class GreyAim:
    """What the two grey scales of a print aim at.

    Attributes
    ----------
    paper
        Lab (3,) of the unprinted media.
    cmy_maximum, k_maximum
        Neutral density over paper of the solid C+M+Y and of K as printed.
    """

    paper: Array
    cmy_maximum: float
    k_maximum: float

    def cmy(self, cyan: npt.ArrayLike) -> Array:
        """Lab (n, 3) at cyan tone values 0..1: a* = a* paper (1 - C), b* alike, L* from the tone aim."""
        c = np.atleast_1d(np.asarray(cyan, dtype=float))
        lightness = lightness_at(tone_aim(c, self.cmy_maximum), self.paper)
        return np.column_stack([lightness, self.paper[1] * (1.0 - c), self.paper[2] * (1.0 - c)])

    def k(self, black: npt.ArrayLike) -> Array:
        """L* (n,) at black tone values 0..1."""
        return lightness_at(tone_aim(np.atleast_1d(black), self.k_maximum, black=True), self.paper)


def is_cmy_step(device: Array) -> npt.NDArray[np.bool_]:
    """Patches (n,) of the near-neutral scale, paper left out: no K, C above 0, M and Y within 1 %."""
    near = np.abs(device[:, 1:3] - near_neutral(device[:, 0])[:, 1:3]).max(axis=1) <= 0.01 + 1e-6
    return np.asarray((device[:, 3] < 0.0005) & (device[:, 0] > 0.0005) & near)


def is_k_step(device: Array) -> npt.NDArray[np.bool_]:
    """Patches (n,) of black alone, paper left out."""
    return np.asarray((device[:, :3].max(axis=1) < 0.0005) & (device[:, 3] > 0.0005))


def grey_aim(device: Array, lab: Array) -> GreyAim:
    """The aim for a print of CMYK fractions (n, 4) measured as Lab (n, 3): its paper and its own maxima.

    Raises `BadInput` when the paper or a 100 % step is missing.
    """
    paper = device.max(axis=1) < 0.0005
    full_cmy, full_k = (
        is_cmy_step(device) & (device[:, 0] > 0.9995),
        is_k_step(device) & (device[:, 3] > 0.9995),
    )
    for found, what in (
        (paper, "an unprinted patch"),
        (full_cmy, "the step C M Y 100 % of the grey scale"),
        (full_k, "the solid of K"),
    ):
        if not found.any():
            raise BadInput(f"grey balance needs {what}, and the readings have none")
    white = lab[paper].mean(axis=0)
    return GreyAim(
        white,
        float(neutral_density(lab[full_cmy], white).mean()),
        float(neutral_density(lab[full_k], white).mean()),
    )


def aim_lab(device: Array, measured: Array) -> Array:
    """Lab (n, 3) that the steps of both grey scales aim at; NaN for other patches, and for a* b* of K.

    `measured` gives paper and printed maxima. All is NaN where these are missing.
    """
    out = np.full((len(device), 3), np.nan)
    try:
        aim = grey_aim(device, measured)
    except BadInput:
        return out
    cmy, k = is_cmy_step(device), is_k_step(device)
    out[cmy] = aim.cmy(device[cmy, 0])
    out[k, 0] = aim.k(device[k, 3])
    return out


def weighted(device: Array, aim: Array, measured: Array) -> tuple[Array, Array]:
    """|wdL*| and wdCh (n,) of the steps of both scales against their `aim` Lab; NaN elsewhere."""
    cmy, k = is_cmy_step(device), is_k_step(device)
    share = weight(np.where(k, device[:, 3], device[:, 0]))
    share = np.where(cmy | k, share, np.nan)
    delta = measured - aim
    return share * np.abs(delta[:, 0]), share * np.hypot(delta[:, 1], delta[:, 2])


def is_grey(device: Array, lab: Array) -> bool:
    """Whether data of CMYK fractions (n, 4) and Lab (n, 3) hold both scales, and these are G7 grey
    themselves.

    Held to the limits of the level Grayscale: mean 1.5, largest 3.0. Only then do the scales of
    characterization data stand in for the published anchors.
    """
    aim = aim_lab(device, lab)
    dl, dch = weighted(device, aim, lab)
    for values in (dl[is_cmy_step(device)], dch[is_cmy_step(device)], dl[is_k_step(device)]):
        if len(values) < 4 or np.isnan(values).any() or values.mean() > 1.5 or values.max() > 3.0:
            return False
    return True
