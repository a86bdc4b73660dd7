"""Which patches would teach a model most: those it is least sure of, one after another."""

from __future__ import annotations

import numpy as np
from scipy.linalg import cho_factor, cho_solve

from greyanchor.core.characterization import residual
from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.characterization.shared_inks import InksOnMedia
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import one_thread

#: a model whose residual is very smooth still looks around at this length
_LONGEST = 1.0
_POOL_POWER = 11


@one_thread
def most_helpful(model: ForwardModel, count: int, total_ink: float, seed: int = 5) -> tuple[Array, Array]:
    """`count` ink amounts (count, channels) within `total_ink` (sum), and how unsure (count,) the model
    is there.

    Greedy: the place with the largest posterior variance of the residual, relative to its signal and to
    how well the eye says colours there, then the next with that one known.

    Raises `BadInput` for a model without a residual, or a `count` outside 1..500.
    """
    if model.remainder is None:
        raise BadInput("a model without a residual proposes no patches")
    if not 1 <= count <= 500:
        raise BadInput(f"{count} patches cannot be proposed; ask for 1 to 500")
    # what was learned with other media says nothing of where this one was read
    surface = model.corrections[0] if isinstance(model.prior, InksOnMedia) else model.remainder
    length, known, whole = min(surface.length, _LONGEST), surface.places, surface.whole
    pool = _pool(model, total_ink, seed)
    features = model.features(pool)
    matrix = residual.kernel(known, known, length, whole)
    matrix[np.diag_indices_from(matrix)] += surface.noise
    factor = cho_factor(matrix, lower=True, overwrite_a=True)
    across = residual.kernel(features, known, length, whole)
    covariance = residual.kernel(features, features, length, whole) - across @ cho_solve(factor, across.T)
    lab = model.lab(pool)
    eye = 1.0 / (1.0 + 0.045 * np.hypot(lab[:, 1], lab[:, 2]))
    chosen, unsure = [], []
    for _ in range(min(count, len(pool))):
        variance = np.maximum(np.diagonal(covariance), 0.0)
        best = int(np.argmax(variance * eye))
        chosen.append(best)
        unsure.append(float(np.sqrt(variance[best])))
        column = covariance[:, best]
        covariance = covariance - np.outer(column, column) / (column[best] + surface.noise)
    return np.round(pool[chosen], 3), np.array(unsure)


def _pool(model: ForwardModel, total_ink: float, seed: int) -> Array:
    channels = len(model.channels)
    pool = sobol(channels, _POOL_POWER, seed)
    pool = np.clip(1.2 * pool - 0.1, 0.0, 1.0)  # walls as well
    sums = pool.sum(axis=1)
    return np.asarray(pool * np.minimum(total_ink / np.maximum(sums, 1e-9), 1.0)[:, None])
