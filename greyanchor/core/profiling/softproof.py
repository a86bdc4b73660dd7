"""Pictures and ramps as a profile would print them, with the banding and plateaus of its tables found."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour.colorimetry import D50_WHITE, Array, delta_e_2000, lab_to_xyz, xyz_to_lab
from greyanchor.core.colour.rgb_spaces import USUAL, rgb_to_lab
from greyanchor.core.formats.icc import IccProfile, perceptual_black
from greyanchor.core.parallel import in_parallel

INTENTS = ("perceptual", "relative", "saturation", "absolute")
RAMP_STEPS = 256
#: a step of a ramp is a band when it differs from its neighbours' mean by more than this (dE00) ...
BAND = 0.9
#: ... and flat when it is less than this share of the ramp's usual step while the source goes on
FLAT = 0.06
_SMOOTHED = 5
_RAMPS = {
    "grey": ((1, 1, 1), (0, 0, 0)),
    "white to red": ((1, 1, 1), (1, 0, 0)),
    "red to black": ((1, 0, 0), (0, 0, 0)),
    "white to green": ((1, 1, 1), (0, 1, 0)),
    "green to black": ((0, 1, 0), (0, 0, 0)),
    "white to blue": ((1, 1, 1), (0, 0, 1)),
    "blue to black": ((0, 0, 1), (0, 0, 0)),
    "white to cyan": ((1, 1, 1), (0, 1, 1)),
    "white to magenta": ((1, 1, 1), (1, 0, 1)),
    "white to yellow": ((1, 1, 1), (1, 1, 0)),
    "skin": ((1.0, 0.87, 0.80), (0.20, 0.10, 0.07)),
    "sky": ((0.85, 0.93, 1.0), (0.08, 0.22, 0.52)),
}


@dataclass(frozen=True)
class RampProof:
    """One ramp as printed.

    Attributes
    ----------
    name
        What it runs through.
    source, printed
        Lab (RAMP_STEPS, 3): asked for (media-relative) and printed.
    bands, flats
        Masks (RAMP_STEPS,): steps that jump, and steps that stand still while the source goes on.
    """

    name: str
    source: Array
    printed: Array
    bands: Array
    flats: Array


def proof(profile: IccProfile, rgb: Array, intent: str, on_paper: bool = True) -> Array:
    """Lab (..., 3) that encoded sRGB (..., 3) in 0..1 is printed as; absolute when seen `on_paper`, else
    relative.
    """
    flat = np.asarray(rgb, dtype=float).reshape(-1, 3)
    seen = "absolute" if on_paper else "relative"

    def part(values: Array) -> Array:
        source = onto_black(source_lab(values), profile, intent)
        return profile.device_to_lab(profile.lab_to_device(source, intent), seen)

    return np.concatenate(in_parallel(part, flat, 8192)).reshape(np.shape(rgb))


def onto_black(lab: Array, profile: IccProfile, intent: str) -> Array:
    """Media-relative Lab (n, 3) with black where the profile's intent has it, by straight scaling of XYZ, as
    a colour management module does between a source and a version 4 profile (ISO 18619).
    """
    if intent not in ("perceptual", "saturation"):
        return lab
    black = np.array([[perceptual_black(profile.version[0]), 0.0, 0.0]])
    share = float(lab_to_xyz(black)[0, 1]) / 100.0
    return xyz_to_lab(lab_to_xyz(lab) * (1.0 - share) + share * D50_WHITE)


def source_lab(rgb: Array) -> Array:
    """Media-relative Lab (n, 3) of encoded sRGB (n, 3) (IEC 61966-2-1)."""
    v = np.asarray(rgb, dtype=float)
    linear = np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
    return rgb_to_lab(linear, USUAL)


def ramps(profile: IccProfile, intent: str) -> list[RampProof]:
    """The test ramps through `intent`, each with its bands and flats."""
    share = np.linspace(0.0, 1.0, RAMP_STEPS)[:, None]
    found = []
    for name, (first, last) in _RAMPS.items():
        rgb = (1.0 - share) * np.array(first) + share * np.array(last)
        source = source_lab(rgb)
        printed = proof(profile, rgb, intent, on_paper=False)
        found.append(RampProof(name, source, printed, *_faults(source, printed)))
    return found


def _faults(source: Array, printed: Array) -> tuple[Array, Array]:
    """Masks (n,) of steps that jump and of steps that stand still."""
    step = delta_e_2000(printed[1:], printed[:-1])
    asked = delta_e_2000(source[1:], source[:-1])
    around = np.convolve(np.pad(step, _SMOOTHED // 2, mode="edge"), np.ones(_SMOOTHED) / _SMOOTHED, "valid")
    usual = float(np.median(step))
    bands = np.append(np.abs(step - around) > BAND, False)
    flats = np.append((step < FLAT * usual) & (asked > 0.25 * np.median(asked)), False)
    return bands, flats


def test_form(side: int = 96) -> Array:
    """A made-up picture (n, 2 n, 3), n = 2 `side`, of encoded sRGB 0..1: lit balls of many colours on a
    shaded ground.

    What shows faults of a rendering: smooth shading into deep shadow, saturated and pastel colours, skin,
    sky.
    """
    high, wide = 2 * side, 4 * side
    y, x = np.mgrid[0:high, 0:wide] / side
    sky = np.stack([0.55 + 0.25 * y, 0.70 + 0.13 * y, 0.92 - 0.04 * y], axis=-1)
    ground = np.stack([0.50 - 0.16 * (y - 1.1), 0.47 - 0.17 * (y - 1.1), 0.42 - 0.18 * (y - 1.1)], axis=-1)
    picture = np.where((y < 1.1)[..., None], sky, ground)
    balls = (
        (0.42, 0.62, 0.36, (0.80, 0.10, 0.12)),
        (1.15, 0.52, 0.32, (0.93, 0.72, 0.60)),
        (1.86, 0.66, 0.36, (0.10, 0.16, 0.75)),
        (2.62, 0.55, 0.34, (0.98, 0.82, 0.10)),
        (3.40, 0.64, 0.38, (0.08, 0.55, 0.22)),
        (0.72, 1.45, 0.30, (0.55, 0.33, 0.24)),
        (1.48, 1.42, 0.34, (0.60, 0.10, 0.50)),
        (2.24, 1.46, 0.34, (0.05, 0.62, 0.72)),
        (2.98, 1.44, 0.32, (0.96, 0.45, 0.08)),
        (3.62, 1.50, 0.26, (0.80, 0.80, 0.80)),
    )
    for cx, cy, radius, colour in balls:
        picture = _ball(picture, x, y, (cx, cy), radius, np.array(colour))
    return np.asarray(np.clip(picture, 0.0, 1.0))


def _ball(
    picture: Array, x: Array, y: Array, centre: tuple[float, float], radius: float, colour: Array
) -> Array:
    dx, dy = (x - centre[0]) / radius, (y - centre[1]) / radius
    inside = dx**2 + dy**2 < 1.0
    height = np.sqrt(np.maximum(1.0 - dx**2 - dy**2, 0.0))
    light = np.clip(-0.5 * dx - 0.6 * dy + 0.62 * height, 0.0, 1.0)
    shine = np.clip(-0.38 * dx - 0.46 * dy + 0.80 * height, 0.0, 1.0) ** 40
    shaded = colour * (0.04 + 0.96 * light[..., None]) + 0.7 * shine[..., None]
    shadow = np.clip(1.3 - np.hypot((dx - 0.25) / 1.25, (dy - 0.95) / 0.35), 0.0, 1.0)
    picture = picture * (1.0 - 0.55 * shadow[..., None] * ~inside[..., None])
    return np.where(inside[..., None], shaded, picture)
