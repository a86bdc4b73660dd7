"""What any printer prints, more or less: a guess where nothing of a printer is known yet."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.verification.generic_aims import aim_lab

#: how further inks and colours of light are made up of C, M, Y and K
_MADE_OF = {
    "C": (1.0, 0.0, 0.0, 0.0),
    "M": (0.0, 1.0, 0.0, 0.0),
    "Y": (0.0, 0.0, 1.0, 0.0),
    "K": (0.0, 0.0, 0.0, 1.0),
    "R": (1.0, 0.0, 0.0, 0.0),
    "G": (0.0, 1.0, 0.0, 0.0),
    "B": (0.0, 0.0, 1.0, 0.0),
    "O": (0.0, 0.6, 0.9, 0.0),
    "V": (0.8, 0.9, 0.0, 0.0),
}
_GREEN_INK = (0.8, 0.0, 0.9, 0.0)
_LIGHT = 0.35


def generic_lab(inks: Array, channels: tuple[str, ...]) -> Array:
    """Lab (n, 3), D50 absolute, that amounts of ink (n, channels) might measure on any printer.

    Light inks count as a third of their parents, further inks as the overprints they stand for; an ink of no
    known name counts as black. Nothing is decided by this but which row of a chart was read.

    >>> generic_lab(np.zeros((1, 3)), ("R", "G", "B")).round(1).tolist()
    [[95.0, 1.5, -6.0]]
    """
    additive = channels == ("R", "G", "B")
    parts = np.zeros((len(inks), 4))
    for values, name in zip(inks.T, channels):
        light = len(name) == 2 and name[0] == "L"
        made = _MADE_OF.get(name[-1] if light else name, (0.0, 0.0, 0.0, 1.0))
        if name == "G" and not additive:
            made = _GREEN_INK
        parts += (_LIGHT if light else 1.0) * values[:, None] * np.array(made)
    return aim_lab(np.clip(parts, 0.0, 1.0))
