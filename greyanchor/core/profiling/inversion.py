"""Inversion of the forward model at many colours at once.

A damped Gauss-Newton step for all points together: residuals are lightness, chroma and hue
differences, a soft pull of black to its aim, and a hinge on total ink. Coordinates are the model's
even ones, bounded to 0..1. In gamut the colour is met exactly; outside, the weights let lightness
and chroma give way before hue does.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colorimetry import Array
from greyanchor.core.profiling.separation import Separation

_HUE_WEIGHT = 2.2
_CHROMA_WEIGHT = 0.8
_BLACK_PULL = 4.0
_TOTAL_PULL = 400.0
_BLACK = 3


@dataclass(frozen=True)
class Inversion:
    """Solutions: `even` and `device` (n, channels), and `error` (n,), the weighted colour miss that remains."""

    even: Array
    device: Array
    error: Array


class Inverter:
    """Turns Lab into device values through one model and one separation."""

    def __init__(self, model: ForwardModel, separation: Separation, margin: float = 0.004) -> None:
        self.model = model
        self.separation = separation
        self.total = separation.total_ink * (1.0 - margin)
        self.white = model.lab(np.zeros((1, 4)))[0]
        self._places, self._labs = self._lookup()
        self._tree = cKDTree(np.column_stack([self._labs, 35.0 * self._places[:, _BLACK]]))
        self.darkest = float(self._labs[:, 0].min())

    def _lookup(self) -> tuple[Array, Array]:
        """A coarse net of the device space under total ink, with its Lab."""
        levels = np.linspace(0.0, 1.0, 9)
        black = np.linspace(0.0, 1.0, 7)
        net = np.stack(np.meshgrid(levels, levels, levels, black, indexing="ij"), axis=-1).reshape(-1, 4)
        device = self.model.to_device(net)
        device[:, _BLACK] = np.minimum(device[:, _BLACK], self.separation.max_black)
        sums = device.sum(axis=1)
        over = sums > self.total
        colours = device[over, :3].sum(axis=1)
        room = np.maximum(self.total - device[over, _BLACK], 0.0)
        device[over, :3] *= (room / np.maximum(colours, 1e-9))[:, None]
        return self.model.to_even(device), self.model.lab(device)

    def black_aim(self, lab: Array) -> Array:
        """Black aimed at (n,), in even coordinates, for absolute Lab (n, 3)."""
        chroma = np.hypot(lab[:, 1] - self.white[1], lab[:, 2] - self.white[2])
        aim = self.separation.black_aim(lab[:, 0], chroma, float(self.white[0]), self.darkest)
        device = np.zeros((len(aim), 4))
        device[:, _BLACK] = aim
        return self.model.to_even(device)[:, _BLACK]

    def solve(
        self, lab: Array, start: Array | None = None, rounds: int = 14, tolerance: float = 0.01
    ) -> Inversion:
        """Device values for absolute Lab (n, 3); `start` (n, 4) are even coordinates to begin from."""
        black = self.black_aim(lab)
        even = (
            self._places[self._tree.query(np.column_stack([lab, 35.0 * black]))[1]]
            if start is None
            else start.copy()
        )
        top = np.ones(4)
        top[_BLACK] = self.model.to_even(np.array([[0.0, 0.0, 0.0, self.separation.max_black]]))[0, _BLACK]
        damping = np.full(len(lab), 0.03)
        residual, jacobian = self._residual(even, lab, black)
        cost = (residual**2).sum(axis=1)
        active = np.arange(len(lab))
        rest = np.zeros(len(lab), dtype=int)
        for _ in range(rounds):
            if not len(active):
                break
            step = _step(residual[active], jacobian[active], even[active], top, damping[active])
            trial = np.clip(even[active] + step, 0.0, top)
            new_residual, new_jacobian = self._residual(trial, lab[active], black[active])
            new_cost = (new_residual**2).sum(axis=1)
            better = new_cost < cost[active]
            taken = active[better]
            moved = np.abs(trial - even[active]).max(axis=1)
            gain = np.sqrt(cost[active]) - np.sqrt(new_cost)
            even[taken], cost[taken] = trial[better], new_cost[better]
            residual[taken], jacobian[taken] = new_residual[better], new_jacobian[better]
            damping[active] = np.where(better, damping[active] * 0.25, np.minimum(damping[active] * 6.0, 1e4))
            outside = (better & (gain < tolerance) & (new_cost > 4.0)) & (moved < 0.03)
            # a coordinate held at its bound may come free one step later, so rest twice before leaving
            rest[active] = np.where((better & (moved < 0.003)) | (moved < 1e-5), rest[active] + 1, 0)
            done = (rest[active] > 1) | outside
            active = active[~done]
        device = self._hold_total(self.model.to_device(even))
        return Inversion(even, device, np.linalg.norm(residual[:, :3], axis=1))

    def _hold_total(self, device: Array) -> Array:
        over = np.maximum(device.sum(axis=1) - self.total, 0.0)
        colours = device[:, :3].sum(axis=1)
        device[:, :3] *= (1.0 - over / np.maximum(colours, 1e-9))[:, None]
        return device

    def _residual(self, even: Array, lab: Array, black: Array) -> tuple[Array, Array]:
        """Weighted residuals (n, 5) and their gradient by even coordinates (n, 5, 4)."""
        device = self.model.to_device(even)
        got, by_device = self.model.lab_with_gradient(device)
        slope = 1.0 / np.maximum(self.model._even_slope(device), 1e-3)
        by_even = by_device * slope[:, :, None]
        weights = _lch_weights(lab)
        residual = np.empty((len(even), 5))
        jacobian = np.zeros((len(even), 5, 4))
        residual[:, :3] = (weights @ (got - lab)[:, :, None])[:, :, 0]
        jacobian[:, :3] = weights @ np.swapaxes(by_even, 1, 2)
        residual[:, 3] = _BLACK_PULL * (even[:, _BLACK] - black)
        jacobian[:, 3, _BLACK] = _BLACK_PULL
        over = device.sum(axis=1) - self.total
        residual[:, 4] = _TOTAL_PULL * np.maximum(over, 0.0)
        jacobian[:, 4] = np.where(over[:, None] > 0, _TOTAL_PULL * slope, 0.0)
        return residual, jacobian


def _lch_weights(lab: Array) -> Array:
    """Rotation (n, 3, 3) of a Lab difference into weighted lightness, chroma and hue parts at `lab`."""
    chroma = np.hypot(lab[:, 1], lab[:, 2])
    hue = np.arctan2(lab[:, 2], lab[:, 1])
    cos, sin = np.cos(hue), np.sin(hue)
    trust = chroma / (chroma + 10.0)  # near the neutral axis hue has no meaning, so weights meet there
    wc = 1.0 + (_CHROMA_WEIGHT - 1.0) * trust
    wh = 1.0 + (_HUE_WEIGHT - 1.0) * trust
    out = np.zeros((len(lab), 3, 3))
    out[:, 0, 0] = 1.0
    out[:, 1, 1], out[:, 1, 2] = wc * cos, wc * sin
    out[:, 2, 1], out[:, 2, 2] = -wh * sin, wh * cos
    return out


def _step(residual: Array, jacobian: Array, even: Array, top: Array, damping: Array) -> Array:
    """One damped step (n, 4); coordinates that would leave their bounds are held."""
    across = np.swapaxes(jacobian, 1, 2)
    gradient = (across @ residual[:, :, None])[:, :, 0]
    normal = across @ jacobian
    held = ((even <= 1e-9) & (gradient > 0)) | ((even >= top - 1e-9) & (gradient < 0))
    diagonal = np.einsum("njj->nj", normal)
    diagonal += damping[:, None] * (diagonal + 1.0)
    free = ~held
    normal *= free[:, :, None] * free[:, None, :]
    normal[:, range(4), range(4)] += held
    return -np.linalg.solve(normal, (gradient * free)[:, :, None])[:, :, 0]
