"""Separation: how much of the grey component black takes over, and within which ink."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colorimetry import Array
from greyanchor.core.errors import BadInput


@dataclass(frozen=True)
class Separation:
    """Black generation and ink limits; all fractions.

    Attributes
    ----------
    total_ink
        Largest sum of channels (3.0 = 300 %).
    black_start
        Darkness along the neutral axis, from white 0 to black 1, at which black begins.
    black_strength
        How soon black takes over: 0 late and thin, 1 early and heavy.
    max_black
        Largest black.
    width
        CIELAB chroma over which black fades out away from the neutral axis, relative to 40.
    """

    total_ink: float = 3.0
    black_start: float = 0.25
    black_strength: float = 0.5
    max_black: float = 1.0
    width: float = 1.0

    def __post_init__(self) -> None:
        for name, low, high in (
            ("total_ink", 1.0, 4.0),
            ("black_start", 0.0, 0.95),
            ("black_strength", 0.0, 1.0),
            ("max_black", 0.0, 1.0),
            ("width", 0.1, 3.0),
        ):
            value = getattr(self, name)
            if not low <= value <= high:
                raise BadInput(
                    f"{name.replace('_', ' ')} {100 * value:g} % lies outside {100 * low:g}..{100 * high:g} %"
                )

    def black_aim(self, lightness: Array, chroma: Array, white: float, darkest: float) -> Array:
        """Black (n,) to aim at for absolute lightness and chroma (n,); the solver is drawn gently to it.

        Along the neutral axis a smooth power of darkness past the start; fading with chroma as a bell.
        """
        darkness = np.clip((white - lightness) / max(white - darkest, 1.0), 0.0, 1.0)
        rise = np.clip((darkness - self.black_start) / (1.0 - self.black_start), 0.0, 1.0)
        power = 3.2 - 2.2 * self.black_strength
        fade = np.exp(-0.5 * (chroma / (28.0 * self.width)) ** 2)
        return np.asarray(self.max_black * rise**power * (0.12 + 0.88 * fade))
