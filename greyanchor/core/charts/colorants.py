"""Inks by name: what files call them, and about what they look like."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import Array

#: what files call a channel
NAMES = {
    "C": "Cyan",
    "M": "Magenta",
    "Y": "Yellow",
    "K": "Black",
    "R": "Red",
    "G": "Green",
    "B": "Blue",
    "O": "Orange",
    "V": "Violet",
    "LC": "Light Cyan",
    "LM": "Light Magenta",
    "LY": "Light Yellow",
    "LK": "Light Black",
    "MK": "Matt Black",
}
#: about the same in C M Y K, for readers that do not have the ink
_LOOKS = {
    "C": (1.0, 0.0, 0.0, 0.0),
    "M": (0.0, 1.0, 0.0, 0.0),
    "Y": (0.0, 0.0, 1.0, 0.0),
    "K": (0.0, 0.0, 0.0, 1.0),
    "R": (0.0, 0.95, 0.9, 0.0),
    "G": (0.85, 0.0, 0.95, 0.0),
    "B": (1.0, 0.85, 0.0, 0.0),
    "O": (0.0, 0.55, 1.0, 0.0),
    "V": (0.8, 0.95, 0.0, 0.0),
    "LC": (0.35, 0.0, 0.0, 0.0),
    "LM": (0.0, 0.35, 0.0, 0.0),
    "LY": (0.0, 0.0, 0.35, 0.0),
    "LK": (0.0, 0.0, 0.0, 0.4),
    "MK": (0.0, 0.0, 0.0, 1.0),
}
_UNKNOWN = (0.0, 0.0, 0.0, 0.5)


def name_of(channel: str) -> str:
    """What files call a channel; a name of its own stays as it is."""
    return NAMES.get(channel, channel)


def looks(channels: tuple[str, ...]) -> Array:
    """About what each ink looks like in C M Y K (n, 4), fractions."""
    return np.array([_LOOKS.get(c, _UNKNOWN) for c in channels])


def overprinted(channels: tuple[str, ...]) -> Array:
    """About what every overprint of full inks looks like in C M Y K (2, .., 2, 4), one axis an ink.

    Layers of one process ink let through what each lets through.
    """
    seen = np.zeros((2,) * len(channels) + (4,))
    through = 1.0 - looks(channels)
    for corner in np.ndindex(*seen.shape[:-1]):
        on = np.flatnonzero(corner)
        seen[corner] = 1.0 - through[on].prod(axis=0) if len(on) else 0.0
    return seen
