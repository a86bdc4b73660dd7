"""Points spread evenly over a cube."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import Array


def sobol(channels: int, power: int, seed: int) -> Array:
    """2**power points (2**power, channels) of [0, 1): a scrambled Sobol sequence (Owen 1998), the same for a
    seed.
    """
    from scipy.stats import qmc  # a second to import: here, where it is used, and not at every start

    generator = np.random.default_rng(seed)
    return np.asarray(qmc.Sobol(channels, scramble=True, rng=generator).random_base2(power))
