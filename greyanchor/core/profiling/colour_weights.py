"""How lightness, chroma and hue weigh against one another where a colour cannot be met."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour import jzazbz
from greyanchor.core.colour.colorimetry import Array

_HUE_WEIGHT = 2.6
_CHROMA_WEIGHT = 0.8


def hue_weights(lab: Array) -> Array:
    """The direction of hue is that of JzAzBz, turned by a little at `lab`, in the plane of a* and b*."""
    chroma = np.hypot(lab[:, 1], lab[:, 2])
    jab = jzazbz.from_lab(lab)
    turned = jab + 0.01 * np.column_stack([np.zeros(len(lab)), -jab[:, 2], jab[:, 1]])
    along = jzazbz.to_lab(turned)[:, 1:] - jzazbz.to_lab(jab)[:, 1:]
    length = np.linalg.norm(along, axis=1)
    plain = np.column_stack([-lab[:, 2], lab[:, 1]]) / np.maximum(chroma, 1e-9)[:, None]
    known = (length > 1e-9) & np.isfinite(length)
    along = np.where(known[:, None], along / np.maximum(length, 1e-9)[:, None], plain)
    trust = chroma / (chroma + 10.0)  # near the neutral axis hue has no meaning, so weights meet there
    wc = 1.0 + (_CHROMA_WEIGHT - 1.0) * trust
    wh = 1.0 + (_HUE_WEIGHT - 1.0) * trust
    out = np.zeros((len(lab), 3, 3))
    out[:, 0, 0] = 1.0
    out[:, 1, 1], out[:, 1, 2] = wc * along[:, 1], -wc * along[:, 0]
    out[:, 2, 1], out[:, 2, 2] = wh * along[:, 0], wh * along[:, 1]
    return out
