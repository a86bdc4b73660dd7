"""The kernel of the smooth residual at many places at once, compiled: it is most of what a profile costs.

One channel's factor is a function of one distance, and a polynomial of it is exact to single precision; a
compiler turns the loops over it into a few instructions a pair.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numba import njit
from numpy.polynomial import chebyshev

from greyanchor.core.colour.colorimetry import Array

_ROOT5 = float(np.sqrt(5.0))
#: how near the polynomial is to the factor; its degree
NEAR, _DEGREE = 1e-9, 16


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _times(value, here, row, powers, inverse):  # type: ignore[no-untyped-def]
    """Multiply `value` (m,) by the polynomial of the distance of `here` to each of `row` (m,)."""
    a, b, c, d, e, f, g, h, i, j, k, l, m, n, o, p, q = powers
    for at in range(value.shape[0]):
        r = abs(here - row[at]) * inverse - 1.0
        low = a + r * (b + r * (c + r * (d + r * (e + r * (f + r * (g + r * h))))))
        high = i + r * (j + r * (k + r * (l + r * (m + r * (n + r * (o + r * (p + r * q)))))))
        r4 = (r * r) * (r * r)
        value[at] *= low + r4 * r4 * high


@njit(cache=True, nogil=True, fastmath=True)
def _mixed(  # type: ignore[no-untyped-def]
    at, places, weights, powers, inverse, sums, sum_powers, sum_inverse, out
):
    """Sums (n, k) into `out` of weights (k, m) times the product over columns of a polynomial of distance.

    The polynomial is written out, as a loop over its powers would keep the one over places from being
    turned into vectors. `sums` are those of the places, and their factor has a polynomial of its own; its
    `sum_inverse` is 0 where they do not count.
    """
    m = places.shape[1]
    value = np.empty(m, dtype=np.float64)
    for i in range(at.shape[0]):
        value[:] = 1.0
        for column in range(places.shape[0]):
            _times(value, at[i, column], places[column], powers, inverse)
        if sum_inverse > 0.0:
            _times(value, at[i].sum(), sums, sum_powers, sum_inverse)
        for k in range(weights.shape[0]):
            total = 0.0
            row = weights[k]
            for j in range(m):
                total += value[j] * row[j]
            out[i, k] = total


@lru_cache(maxsize=64)
def _polynomial(
    scale: float, share: float, far: float, squared: bool
) -> tuple[tuple[float, ...], float, float]:
    """Powers of (distance * inverse - 1) that make up a factor on distances 0..`far`, `inverse`, and how near
    they come to it. `scale` is what a distance counts; squared exponential, or Matern 5/2.
    """
    r = scale * far * 0.5 * (1.0 + np.cos(np.pi * (np.arange(400) + 0.5) / 400))
    fall = np.exp(-0.5 * r * r) if squared else np.exp(-r) * (1.0 + r + r * r / 3.0)
    wanted = (share * fall + 1.0) / (1.0 + share)
    x = 2.0 * r / (scale * far) - 1.0
    found = chebyshev.chebfit(x, wanted, _DEGREE)
    near = float(np.abs(chebyshev.chebval(x, found) - wanted).max())
    return tuple(float(v) for v in chebyshev.cheb2poly(found)), 2.0 / far, near


def mixed(
    at: Array, places: Array, weights: Array, length: float, share: float, whole: float = 0.0
) -> Array | None:
    """Kernel of inputs (n, channels) and places (m, channels), times weights (m, k): (n, k); `whole` is how
    far their sums count. None where the kernel is too short for the polynomial.
    """
    low, high = np.minimum(at.min(axis=0), places.min(axis=0)), np.maximum(at.max(axis=0), places.max(axis=0))
    far = float(np.ceil(4.0 * max(float((high - low).max()), 1.0)) / 4.0)
    powers, inverse, near = _polynomial(_ROOT5 / length, share, far, False)
    far_sum = float(np.ceil(max(float((high - low).sum()), 1.0)))
    in_sums, inverse_sums, near_sums = (
        _polynomial(whole, share, far_sum, True) if whole else (powers, 0.0, 0.0)
    )
    if max(near, near_sums) > NEAR:
        return None
    out = np.empty((len(at), weights.shape[1]))
    _mixed(
        np.ascontiguousarray(at, dtype=np.float64),
        np.ascontiguousarray(places.T, dtype=np.float64),
        np.ascontiguousarray(weights.T),
        powers,
        inverse,
        np.ascontiguousarray(places.sum(axis=1)),
        in_sums,
        inverse_sums,
        out,
    )
    return out
