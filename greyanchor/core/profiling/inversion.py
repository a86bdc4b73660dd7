"""Inversion of the forward model at many colours at once, for any number of inks.

A damped Gauss-Newton step for all points together: residuals are lightness, chroma and hue
differences, soft pulls of the inks to their aims, and a hinge on total ink. Coordinates are the
model's even ones, bounded to 0 and each ink's limit. The steps are taken on the compact model; what
that misses is then taken out against the model itself. Pulls only choose among inks that print the
same colour: in the last rounds each point is anchored where it stands, so that the colour is met.
Outside the gamut lightness and chroma give way before hue does.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from greyanchor.core.characterization.compact import CompactModel, compact
from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import in_parallel
from greyanchor.core.profiling.colour_weights import hue_weights
from greyanchor.core.profiling.separation import Separation, black_of

_BLACK_PULL = 4.0
_ANCHOR_PULL = 1.0
#: with more than four inks: pull to little ink, and of further inks away from neutral colours
_SHARED_PULL, _AWAY_PULL = 2.0, 12.0
#: a further ink takes part in colours whose hue is this near its own (radians)
_REACH_OF_HUE = np.radians(85.0)
_TOTAL_PULL = 400.0
#: away from the neutral axis black gives way before other inks come to their limit, or all to the total:
#: what stands at a limit turns with an edge, which a table cannot follow. How near (even coordinates, sum of
#: inks), and how firmly
_NEAR_TOP, _NEAR_TOTAL = 0.6, 1.0
_TOP_PULL, _SUM_PULL = 5.0, 4.0
#: full at this chroma and this much darker than where black begins; where it has not begun, only this share
#: of the distance, in colours darker than that
_FROM_CHROMA, _PAST_START = 10.0, 0.2
_BEFORE_START, _BEFORE_FROM = 0.5, 0.4
#: colours missed by less than this by the compact model (weighted Lab) are worth taking to the model itself
_WITHIN_REACH = 0.5
#: how far steps are held back at first; from a good start hardly, so that black moves among inks that print
#: alike
_DAMPED, _BARELY_DAMPED = 0.03, 1e-5
#: black of a start is taken to its aim, except where both are this far apart (even coordinate): there the aim
#: turns faster than nodes can follow
_STEEP = 0.06
#: a step that wins less than this outside the gamut (root of the cost) is the last
_NO_GAIN = 0.01
#: pull of black, and of inks that are at their limit, to where the edge of the gamut left them, beyond that
#: edge; of all others, and how much more for each unit that a colour lies beyond it (weighted Lab), at most
_BLACK_BEYOND, _BEYOND_PULL, _BEYOND_FAR, _BEYOND_MOST = 20.0, 4.0, 20.0, 200.0
#: in full from this chroma on: greyer colours have little hue to keep
_VIVID = 50.0
#: how far below its limit a sum of some inks is held
_PAIR_MARGIN = 0.035
_PART = 3000
_NET = 4096
#: colours of the net that are weighed for another start where there are more inks than a colour needs
_NEAREST = 48


@dataclass(frozen=True)
class Inversion:
    """Solutions: `even` and `device` (n, channels), and `error` (n,), the weighted colour miss that
    remains.
    """

    even: Array
    device: Array
    error: Array


@dataclass
class _Points:
    """Colours being solved: aims (n, 3), their weights (n, 3, 3), ink aims (n, channels) and their pulls,
    alike; by how much coordinates may leave their bounds, and how far (n,) from them black gives way, as a
    share of what is usual.
    """

    lab: Array
    weights: Array
    anchor: Array
    pull: Array
    room: float = 0.0
    early: Array | None = None

    def part(self, which: Array | slice) -> _Points:
        """Some of the points."""
        return replace(
            self,
            lab=self.lab[which],
            weights=self.weights[which],
            anchor=self.anchor[which],
            pull=self.pull[which],
            early=None if self.early is None else self.early[which],
        )


class Inverter:
    """Turns Lab into amounts of ink through one model and one separation."""

    def __init__(
        self,
        model: ForwardModel,
        separation: Separation,
        margin: float = 0.004,
        quick: CompactModel | None = None,
    ) -> None:
        self.model = model
        self.separation = separation
        self.channels = len(model.channels)
        self.black = black_of(model.channels)
        bound = separation.total_ink < self.channels  # else the sum needs no watching
        self.total = separation.total_ink * (1.0 - margin) if bound else float(self.channels)
        self.quick = quick or compact(model, min(separation.total_ink * 1.05, float(self.channels)))
        self.tops = separation.tops(model.channels)
        self._sets, self._most = separation.sums(model.channels)
        # tables go straight between nodes, and further beyond a pair's sum than beyond the sum of all
        margins = np.where(np.arange(len(self._most)) > 0, _PAIR_MARGIN, margin)
        self._most = np.where(self._most < self._sets.sum(axis=1), self._most * (1.0 - margins), self._most)
        self._even_tops = model.to_even(self.tops[None])[0]
        self._even_tops[self.tops >= 1.0] = 1.0
        self.white = model.lab(np.zeros((1, self.channels)))[0]
        self._places, self._labs = self._lookup()
        self._tree = cKDTree(self._keys(self._labs, self._places))
        self._by_colour = cKDTree(self._labs)
        self.darkest = float(self._labs[:, 0].min())

    def _pulls(self, lab: Array) -> Array:
        """Weight (n, channels) of each ink's pull: black to its aim, and with more than four inks all to
        little.

        Squared pulls share a colour smoothly among neighbours, and what is pulled less takes over more: near
        the
        neutral axis that is C, M and Y, and the further inks where there is chroma enough for them.
        """
        pull = np.zeros((len(lab), self.channels))
        if self.channels > 4:
            handover = self.separation.handover_of(self.model.channels[4:])
            chroma = np.hypot(lab[:, 1] - self.white[1], lab[:, 2] - self.white[2])
            beyond = chroma[:, None] - self.separation.from_chroma
            share = np.clip(beyond / (75.0 - 45.0 * handover), 0.0, 1.0)
            share = share * share * (3.0 - 2.0 * share) * self._nearness(lab)
            pull[:, :4] = _SHARED_PULL
            pull[:, 4:] = _AWAY_PULL * (1.0 - share) + _SHARED_PULL * 4.0 ** (1.0 - 2.0 * handover) * share
        if self.black is not None:
            pull[:, self.black] = _BLACK_PULL
        return pull

    def _early(self, lab: Array) -> Array:
        """How far (n,) before a limit black gives way, as a share of what is usual: not near the neutral
        axis, whose black is as asked for, and hardly in tones that are to be free of black.
        """
        chroma = np.hypot(lab[:, 1] - self.white[1], lab[:, 2] - self.white[2])
        darkness = (self.white[0] - lab[:, 0]) / max(float(self.white[0]) - self.darkest, 1.0)
        away = np.clip(chroma / _FROM_CHROMA, 0.0, 1.0)
        past = np.clip((darkness - self.separation.black_start) / _PAST_START, 0.0, 1.0)
        before = _BEFORE_START * np.clip((darkness - _BEFORE_FROM) / _PAST_START, 0.0, 1.0)
        return np.asarray(away**2 * (3.0 - 2.0 * away) * np.maximum(past, before))

    def _nearness(self, lab: Array) -> Array:
        """How near (n, further inks) the hue of each colour lies to that of each further ink: 1 at it, 0 far
        off.
        """
        solids = self.model.lab(np.eye(self.channels)[4:])
        hue, own = np.arctan2(lab[:, 2], lab[:, 1]), np.arctan2(solids[:, 2], solids[:, 1])
        away = np.abs((hue[:, None] - own[None] + np.pi) % (2.0 * np.pi) - np.pi)
        return np.asarray(np.clip(1.0 - (away / _REACH_OF_HUE) ** 2, 0.0, 1.0) ** 2)

    def _lookup(self) -> tuple[Array, Array]:
        """A coarse net of the device space within the limits, in even coordinates, with its Lab."""
        net = self._net() * self._even_tops
        device = self.model.to_device(net)
        even = self.model.to_even(self.held(device))
        return even, self.quick.lab(even)

    def _net(self) -> Array:
        first = min(self.channels, 4)
        axes = [np.linspace(0.0, 1.0, {1: 257, 2: 65, 3: 17, 4: 9}[first])] * first
        lattice = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, first)
        if self.channels <= 4:
            return lattice
        random = sobol(self.channels, int(np.log2(_NET)), 8)
        random = np.clip(1.4 * random - 0.2, 0.0, 1.0)  # walls and corners as well
        extra = random.copy()
        extra[:, 4:] *= extra[:, 4:] == extra[:, 4:].max(axis=1, keepdims=True)
        plain = np.pad(lattice, ((0, 0), (0, self.channels - 4)))
        return np.vstack([extra, plain])

    def _keys(self, lab: Array, even: Array) -> Array:
        if self.black is None:
            return lab
        return np.column_stack([lab, 35.0 * even[:, self.black]])

    def aims(self, lab: Array) -> Array:
        """Ink aims (n, channels), in even coordinates, for absolute Lab (n, 3): black by the separation, else
        none.
        """
        aim = np.zeros((len(lab), self.channels))
        if self.black is not None:
            chroma = np.hypot(lab[:, 1] - self.white[1], lab[:, 2] - self.white[2])
            aim[:, self.black] = self.separation.black_aim(
                lab[:, 0], chroma, float(self.white[0]), self.darkest
            )
            aim[:, self.black] = self.model.to_even(aim)[:, self.black]
        return aim

    def solve(self, lab: Array, start: Array | None = None, rounds: int = 14, settle: int = 4) -> Inversion:
        """Ink for absolute Lab (n, 3); `start` (n, channels) are even coordinates to begin from.

        `rounds` steps with the pulls, then `settle` steps anchored. With up to four inks a start has its
        black already, and keeps to it: `rounds` steps anchored.
        """
        empty = np.zeros((0, self.channels))
        places = np.arange(len(lab))

        def part(which: Array) -> tuple[Array, Array]:
            return self._solve(lab[which], None if start is None else start[which], rounds, settle)

        found = in_parallel(part, places, _PART) if len(lab) else [(empty, np.zeros(0))]
        even, error = np.concatenate([f[0] for f in found]), np.concatenate([f[1] for f in found])
        return Inversion(even, self.held(self.model.to_device(even)), error)

    def beyond(self, lab: Array, edge: Array, room: float) -> Array:
        """Even coordinates (n, channels) that would print absolute Lab (n, 3) if inks could go below nothing
        and above their limits by `room`, every ink as straight as it was at its bound.

        `edge` (n, channels) are the nearest coordinates that can be printed. Between one of these and a
        colour inside the gamut a table interpolates true; what it prints is held to the bounds afterwards.
        Inks that have come to their limit go on beyond it; the others stay where they are, the more so the
        farther out a colour lies: one just outside keeps its hue when what is beyond the limit is cut off.
        """

        def part(which: Array) -> Array:
            at = edge[which]
            missed = self.model.lab(self.model.to_device(at)) - self.quick.lab(at)
            aim, weights = lab[which] - missed, self._weights(lab[which])
            out = np.linalg.norm(weights @ (self.quick.lab(at) - aim)[:, :, None], axis=1)
            vivid = np.clip(np.hypot(aim[:, 1], aim[:, 2]) / _VIVID, 0.0, 1.0)[:, None] ** 2
            pull = np.minimum(_BEYOND_PULL + _BEYOND_FAR * vivid * out, _BEYOND_MOST) * np.ones(at.shape)
            pull[at > self._even_tops - 1e-3] = _BEYOND_PULL
            if self.black is not None:
                pull[:, self.black] = np.maximum(pull[:, self.black], _BLACK_BEYOND)
            return self._descend(_Points(aim, weights, at, pull, room), at, 6)[0]

        if not len(lab):
            return np.zeros((0, self.channels))
        found = np.concatenate(in_parallel(part, np.arange(len(lab)), _PART))
        return self._within_sums(found) if len(self._sets) > 1 else found

    def _within_sums(self, even: Array) -> Array:
        """Coordinates (n, channels) beyond the bounds that still keep to the sums of some inks."""
        device = self.model.to_device(np.clip(even, 0.0, self._even_tops))
        too_much = (device @ self._sets[1:].T > self._most[1:]).any(axis=1)
        out = even.copy()
        out[too_much] = self.model.to_even(self.held(device[too_much]))
        return out

    def _solve(self, lab: Array, start: Array | None, rounds: int, settle: int) -> tuple[Array, Array]:
        aims = self.aims(lab)
        points = asked = _Points(lab, self._weights(lab), aims, self._pulls(lab), early=self._early(lab))
        even = self._begin(points) if start is None else start.copy()
        even = np.clip(even, 0.0, self._even_tops)
        if start is None or self.channels > 4:
            even, _ = self._descend(points, even, rounds if self.channels <= 4 else rounds + 4)
        anchor = even.copy()
        if start is not None and self.channels <= 4 and self.black is not None:
            apart = aims[:, self.black] - even[:, self.black]
            free = np.zeros(len(lab)) if asked.early is None else 1.0 - asked.early
            anchor[:, self.black] += free * apart / (1.0 + (apart / _STEEP) ** 2)
        points = _Points(lab, points.weights, anchor, np.minimum(points.pull, _ANCHOR_PULL))
        if start is None or self.channels > 4:
            even, error = self._descend(points, even, settle)
        else:
            even, error = self._descend(points, even, rounds, _BARELY_DAMPED)
        if start is None:
            self._try_again(asked, points, even, error)
        self._to_the_model(points, even, error)
        return even, error

    def _begin(self, points: _Points) -> Array:
        """Even coordinates (n, channels) of the net to begin from: near in colour and in what black is asked
        for; with many inks near in colour and in what all of them are asked for.
        """
        if self.channels <= 4:
            return self._places[self._tree.query(self._keys(points.lab, points.anchor))[1]]
        return self._places[self._most_as_asked(points, _NEAREST)]

    def _most_as_asked(self, points: _Points, count: int) -> Array:
        """Of the `count` colours of the net nearest to each point, the one (n,) that costs least there."""
        distance, near = self._by_colour.query(points.lab, list(range(1, 1 + count)))
        pulled = (points.pull[:, None] * (self._places[near] - points.anchor[:, None])) ** 2
        best = (distance**2 + pulled.sum(axis=2)).argmin(axis=1)
        return np.asarray(near[np.arange(len(near)), best])

    def _try_again(self, asked: _Points, points: _Points, even: Array, error: Array) -> None:
        """Begin again where the first way got stuck: at the nearest colour of the net, with many inks at
        the one among the nearest whose inks are most as `asked` for.
        """
        stuck = np.flatnonzero((error > 0.2) & (error < 8.0))
        if not len(stuck):
            return
        nearest = 1 if self.channels <= 4 else _NEAREST
        start = self._places[self._most_as_asked(asked.part(stuck), nearest)]
        part = replace(points.part(stuck), anchor=start)
        other, other_error = self._descend(part, start, 8)
        better = other_error < error[stuck] - 0.1
        even[stuck[better]], error[stuck[better]] = other[better], other_error[better]

    def _to_the_model(self, points: _Points, even: Array, error: Array) -> None:
        """Take out what the compact model misses at colours within reach; `even` and `error` change in
        place.
        """
        near = np.flatnonzero(error < _WITHIN_REACH)
        if not len(near):
            return
        missed = self.model.lab(self.model.to_device(even[near])) - self.quick.lab(even[near])
        part = replace(points.part(near), lab=points.lab[near] - missed, anchor=even[near].copy())
        even[near], error[near] = self._descend(part, even[near], 2)

    def _descend(
        self, points: _Points, even: Array, rounds: int, damped: float = _DAMPED
    ) -> tuple[Array, Array]:
        """Even coordinates (n, channels) after `rounds` steps, and the weighted miss (n,) that is left."""
        even = even.copy()
        low, high = -points.room, self._even_tops + points.room
        miss, cost, gradient, normal = self._normal(points, even, slice(None))
        damping = np.full(len(even), damped)
        active, rest = np.arange(len(even)), np.zeros(len(even), dtype=int)
        for _ in range(rounds):
            step = _step(gradient[active], normal[active], even[active], low, high, damping[active])
            trial = np.clip(even[active] + step, low, high)
            new_miss, new_cost, new_gradient, new_normal = self._normal(points, trial, active)
            better = new_cost < cost[active]
            moved = np.abs(trial - even[active]).max(axis=1)
            gain = np.sqrt(cost[active]) - np.sqrt(new_cost)
            taken = active[better]
            even[taken], cost[taken], miss[taken] = trial[better], new_cost[better], new_miss[better]
            gradient[taken], normal[taken] = new_gradient[better], new_normal[better]
            damping[active] = np.where(better, damping[active] * 0.25, np.minimum(damping[active] * 6.0, 1e4))
            outside = better & (gain < _NO_GAIN) & (new_miss > 1.0) & (moved < 0.03)
            # a coordinate held at its bound may come free one step later, so rest twice before leaving
            rest[active] = np.where((better & (moved < 0.003)) | (moved < 1e-5), rest[active] + 1, 0)
            active = active[~((rest[active] > 1) | outside)]
            if not len(active):
                break
        return even, miss

    def _normal(
        self, points: _Points, even: Array, which: Array | slice
    ) -> tuple[Array, Array, Array, Array]:
        """Colour miss (n,), cost (n,), gradient (n, channels) and normal matrix (n, channels, channels)."""
        got, slope = self.quick.continued(even) if points.room else self.quick.lab_with_gradient(even)
        weights = points.weights[which]
        missed = (weights @ (got - points.lab[which])[:, :, None])[:, :, 0]
        by_colour = weights @ np.swapaxes(slope, 1, 2)
        pull = points.pull[which]
        away = pull * (even - points.anchor[which])
        device, device_slope = self.model.to_device_with_slope(even)
        colour = (missed**2).sum(axis=1)
        cost = colour + (away**2).sum(axis=1)
        across = np.swapaxes(by_colour, 1, 2)
        gradient = (across @ missed[:, :, None])[:, :, 0] + pull * away
        normal = across @ by_colour
        for inks, most in zip(self._sets, self._most):
            over = _TOTAL_PULL * np.maximum(device @ inks - most, 0.0)
            held = np.flatnonzero(over)
            if len(held):
                by_sum = _TOTAL_PULL * device_slope[held] * inks
                cost[held] += over[held] ** 2
                gradient[held] += by_sum * over[held, None]
                normal[held] += by_sum[:, :, None] * by_sum[:, None, :]
        diagonal = np.einsum("njj->nj", normal)
        diagonal += pull**2
        if points.early is not None:
            part = self._before_limits(points.early[which], even, device, device_slope)
            cost, gradient = cost + part[0], gradient + part[1]
            normal += part[2]
        return np.sqrt(colour), cost, gradient, normal

    def _before_limits(
        self, early: Array, even: Array, device: Array, device_slope: Array
    ) -> tuple[Array, Array, Array]:
        """Cost, gradient and normal matrix of inks that come near their limits, shaped like those of
        `_normal`.
        """
        near = np.maximum(even - self._even_tops + _NEAR_TOP * early[:, None], 0.0)
        near[early == 0.0] = 0.0
        if self.black is not None:
            near[:, self.black] = 0.0
        full = np.maximum(device.sum(axis=1) - self.total + _NEAR_TOTAL * early, 0.0)
        full[early == 0.0] = 0.0
        by_full = np.where(full[:, None] > 0, device_slope, 0.0)
        cost = _TOP_PULL**2 * (near**2).sum(axis=1) + _SUM_PULL**2 * full**2
        gradient = _TOP_PULL**2 * near + _SUM_PULL**2 * by_full * full[:, None]
        normal = _SUM_PULL**2 * by_full[:, :, None] * by_full[:, None, :]
        diagonal = np.einsum("njj->nj", normal)
        diagonal += _TOP_PULL**2 * (near > 0)
        return cost, gradient, normal

    def held(self, device: Array) -> Array:
        """Device values with their sums held: inks other than black give way evenly, and black only when
        alone too much.
        """
        for inks, most in zip(self._sets, self._most):
            over = np.maximum(device @ inks - most, 0.0)
            colours = [i for i in range(self.channels) if i != self.black and inks[i]]
            sums = device[:, colours].sum(axis=1)
            device[:, colours] *= (1.0 - np.minimum(over / np.maximum(sums, 1e-9), 1.0))[:, None]
        return device

    def _weights(self, lab: Array) -> Array:
        """Matrices (n, 3, 3) that turn a Lab difference into weighted lightness, chroma and hue parts at
        `lab`.
        """
        if self.channels == 1:
            only_light = np.zeros((len(lab), 3, 3))
            only_light[:, 0, 0] = 1.0
            return only_light
        return hue_weights(lab)


def _step(gradient: Array, normal: Array, even: Array, low: float, high: Array, damping: Array) -> Array:
    """One damped step (n, channels); coordinates that would leave their bounds are held."""
    held = ((even <= low + 1e-9) & (gradient > 0)) | ((even >= high - 1e-9) & (gradient < 0))
    damped = normal.copy()
    diagonal = np.einsum("njj->nj", damped)
    diagonal += damping[:, None] * (diagonal + 1.0)
    free = ~held
    damped *= free[:, :, None] * free[:, None, :]
    every = np.arange(even.shape[1])
    damped[:, every, every] += held
    return -np.linalg.solve(damped, (gradient * free)[:, :, None])[:, :, 0]
