"""What a chart's patches should measure, learned from the rows that were read before: for a printer of which
nothing else is known.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.expectation import Expectation

#: fewest patches that are learned from
FEWEST = 60
#: how far apart device values may be to say something of one another, and what reading scatters by, Lab
_LENGTH, _NOISE = 0.8, 0.5
#: a median spread above this (Lab) is still no more than a guess
_STILL_ROUGH = 5.0
#: a row that the others explain this many times worse than they explain one another is not learned from
_ODD = 2.0
_MEDIAN = 1.54  # of the length of three normal values


def learn_rows(
    guess: Expectation, device: Array, seen: Sequence[tuple[npt.NDArray[np.int64], Array]]
) -> Expectation:
    """A guess after rows were read: Gaussian-process regression on device values (Matérn 5/2 kernel) of what
    a smooth map of the guess leaves. Rows that the others contradict are not learned from.

    Parameters
    ----------
    guess
        An expectation of any printer at all, for all n patches of a chart.
    device
        Device values (n, channels), fractions.
    seen
        For each row that was kept, the places (m,) of its patches and their Lab (m, 3).

    Returns
    -------
    Expectation
        With the standard deviation that the regression states, as far as it held for patches left out; a
        smooth map of the guess where too little was read.
    """
    rows = list(seen)
    if not rows:
        return guess
    found = guess.bent(np.concatenate([p for p, _ in rows]), np.vstack([lab for _, lab in rows]))
    while sum(len(places) for places, _ in rows) >= FEWEST:
        found, odd = _learned(guess, device, rows)
        worst = int(np.argmax(odd))
        if len(rows) < 4 or odd[worst] <= _ODD * float(np.median(odd)):
            break
        rows.pop(worst)
    return found


def _learned(
    guess: Expectation, device: Array, rows: Sequence[tuple[npt.NDArray[np.int64], Array]]
) -> tuple[Expectation, Array]:
    """The expectation, and for each row how far the others are from explaining it, in what they state."""
    places, lab = np.concatenate([p for p, _ in rows]), np.vstack([v for _, v in rows])
    base = guess.bent(places, lab)
    left, known = lab - base.lab[places], device[places]
    scale = max(float(np.median((left**2).sum(axis=1))) / _MEDIAN, _NOISE**2)
    inverse = np.linalg.inv(scale * _kernel(known, known) + _NOISE**2 * np.eye(len(known)))
    weights = inverse @ left
    alone = weights / np.diag(inverse)[:, None]  # each patch less what the others say of it
    stated = np.sqrt(1.0 / np.diag(inverse))
    held = float(np.median(np.linalg.norm(alone, axis=1) / stated)) / _MEDIAN
    across = scale * _kernel(device, known)
    variance = np.maximum(scale - np.einsum("ij,ij->i", across @ inverse, across), 0.0) + _NOISE**2
    spread = np.sqrt(variance) * max(1.25 * held, 0.6)
    found = Expectation(
        base.lab + across @ weights,
        spread,
        guess.slopes,
        guess.scales,
        "the rows of this pass",
        rough=bool(np.median(spread) > _STILL_ROUGH),
    )
    return found, _odd(inverse, weights, [len(p) for p, _ in rows])


def _odd(inverse: Array, weights: Array, sizes: Sequence[int]) -> Array:
    """For each row the root mean square of what the other rows do not explain of it."""
    out, at = [], 0
    for size in sizes:
        part = slice(at, at + size)
        left = np.linalg.solve(inverse[part, part], weights[part])
        out.append(float(np.sqrt((left**2).sum(axis=1).mean())))
        at += size
    return np.array(out)


def _kernel(a: Array, b: Array) -> Array:
    squares = (a**2).sum(axis=1)[:, None] + (b**2).sum(axis=1)[None] - 2.0 * (a @ b.T)
    d = np.sqrt(5.0 * np.maximum(squares, 0.0)) / _LENGTH
    return np.asarray((1.0 + d + d * d / 3.0) * np.exp(-d))
