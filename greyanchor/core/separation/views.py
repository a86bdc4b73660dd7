"""What a job looks like before it is printed: pictures for the screen, from pixels and a link."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.core.calibration.light_split import strengths
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_to_srgb, lab_to_xyz, xyz_to_lab
from greyanchor.core.parallel import in_parallel
from greyanchor.core.separation.coming_out import asked_and_printed
from greyanchor.core.separation.layers import AnyLink
from greyanchor.core.separation.link import on_paper
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.verification.spots import SpotColour

Pixels = np.ndarray[Any, Any]
KINDS = ("art", "print", "difference", "ink", "plane")
#: a difference is hatched past this, dE00
FAR = 3.0
#: steps of grey that ink in all is shown in
_STEPS = 8
_HATCH = 8


def render(link: AnyLink, pixels: Pixels, kind: str, ink: int = 0, left: int = 0, top: int = 0) -> Pixels:
    """sRGB bytes (rows, columns, 3) of pixels (rows, columns, channels).

    Parameters
    ----------
    kind
        ``art`` as the file asks for it, ``print`` as the mode prints it on its paper, ``difference`` that
        hatched where it is more than 3 dE00 from what is asked for, ``ink`` all inks together in steps of
        grey, ``plane`` one ink alone.
    ink
        Which, for ``plane``: of the mode's channels, then of its planes of their own.
    left, top
        Where the pixels lie in the whole picture, so that hatching goes on from tile to tile.
    """
    rows, columns = pixels.shape[:2]
    flat = pixels.reshape(rows * columns, -1)
    colours, place = np.unique(flat, axis=0, return_inverse=True)
    values = colours / float(np.iinfo(pixels.dtype).max)
    place = place.reshape(-1)
    if kind == "ink":
        return _grey(_steps(link, values), place, rows, columns)
    if kind == "plane":
        return _grey(1.0 - _alone(link, values, ink), place, rows, columns)
    asked, printed = asked_and_printed(link, values)
    seen = asked if kind == "art" else printed
    out = lab_to_srgb(on_paper(seen, link.target.white))[place].reshape(rows, columns, 3)
    if kind == "difference":
        far = (delta_e_2000(asked, printed) > FAR)[place].reshape(rows, columns)
        y, x = np.mgrid[top : top + rows, left : left + columns]
        stripe = (x + y) % _HATCH
        out[far & (stripe == 0)] = 0.0
        out[far & (stripe == 1)] = 1.0
    return np.round(np.clip(out, 0.0, 1.0) * 255.0).astype(np.uint8)


def of_source(source: ProfileColour, values: Array, spots: list[SpotColour]) -> Pixels:
    """sRGB bytes (n, 3) of source values (n, channels), fractions, through no mode, on white; after the
    channels of the profile come tints of `spots`, whatever follows is left out.
    """
    k = source.channels
    xyz = source.to_xyz(np.ascontiguousarray(values[:, :k]))
    for place, spot in enumerate(spots):
        tint = values[:, k + place]
        paper = (100.0, 0.0, 0.0)
        ramp = lab_to_xyz(np.array([spot.aim(t, paper) if t else paper for t in np.linspace(0, 100, 21)]))
        through = [np.interp(tint, np.linspace(0.0, 1.0, 21), ramp[:, i] / ramp[0, i]) for i in range(3)]
        xyz = xyz * np.column_stack(through)
    seen = lab_to_srgb(xyz_to_lab(100.0 * xyz))
    return np.round(np.clip(seen, 0.0, 1.0) * 255.0).astype(np.uint8)


def _steps(link: AnyLink, values: Array) -> Array:
    """Lightness of the sum of inks: white for none, black for the most that the mode prints, in steps."""
    sums = np.concatenate(in_parallel(link.device, values, 1 << 14)).sum(axis=1)
    most = link.mode.total or float(len(link.mode.channels))
    return 1.0 - np.minimum(np.ceil(_STEPS * sums / most), _STEPS) / _STEPS


def _alone(link: AnyLink, values: Array, ink: int) -> Array:
    """Share of one ink: as the profile asks for it, or as a plane of its own lies with the colours."""
    device = np.concatenate(in_parallel(link.device, values, 1 << 14))
    own = ink - len(link.mode.channels)
    if own < 0:
        return device[:, ink]
    plane = link.mode.planes[own]
    return np.where(plane.whole | (device.max(axis=1) > 0.0), plane.amount, 0.0)


def _grey(light: Array, place: Array, rows: int, columns: int) -> Pixels:
    shown = np.round(np.clip(light, 0.0, 1.0) * 255.0).astype(np.uint8)[place].reshape(rows, columns, 1)
    return shown.repeat(3, axis=2)


def dots(link: AnyLink, levels: list[Pixels]) -> Pixels:
    """sRGB bytes (rows, columns, 3) of dots: each place the colour of the inks that lie on it."""
    channels, inks = len(link.mode.channels), len(link.inks)
    code = np.zeros(levels[0].shape, dtype=np.int64)
    for i, level in enumerate(levels):
        # a light ink is shown as a tint of its parent
        code |= (level > 0).astype(np.int64) << i
    combos = np.array([[(c >> i) & 1 for i in range(inks)] for c in range(2**inks)], dtype=float)
    device = combos[:, :channels].copy()
    strong = strengths(link.mode.splits)
    for place, split in enumerate(link.mode.splits):
        parent, share = strong[split.light]
        of = link.mode.channels.index(parent)
        device[:, of] = np.maximum(device[:, of], share * combos[:, channels + place])
    if link.mode.channels == tuple("RGB"):
        device = 1.0 - device
    lab = on_paper(xyz_to_lab(100.0 * link.target.to_xyz(device, "relative")), link.target.white)
    return np.round(np.clip(lab_to_srgb(lab), 0.0, 1.0) * 255.0).astype(np.uint8)[code]
