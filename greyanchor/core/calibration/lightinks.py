"""Light inks: where the full ink takes over, found from the raw ramps of both."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np
from scipy.optimize import brentq

from greyanchor.core.calibration.light_split import LightSplit, SecondBlack, Split
from greyanchor.core.calibration.ramps import Ramp
from greyanchor.core.errors import BadInput

#: share of a light ink's reach at which the next weight joins: less grainy there than earlier or later
_EARLIEST = 0.85


def find_splits(
    ramps: Mapping[str, Ramp],
    limits: Mapping[str, float],
    light: Mapping[str, str],
    seconds: Collection[str] = (),
) -> list[Split]:
    """Splits of all inks that share, parents before those that share with them.

    `limits` are fractions by ink, `light` names each sharing ink and its parent, `seconds` are second blacks.
    The crossover of a light ink to a medium one ends before the full ink takes over from that.
    """
    made: dict[str, Split] = {}
    waiting = [name for name in light if name in ramps and light[name] in ramps]
    for name in sorted(waiting, key=lambda n: light[n] in light):
        parent = light[name]
        if name in seconds:
            made[name] = SecondBlack(parent, name, limits[parent], limits[name])
            continue
        above = made.get(parent)
        most = 1.0 if above is None else float(above.apply(np.linspace(0.0, 1.0, 2001))[0].max())
        made[name] = find_split(ramps[parent], ramps[name], limits[name], most)
    return list(made.values())


def find_split(parent: Ramp, light: Ramp, light_limit: float, parent_limit: float = 1.0) -> LightSplit:
    """The split with the longest crossover that the light ink can carry, from the two raw ramps.

    The reach is where the parent has the density of the light ink at its limit, both at the parent's
    peak. The crossover starts at 85 % of the reach and ends where the light ink just suffices.

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
    start = _EARLIEST * reach

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
