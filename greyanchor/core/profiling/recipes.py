"""Recipes of spot colours: the inks that print a colour nearest on one printer, and how near that is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.separation import Separation

#: dE00 from which a colour is out of reach: no ink of this printer on this media prints it
OUT_OF_REACH = 0.5
_CANDIDATES, _STEPS = 24, 40
#: dE00 that the last percent of total ink must win to be worth printing
_INK_PRICE = 0.002


@dataclass(frozen=True)
class Recipes:
    """Recipes for colours, row by row.

    Attributes
    ----------
    inks
        Ink fractions (n, channels).
    lab
        What they are predicted to print (n, 3); for colours out of reach the nearest that can be had.
    misses
        dE00 (n,) between that and what was asked for.
    """

    inks: Array
    lab: Array
    misses: Array

    @property
    def out_of_reach(self) -> Array:
        """Which colours (n,) no inks of this printer reach."""
        return self.misses > OUT_OF_REACH


def find_recipes(model: ForwardModel, separation: Separation, lab: Array, seed: int = 1) -> Recipes:
    """The inks whose predicted colour is nearest (dE00) to each absolute Lab (n, 3), inside the limits.

    Starts from the inversion that profiles use; what that misses is searched on, because its clipping holds
    hue where dE00 would give some of it up.
    """
    asked = np.asarray(lab, dtype=float).reshape(-1, 3)
    if not len(asked):
        return Recipes(np.zeros((0, len(model.channels))), np.zeros((0, 3)), np.zeros(0))
    found = Inverter(model, separation).solve(asked)
    inks = np.clip(found.device, 0.0, separation.tops(model.channels))
    misses = delta_e_2000(asked, model.lab(inks))
    far = np.flatnonzero(misses > 0.2)
    if len(far):
        inks[far] = _searched(model, separation, asked[far], inks[far], np.random.default_rng(seed))
    printed = model.lab(inks)
    return Recipes(inks, printed, delta_e_2000(asked, printed))


def _searched(
    model: ForwardModel, separation: Separation, asked: Array, inks: Array, random: np.random.Generator
) -> Array:
    """Small random steps from `inks` (n, channels), of which the nearest is taken, ever smaller."""
    n, channels = inks.shape
    tops = separation.tops(model.channels)
    sets, most = separation.sums(model.channels)

    def price(values: Array) -> Array:
        return delta_e_2000(
            np.repeat(asked, len(values) // n, axis=0), model.lab(values)
        ) + _INK_PRICE * values.sum(axis=1)

    best, cost = inks.copy(), price(inks)
    for k in range(_STEPS):
        width = 0.12 * 0.9**k + 0.001
        tried = best[:, None, :] + width * random.standard_normal((n, _CANDIDATES, channels)) * (
            random.random((n, _CANDIDATES, channels)) < 0.6
        )
        tried = np.clip(tried, 0.0, tops).reshape(-1, channels)
        tried = within_sums(tried, sets, most)
        costs = price(tried).reshape(n, _CANDIDATES)
        chosen = costs.argmin(axis=1)
        better = costs[np.arange(n), chosen] < cost
        best[better] = tried.reshape(n, _CANDIDATES, channels)[np.arange(n), chosen][better]
        cost = np.minimum(cost, costs[np.arange(n), chosen])
    return best


def within_sums(inks: Array, sets: Array, most: Array) -> Array:
    """Ink values (n, channels) brought inside the sums of `Separation.sums`: the inks of a set that is over
    its sum are taken back in one share.
    """
    held = inks
    for mask, limit in zip(sets, most):
        total = (held * mask).sum(axis=1, keepdims=True)
        share = np.where(total > limit, limit / np.maximum(total, 1e-9), 1.0)
        held = np.where(mask > 0, held * share, held)
    return np.asarray(held)
