"""What goes wrong on a sheet that takes too much ink, and what it looks like.

Every fault grows with the ink and depends on heat, vacuum, passes and media in its own way, so that
the answer to one is not the answer to another. The picture is for the eye alone: no figure is read from it.
"""

from __future__ import annotations

import numpy as np
from scipy.ndimage import gaussian_filter

from greyanchor.core.colour.colorimetry import Array, lab_to_srgb, spectra_to_lab
from greyanchor.core.simulation.press import SimulatedPress

FAULTS = ("bleed", "coalescence", "haze", "cockling", "slow drying", "scuffing")
#: size of a patch in the picture, rows and columns: three fill a loupe of 600 pixels
PATCH = (144, 192)
#: pixels in a hundred and fiftieth of an inch
_FINE = 2


def severity(press: SimulatedPress, device: Array) -> dict[str, Array]:
    """How bad each fault is on patches of raw device values (n, channels): 0 for none, seen from about 0.15
    on, 1 for ruin.
    """
    volume = press.printed_volume(device)
    environment, media = press.environment, press.media
    load = np.maximum(
        volume.max(axis=1) / press.capacity, volume.sum(axis=1) / (media.total_capacity * press.capacity)
    )
    warm = (environment.heat - media.best_heat) / 10.0
    hurry = float(np.log2(8.0 / environment.passes))
    loose = (50.0 - environment.vacuum) / 50.0
    absorbent = media.spread - 1.0
    onsets = {
        "bleed": 1.00 + 0.10 * warm - 0.10 * hurry - 0.15 * absorbent,
        "coalescence": 0.98 + 0.06 * warm - 0.14 * hurry + 0.30 * absorbent,
        "haze": 1.12 - 0.16 * warm,
        "cockling": 1.02 - 0.45 * max(loose, 0.0) - 0.10 * max(warm, 0.0) + 0.20 * (1.0 - media.spread),
        "slow drying": 0.96 + 0.14 * warm - 0.06 * hurry,
        "scuffing": 1.16 + 0.08 * warm - 0.25 * max(-loose, 0.0),
    }
    return {name: np.clip((load - onset) / 0.45, 0.0, 1.0) for name, onset in onsets.items()}


def picture(press: SimulatedPress, device: Array, seed: int = 1) -> Array:
    """Patches side by side as a person sees them under the loupe: sRGB bytes (144, n * 192, 3).

    Each patch carries a thin unprinted line, which bleed closes.
    """
    bad = severity(press, device)
    colour = lab_to_srgb(spectra_to_lab(press.spectra(device)))
    paper = lab_to_srgb(spectra_to_lab(press.spectra(np.zeros((1, device.shape[1])))))[0]
    random = np.random.default_rng([seed, 23])
    patches = [
        _patch(colour[i], paper, {name: float(values[i]) for name, values in bad.items()}, random)
        for i in range(len(device))
    ]
    return np.asarray(np.round(np.concatenate(patches, axis=1) * 255.0), dtype=np.uint8)


def _patch(colour: Array, paper: Array, bad: dict[str, float], random: np.random.Generator) -> Array:
    tall, wide = PATCH
    ink = np.zeros((tall, wide))
    edge, line = 6 * _FINE, 5 * _FINE
    ink[edge:-edge, edge:-edge] = 1.0
    middle = tall // 2
    ink[middle - line // 2 : middle + line // 2, 14 * _FINE : -14 * _FINE] = 0.0
    ragged = 1.2 * bad["bleed"] * _grain(random, 1.5)
    ink = gaussian_filter(ink, (0.4 + 4.5 * bad["bleed"]) * _FINE) + ragged * (ink > 0.02)
    ink = np.clip(ink * (1.0 + 1.3 * bad["coalescence"] * _grain(random, 1.6)), 0.0, 1.15)
    out = paper * (1.0 - ink[..., None]) + colour * ink[..., None]
    fog = 0.34 * bad["haze"] * np.clip(ink, 0.0, 1.0)
    out = out * (1.0 - fog[..., None]) + 0.78 * fog[..., None]
    x, y = np.meshgrid(np.linspace(0.0, 1.0, wide), np.linspace(0.0, 1.0, tall))
    wave = np.sin(2.0 * np.pi * (2.2 * x + 0.6 * y + random.random()))
    out = out * (1.0 + 0.30 * bad["cockling"] * wave[..., None])
    shine = np.exp(-(((x - 0.3) / 0.16) ** 2) - ((y - 0.3) / 0.22) ** 2)
    out = out + 0.40 * bad["slow drying"] * (shine * np.clip(ink, 0.0, 1.0))[..., None]
    for _ in range(round(9 * bad["scuffing"])):
        row = int(random.integers(8 * _FINE, tall - 8 * _FINE))
        left = int(random.integers(4 * _FINE, wide // 2))
        mark = np.s_[row : row + _FINE, left : left + int(random.integers(14 * _FINE, wide // 2))]
        out[mark] = 0.35 * out[mark] + 0.65 * paper
    return np.clip(out, 0.0, 1.0)


def _grain(random: np.random.Generator, size: float) -> Array:
    """Noise with spots of a size, in the picture's own detail, as strong whatever that detail."""
    return gaussian_filter(random.standard_normal(PATCH), size * _FINE) * _FINE
