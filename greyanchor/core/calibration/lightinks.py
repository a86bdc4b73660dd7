"""Light inks: where the full ink takes over, found from the raw ramps of both."""

from __future__ import annotations

import numpy as np
from scipy.optimize import brentq

from greyanchor.core.calibration.light_split import LightSplit
from greyanchor.core.calibration.ramps import Ramp
from greyanchor.core.errors import BadInput


def find_split(parent: Ramp, light: Ramp, light_limit: float, parent_limit: float = 1.0) -> LightSplit:
    """The split with the longest crossover that the light ink can carry, from the two raw ramps.

    The reach is where the parent has the density of the light ink at its limit, both at the parent's
    peak. The crossover starts at 60 % of the reach and ends where the light ink just suffices.

    Raises `BadInput` for a light ink that is no lighter one of `parent`.
    """
    wanted = float(np.interp(light_limit, light.inputs, light.density)) - float(light.density[0])
    gained = np.maximum.accumulate(parent.density - parent.density[0])
    if wanted <= 0.02 or wanted >= gained[-1]:
        raise BadInput(
            f"{light.channel} is no lighter ink of {parent.channel}: its density over paper is "
            f"{wanted:.2f}, {parent.channel} reaches {gained[-1]:.2f}"
        )
    reach = float(np.interp(wanted, gained, parent.inputs))
    start = 0.6 * reach

    def too_much(end: float) -> float:
        value = np.linspace(0.0, 1.0, 2001)
        t = np.clip((value - start) / (end - start), 0.0, 1.0)
        return float((value * (1.0 - t**3 * (10.0 - 15.0 * t + 6.0 * t**2))).max()) - reach

    top = min(parent_limit, 1.0)
    end = top if too_much(top) <= 0 else float(brentq(too_much, start + 1e-3, top))
    return LightSplit(
        parent.channel,
        light.channel,
        round(reach, 4),
        round(light_limit, 4),
        round(start, 4),
        round(end - 2e-4, 4),
    )
