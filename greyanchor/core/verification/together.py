"""Two faults at once: which pair explains the differences of a check better than any one cause.

A print fault is a few free amounts: of what its inks do to film, tone and skew, or of changes of light.
Pairs are sifted by a straight fit to their derivatives, and the best of them fitted in full. A fault of
the reading (rows, sheets) is taken out of the differences first, and the rest explained by a print fault.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import combinations

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.verification.causes import Shapes

#: pairs that are fitted in full after the sifting
_FULLY = 6
_ROUNDS = 3
_NONE = np.zeros((0, 12))
#: what one amount does to film, tone and skew (3, 4 channels, 12)
ALONE = np.eye(12).reshape(3, 4, 12)


@dataclass(frozen=True)
class Fault:
    """One print fault as a model of differences.

    Attributes
    ----------
    key, channel
        As of a `diagnosis.Cause`.
    mixing
        What its amounts do to film, tone and skew of C, M, Y and K (k, 12).
    light
        Changes of Lab by its further amounts (j, 3n).
    """

    key: str
    channel: str = ""
    mixing: Array = field(default_factory=lambda: _NONE)
    light: Array | None = None


@dataclass(frozen=True)
class Fit:
    """Faults fitted together: the changes (3n,) that each makes, what they leave (3n,), and their amounts."""

    faults: tuple[Fault, ...]
    changes: tuple[Array, ...]
    left: Array
    amounts: Array


def faults_of(shapes: Shapes) -> list[Fault]:
    """The print faults that may come in pairs."""
    return [
        Fault("paper", light=shapes.paper),
        Fault("condition", light=shapes.brightener[None]),
        Fault("white", light=shapes.white[None]),
        *(Fault("channel", c, ALONE[:, i]) for i, c in enumerate("CMYK")),
        Fault("dot gain", mixing=ALONE.sum(axis=1)),
        Fault("grey balance", mixing=ALONE[1, :3]),
    ]


def best_pairs(delta: Array, shapes: Shapes) -> list[Fit]:
    """The pairs of print faults that leave least of differences (3n,), whatever a few patches do besides."""
    steep = np.array([shapes.inked(e) for e in np.eye(12)])
    faults = faults_of(shapes)
    slopes = [np.vstack([f.mixing @ steep, *([] if f.light is None else [f.light])]) for f in faults]
    sifted = []
    for a, b in combinations(range(len(faults)), 2):
        _, left = straight(delta, np.vstack([slopes[a], slopes[b]]))
        sifted.append((float(np.abs(left).sum()), a, b))
    return [fit(delta, shapes, (faults[a], faults[b])) for _, a, b in sorted(sifted)[:_FULLY]]


def straight(delta: Array, shapes: Array) -> tuple[Array, Array]:
    """Amounts of shapes (k, 3n) that explain differences (3n,) best, and what is left."""
    weight = np.ones_like(delta)
    for _ in range(4):
        amounts = np.linalg.lstsq((shapes * weight).T, delta * weight, rcond=1e-6)[0]
        left = delta - amounts @ shapes
        weight = weights(left)
    return amounts, left


def weights(left: Array) -> Array:
    """Weights (3n,) that keep patches which nothing explains from deciding (Huber)."""
    size = np.linalg.norm(left.reshape(-1, 3), axis=1)
    limit = max(0.6, 2.0 * 1.4826 * float(np.median(size)))
    return np.repeat(np.sqrt(np.minimum(1.0, limit / np.maximum(size, 1e-9))), 3)


def fit(delta: Array, shapes: Shapes, faults: tuple[Fault, ...]) -> Fit:
    """Faults fitted together to differences (3n,) by Gauss-Newton."""
    mixing = np.vstack([f.mixing for f in faults])
    light = np.vstack([np.zeros((0, len(delta))), *(f.light for f in faults if f.light is not None)])
    inks = len(mixing)
    amounts, weight = np.zeros(inks + len(light)), np.ones_like(delta)
    now = bare = np.zeros_like(delta)
    for _ in range(_ROUNDS):
        steep = [shapes.inked((amounts[:inks] + e) @ mixing) - bare for e in np.eye(inks)]
        slopes = np.vstack([np.zeros((0, len(delta))), *steep, light])
        step = np.linalg.lstsq((slopes * weight).T, (delta - now) * weight, rcond=1e-6)[0]
        amounts = np.clip(amounts + step, -45.0, 45.0)
        bare = shapes.inked(amounts[:inks] @ mixing)
        now = bare + amounts[inks:] @ light
        weight = weights(delta - now)
    changes, at, lit = [], 0, inks
    for fault in faults:
        change = shapes.inked(amounts[at : at + len(fault.mixing)] @ fault.mixing)
        at += len(fault.mixing)
        if fault.light is not None:
            change = change + amounts[lit : lit + len(fault.light)] @ fault.light
            lit += len(fault.light)
        changes.append(change)
    return Fit(faults, tuple(changes), delta - now, amounts)
