"""A quick stand-in for a forward model: one Chebyshev polynomial in even coordinates.

The Gauss-Newton inversion asks for a colour and its gradient millions of times; a polynomial of a
few hundred terms answers within about 0.1 Lab at a fiftieth of the cost. What it misses is taken
out afterwards against the model itself.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import in_parallel

#: total degree of the polynomial by number of channels
DEGREES = {1: 12, 2: 10, 3: 9, 4: 7, 5: 6, 6: 5, 7: 5, 8: 4}


@dataclass(frozen=True)
class CompactModel:
    """A polynomial of total degree `degree`; the channels are halved so that a value is two small products.

    Attributes
    ----------
    degree
        Largest sum of powers.
    first, second
        Powers (p, a) and (q, b) of the two halves of the channels, a + b channels.
    coefficients
        Shape (p, 3 * q), single precision, which is far finer than the fit; zero where the powers of both
        halves exceed the degree.
    """

    degree: int
    first: Array
    second: Array
    coefficients: Array

    def lab(self, even: Array) -> Array:
        """Lab (n, 3) at even coordinates (n, channels)."""
        return np.concatenate(in_parallel(self._lab, even, 1024)) if len(even) else np.zeros((0, 3))

    def _lab(self, even: Array) -> Array:
        split = self.first.shape[1]
        even = even.astype(np.float32)
        a = _values(even[:, :split], self.first, self.degree)
        b = _values(even[:, split:], self.second, self.degree)
        return _contract(a @ self.coefficients, b)

    def lab_with_gradient(self, even: Array) -> tuple[Array, Array]:
        """Lab (n, 3) and d Lab / d even (n, channels, 3)."""
        parts = in_parallel(self._with_gradient, even, 1024)
        return np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])

    def continued(self, even: Array) -> tuple[Array, Array]:
        """The same where coordinates may leave 0..1: colours go on as straight as they left."""
        inside = np.clip(even, 0.0, 1.0)
        lab, gradient = self.lab_with_gradient(inside)
        return lab + np.einsum("nc,nck->nk", even - inside, gradient), gradient

    def _with_gradient(self, even: Array) -> tuple[Array, Array]:
        split = self.first.shape[1]
        even = even.astype(np.float32)
        a, da = _products(even[:, :split], self.first, self.degree)
        b, db = _products(even[:, split:], self.second, self.degree)
        mixed = a @ self.coefficients
        gradient = np.empty((len(even), even.shape[1], 3))
        for c in range(even.shape[1]):
            gradient[:, c] = (
                _contract(da[c] @ self.coefficients, b) if c < split else _contract(mixed, db[c - split])
            )
        return _contract(mixed, b), gradient


def compact(model: ForwardModel, total_ink: float) -> CompactModel:
    """Fit the polynomial to `model` where no more than `total_ink` (sum of fractions) is printed."""
    channels = len(model.channels)
    degree = DEGREES[channels]
    split = (channels + 1) // 2
    first, second = _powers(split, degree), _powers(channels - split, degree)
    pairs = [
        (i, j)
        for i, j in itertools.product(range(len(first)), range(len(second)))
        if first[i].sum() + second[j].sum() <= degree
    ]
    even = prints(model, total_ink, max(4 * len(pairs), 400))
    a = _values(even[:, :split], first, degree)
    b = _values(even[:, split:], second, degree)
    rows, columns = np.array(pairs).T
    basis = a[:, rows] * b[:, columns]
    gram = basis.T @ basis
    gram[np.diag_indices_from(gram)] += 1e-6 * len(even)
    solved = np.linalg.solve(gram, basis.T @ model.lab(model.to_device(even)))
    coefficients = np.zeros((len(first), 3, len(second)), dtype=np.float32)
    coefficients[rows, :, columns] = solved
    return CompactModel(degree, first, second, coefficients.reshape(len(first), -1))


def prints(model: ForwardModel, total_ink: float, count: int) -> Array:
    """Even coordinates (`count` or more, channels) where prints lie, denser at the walls, thinned where
    ink sums to more than `total_ink` (fractions).

    With more than four inks most prints hold a few of them, and light ones little of each.
    """
    channels = len(model.channels)
    random = sobol(channels, int(np.ceil(np.log2(count))), 4)
    even = 0.5 - 0.5 * np.cos(np.pi * random)
    if channels > 4:
        chance = np.random.default_rng(5)
        kept = chance.integers(2, channels, len(even))[:, None]
        rank = chance.random(even.shape).argsort(axis=1)
        even = np.where(rank < kept, even, 0.0) * chance.uniform(0.1, 1.0, (len(even), 1)) ** 0.5
    device = model.to_device(even)
    sums = device.sum(axis=1)
    room = total_ink * np.random.default_rng(6).uniform(0.75, 1.02, len(sums))
    device *= np.minimum(room / np.maximum(sums, 1e-9), 1.0)[:, None]
    return np.vstack([model.to_even(device), np.zeros((1, channels))])


def _powers(channels: int, degree: int) -> Array:
    if channels == 0:
        return np.zeros((1, 0), dtype=int)
    return np.array([p for p in itertools.product(range(degree + 1), repeat=channels) if sum(p) <= degree])


def _values(even: Array, powers: Array, degree: int) -> Array:
    """Products of Chebyshev polynomials (n, len(powers)) at even coordinates (n, channels)."""
    n, channels = even.shape
    if channels == 0:
        return np.ones((n, 1), dtype=even.dtype)
    u = 2.0 * even.T - 1.0
    value = np.empty((degree + 1, channels, n), dtype=even.dtype)
    value[0], value[1] = 1.0, u
    for k in range(2, degree + 1):
        value[k] = 2.0 * u * value[k - 1] - value[k - 2]
    return np.asarray(np.multiply.reduce([value[powers[:, c], c] for c in range(channels)]).T)


def _products(even: Array, powers: Array, degree: int) -> tuple[Array, list[Array]]:
    """Products of Chebyshev polynomials (n, len(powers)) and their gradients by each channel."""
    n, channels = even.shape
    if channels == 0:
        return np.ones((n, 1), dtype=even.dtype), []
    u = 2.0 * even - 1.0
    value = np.empty((degree + 1, channels, n), dtype=even.dtype)
    slope = np.empty_like(value)
    value[0], slope[0] = 1.0, 0.0
    value[1], slope[1] = u.T, 2.0
    for k in range(2, degree + 1):
        value[k] = 2.0 * u.T * value[k - 1] - value[k - 2]
        slope[k] = 4.0 * value[k - 1] + 2.0 * u.T * slope[k - 1] - slope[k - 2]
    tables = [value[powers[:, c], c] for c in range(channels)]
    product = np.multiply.reduce(tables)
    gradients = []
    for c in range(channels):
        others = [slope[powers[:, c], c], *(t for i, t in enumerate(tables) if i != c)]
        gradients.append(np.multiply.reduce(others).T)
    return product.T, gradients


def _contract(mixed: Array, b: Array) -> Array:
    return np.einsum("nkq,nq->nk", mixed.reshape(len(b), 3, -1), b)
