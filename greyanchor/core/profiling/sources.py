"""Source gamuts that perceptual and saturation renderings make room for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from greyanchor.core.colour import jzazbz
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.rgb_spaces import rgb_to_lab
from greyanchor.core.formats.icc import IccProfile
from greyanchor.core.profiling.shell import surface_inks


def source_points(source: str | IccProfile, steps: int = 21) -> Array:
    """JzAzBz (n, 3), media-relative, over the surface of a source: a named RGB space or a profile's gamut."""
    if isinstance(source, str):
        cube = surface_inks(3, 3.0, np.ones(3), None, steps)
        return jzazbz.from_lab(rgb_to_lab(cube**2.2, source))
    to_lab: Callable[[Array], Array] = lambda inks: source.device_to_lab(inks, "relative")  # noqa: E731
    return jzazbz.from_lab(
        to_lab(surface_inks(source.channels, float(source.channels), np.ones(source.channels), None, 13))
    )
