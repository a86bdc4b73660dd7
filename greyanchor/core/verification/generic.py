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
#: inks, not colours of light, of these names
_INK_MADE_OF = {
    "R": (0.0, 0.95, 0.9, 0.0),
    "G": (0.8, 0.0, 0.9, 0.0),
    "B": (1.0, 0.85, 0.0, 0.0),
    "W": (0.0, 0.0, 0.0, 0.0),
}
_LIGHT, _MEDIUM = 0.35, 0.6
_WHITE = np.array([90.0, -1.0, -2.0])


def generic_lab(inks: Array, channels: tuple[str, ...]) -> Array:
    """Lab (n, 3), D50 absolute, that amounts of ink (n, channels) might measure on any printer.

    Light and medium inks count as a share of their parents, further inks as the overprints they stand for; an
    ink of no known name counts as black. Nothing is decided by this but which row of a chart was read.

    >>> generic_lab(np.zeros((1, 3)), ("R", "G", "B")).round(1).tolist()
    [[95.0, 1.5, -6.0]]
    """
    additive = channels == ("R", "G", "B")
    parts = np.zeros((len(inks), 4))
    for values, name in zip(inks.T, channels):
        weight = {"L": _LIGHT, "M": _MEDIUM}.get(name[0], 1.0) if len(name) == 2 and name != "MK" else 1.0
        ink = name[-1] if weight < 1.0 else name
        known = _MADE_OF if additive else {**_MADE_OF, **_INK_MADE_OF}
        parts += weight * values[:, None] * np.array(known.get(ink, (0.0, 0.0, 0.0, 1.0)))
    lab = aim_lab(np.clip(parts, 0.0, 1.0))
    if "W" in channels:  # white hides what was printed before it
        hides = 1.0 - np.exp(-2.5 * inks[:, channels.index("W")])
        lab = lab + (hides * (channels.index("W") > 0))[:, None] * (_WHITE - lab)
    return lab
