"""Several recipes of one colour: which drifts least, has least grain, least ink, fewest inks, and which
holds under another light.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from greyanchor.core.characterization.metamerism import Coloured, part_company, printed
from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.colour.illuminants import Light, light_name
from greyanchor.core.profiling.recipes import within_sums
from greyanchor.core.profiling.separation import Separation

_STARTS, _ROUNDS = 400, 18
#: ink volume by which heads and temperature differ from day to day, fraction
_DRIFT = 0.03
#: ink below which a channel prints nothing worth counting
_NOTHING = 0.01
#: recipes that differ by less than this in every ink are one
_ALIKE = 0.04
#: dE00 that recipes may lie behind the nearest one and still be offered
_BEHIND = 0.3


@dataclass(frozen=True)
class Choice:
    """One recipe.

    Attributes
    ----------
    inks
        Fractions (channels,).
    miss
        dE00 to what is asked, predicted.
    drift
        dE00 to be expected when every ink's volume wanders by 3 %, one sigma, each on its own.
    grain
        How uneven it is beside others: the standard deviation of L* that dots of its inks make of an area,
        in the mean of a large one 0.
    ink
        Sum of fractions.
    count
        Inks that it uses.
    lights
        dE00 to what is asked under other lights, by name; empty where the colour's spectrum is not known.
    best_for
        What it is the best of the choices for.
    """

    inks: tuple[float, ...]
    miss: float
    drift: float
    grain: float
    ink: float
    count: int
    lights: Mapping[str, float]
    best_for: tuple[str, ...] = ()


def choices(
    model: ForwardModel,
    separation: Separation,
    asked: Array,
    spectrum: Sequence[float] = (),
    lights: Sequence[Light] = (),
    seed: int = 1,
) -> list[Choice]:
    """Recipes that print a colour (Lab (3,), D50) equally near, and what each is the best for; the nearest
    first. One alone where the printer has one way to print it.

    From random starts all over the inks, pulled onto the colour by damped Gauss-Newton steps on the model.
    """
    wanted = np.asarray(asked, dtype=float)
    channels = len(model.channels)
    random = np.random.default_rng(seed)
    tops = separation.tops(model.channels)
    sets, most = separation.sums(model.channels)
    starts = random.random((_STARTS, channels)) * tops
    starts *= random.random((_STARTS, channels)) < 0.75  # many with some inks left out
    inks = _pulled(model, within_sums(starts, sets, most), wanted, tops, sets, most)
    miss = delta_e_2000(wanted, model.lab(inks))
    near = np.flatnonzero(miss <= miss.min() + _BEHIND)
    kept: list[int] = []
    for i in near[np.argsort(miss[near] + 0.02 * inks[near].sum(axis=1), kind="stable")]:
        if all(np.abs(inks[i] - inks[k]).max() > _ALIKE for k in kept):
            kept.append(int(i))
    held = inks[kept]
    drift, grain = _drift(model, held), _grain(model, held)
    under = _under(model, held, wanted, spectrum, lights)
    made = [
        Choice(
            tuple(float(v) for v in held[i]),
            float(miss[k]),
            float(drift[i]),
            float(grain[i]),
            float(held[i].sum()),
            int((held[i] > _NOTHING).sum()),
            {name: float(values[i]) for name, values in under.items()},
        )
        for i, k in enumerate(kept)
    ]
    return _named(made)


def _pulled(model: ForwardModel, inks: Array, wanted: Array, tops: Array, sets: Array, most: Array) -> Array:
    n, channels = inks.shape
    damping = np.full(n, 1.0)
    lab = model.lab(inks)
    error = ((lab - wanted) ** 2).sum(axis=1)
    step = 0.004
    for _ in range(_ROUNDS):
        sign = np.where(inks + step > tops, -1.0, 1.0)
        ahead = inks[:, None, :] + step * sign[:, :, None] * np.eye(channels)
        slope = model.lab(ahead.reshape(-1, channels)).reshape(n, channels, 3) - lab[:, None, :]
        slope = slope / (step * sign[:, :, None])
        # an ink at its end takes no part in a step that would carry it further
        downhill = np.einsum("nck,nk->nc", slope, wanted - lab)
        stuck = ((inks <= 0.0) & (downhill < 0)) | ((inks >= tops) & (downhill > 0))
        slope = np.where(stuck[:, :, None], 0.0, slope)
        normal = np.einsum("nck,ndk->ncd", slope, slope) + damping[:, None, None] * np.eye(channels)
        change = np.linalg.solve(normal, downhill[:, :, None] * ~stuck[:, :, None])[:, :, 0]
        tried = within_sums(np.clip(inks + change, 0.0, tops), sets, most)
        found = model.lab(tried)
        now = ((found - wanted) ** 2).sum(axis=1)
        better = now < error
        inks = np.where(better[:, None], tried, inks)
        lab = np.where(better[:, None], found, lab)
        error = np.minimum(error, now)
        damping = np.clip(np.where(better, damping * 0.4, damping * 4.0), 1e-3, 1e5)
    return inks


def _drift(model: ForwardModel, inks: Array) -> Array:
    """Root of the sum of squares of what each ink's drift does (n,)."""
    base = model.lab(inks)
    total = np.zeros(len(inks))
    for c in range(inks.shape[1]):
        moved = inks.copy()
        moved[:, c] = np.clip(moved[:, c] * (1.0 + _DRIFT), 0.0, 1.0)
        total += delta_e_2000(base, model.lab(moved)) ** 2
    return np.asarray(np.sqrt(total))


def _grain(model: ForwardModel, inks: Array) -> Array:
    """Standard deviation of L* (n,) of an area of which each ink covers its share by chance."""
    channels = inks.shape[1]
    solids = model.lab(np.eye(channels))[:, 0]
    depth = model.lab(np.zeros((1, channels)))[0, 0] - solids
    return np.asarray(np.sqrt((inks * (1.0 - np.clip(inks, 0.0, 1.0)) * depth**2).sum(axis=1)))


def _under(
    model: ForwardModel, inks: Array, wanted: Array, spectrum: Sequence[float], lights: Sequence[Light]
) -> dict[str, Array]:
    if not len(spectrum) or not lights or model.prior.predict(inks[:1]).shape[1] != len(spectrum):
        return {}
    names = [""] * len(inks)
    own = Coloured(
        tuple(names),
        np.repeat(np.array([spectrum], dtype=float), len(inks), axis=0),
        np.repeat(wanted[None], len(inks), axis=0),
    )
    found = part_company(own, printed(model, inks, names), ["D50", *lights])
    return {light_name(light): found.differences[:, i + 1] for i, light in enumerate(lights)}


def _named(made: list[Choice]) -> list[Choice]:
    """The best for each purpose, and the nearest; others are left out."""
    purposes: dict[str, list[float]] = {
        "nearest": [c.miss for c in made],
        "drifts least": [c.drift for c in made],
        "least grain": [c.grain for c in made],
        "least ink": [c.ink for c in made],
        "fewest inks": [c.count + 0.01 * c.miss for c in made],
    }
    for name in made[0].lights if made else ():
        purposes[f"holds in {name}"] = [c.lights[name] for c in made]
    best: dict[int, list[str]] = {}
    for purpose, values in purposes.items():
        best.setdefault(int(np.argmin(values)), []).append(purpose)
    order = sorted(best, key=lambda i: made[i].miss)
    return [
        Choice(
            made[i].inks,
            made[i].miss,
            made[i].drift,
            made[i].grain,
            made[i].ink,
            made[i].count,
            made[i].lights,
            tuple(best[i]),
        )
        for i in order
    ]
