"""Recipes that learn: the next recipe of a spot colour from what the last ones printed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.recipes import OUT_OF_REACH, Recipes, find_recipes
from greyanchor.core.profiling.separation import Separation

#: how near recipes must be, in even coordinates, to speak for one another
_NEAR = 0.12
#: how far a single reading is believed: the weight of "the model is right" beside it
_DOUBT = 0.25
_STEPS = 6


@dataclass(frozen=True)
class Rounds:
    """What was printed and read so far.

    Attributes
    ----------
    inks
        Ink fractions (m, channels).
    lab
        What they measured (m, 3), D50.
    """

    inks: Array
    lab: Array


@dataclass(frozen=True)
class NextRecipes:
    """The next recipe of each colour.

    Attributes
    ----------
    recipes
        With what they are expected to print, by the model and the readings.
    expected
        dE00 (n,) expected of the next print.
    verdicts
        ``better`` where another print is worth it, ``reached`` where what was read is within the noise of
        what was asked, ``out of reach`` where no ink of this printer goes further.
    """

    recipes: Recipes
    expected: Array
    verdicts: tuple[str, ...]


def corrected(model: ForwardModel, rounds: Rounds, inks: Array) -> Array:
    """Lab (n, 3) of ink values (n, channels): the model's, moved by how far it was off at readings nearby.

    A kernel mean of what was left over, in even coordinates, with the model itself as one more witness of
    weight `_DOUBT`.
    """
    if not len(rounds.inks):
        return model.lab(inks)
    off = rounds.lab - model.lab(rounds.inks)
    there, here = model.to_even(rounds.inks), model.to_even(np.asarray(inks, dtype=float))
    apart = ((here[:, None, :] - there[None, :, :]) ** 2).sum(axis=2)
    weight = np.exp(-apart / (2.0 * _NEAR**2))
    moved = weight @ off / (weight.sum(axis=1, keepdims=True) + _DOUBT)
    return np.asarray(model.lab(inks) + moved)


def next_recipes(
    model: ForwardModel,
    separation: Separation,
    asked: Array,
    last: Array,
    read: Array,
    rounds: Rounds,
    noise: float = 0.25,
) -> NextRecipes:
    """The next recipe of every colour.

    Parameters
    ----------
    asked
        Lab (n, 3) of the colours.
    last, read
        Its last recipe (n, channels), and what that measured (n, 3).
    rounds
        Every reading on this print mode that may speak for others, the last ones among them.
    noise
        dE00 within which two readings of one print differ: nothing is to be won below it.
    """
    wanted = np.asarray(asked, dtype=float)
    # a colour that the model finds no inks for is asked for where the model has it nearest
    aims = wanted.copy()
    inks = np.asarray(last, dtype=float).copy()
    best, miss = inks.copy(), delta_e_2000(wanted, corrected(model, rounds, inks))
    inverter = Inverter(model, separation)
    for _ in range(_STEPS):
        seen = corrected(model, rounds, inks)
        aims = wanted - (seen - model.lab(inks))
        tried = np.clip(inverter.solve(aims).device, 0.0, separation.tops(model.channels))
        now = delta_e_2000(wanted, corrected(model, rounds, tried))
        better = now < miss - 1e-4
        best[better], miss[better] = tried[better], now[better]
        inks = tried
    far = np.flatnonzero(miss > 0.2)
    if len(far):  # clipping holds hue where dE00 would give some of it up
        shift = corrected(model, rounds, best[far]) - model.lab(best[far])
        found = find_recipes(model, separation, wanted[far] - shift)
        now = delta_e_2000(wanted[far], corrected(model, rounds, found.inks))
        better = now < miss[far]
        best[far[better]], miss[far[better]] = found.inks[better], now[better]
    printed = corrected(model, rounds, best)
    measured = delta_e_2000(wanted, np.asarray(read, dtype=float))
    verdicts = tuple(
        "reached" if m <= noise else "better" if e < m - noise / 2 else _why_not(e)
        for m, e in zip(measured, miss)
    )
    return NextRecipes(Recipes(best, printed, miss), miss, verdicts)


def _why_not(expected: float) -> str:
    return "out of reach" if expected > OUT_OF_REACH else "reached"


def expected_reading(predicted: float, noise: float) -> float:
    """What a reading of the next print is expected to be off by.

    Parameters
    ----------
    predicted
        dE00 between the colour and what the recipe is predicted to print; 0 or more.
    noise
        dE00 of one reading of one print around its mean; 0 or more.

    Returns
    -------
    float
        dE00; the two are independent, so their squares add.
    """
    return float(np.hypot(predicted, noise))
