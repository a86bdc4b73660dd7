"""The six tables and the gamut tag of an output profile, for one to eight channels."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import product

import numpy as np
from scipy.interpolate import PchipInterpolator

from greyanchor.core.characterization.compact import prints
from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.formats.icc_tables import Lut, encode_lab, interpolate_grid
from greyanchor.core.measurement.readings import GREY, as_inks
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.rendering import Rendering
from greyanchor.core.profiling.shell import surface_inks

Progress = Callable[[float, str], None]
_CURVE = 2048
#: points of the curves from a B2A table's nodes to device values; no ink and all ink fall on points whose
#: codes are whole numbers, so that what should be nothing is nothing
_OUT_CURVE, _OUT_LOW, _OUT_HIGH = 257 * 15 + 1, 420, 3435
#: how far the nodes of a B2A table may leave the bounds of an ink, in even coordinates
_ROOM = _OUT_LOW / (_OUT_HIGH - _OUT_LOW)
#: 65280, the code of L* 100, falls exactly on a point of the curve
_PCS_CURVE = 257 * 15 + 1
#: nodes missed by more than this (Lab) are outside the gamut; steps along an ink to look at its surface
_INSIDE, _SURFACE_STEPS = 0.3, 33
#: nodes farther out than this (share of the gamut's radius) are taken from the coarse grid
_FAR = 1.7
#: how far the nodes follow the reach of the two sides of an axis: 0 for the same number on each
_LEAN = 0.6
#: prints, and points along each channel, at which bends of colour are looked for; and what is added, as a
#: share of their mean, so that no part of an axis is left without nodes
_BENDS_AT, _BEND_POINTS, _LEAST_BEND = 256, 33, 1.0
#: nodes a side by number of channels: device to PCS (colorimetric, the other intents)
_FORWARD = {1: (255, 255), 2: (65, 33), 3: (33, 25), 4: (21, 15), 5: (9, 7), 6: (7, 5), 7: (6, 4), 8: (5, 4)}
#: nodes along each channel of the colorimetric table, C M Y, K and further ones, where the version allows a
#: number for each: further inks are never printed all at once
_EXACT = {5: (11, 9, 9), 6: (9, 8, 7), 7: (8, 6, 5), 8: (6, 5, 4)}


_DRAFT = {1: 33, 2: 17, 3: 13, 4: 9, 5: 6, 6: 5, 7: 4, 8: 3}


@dataclass(frozen=True)
class TableSizes:
    """Nodes a side: device to PCS (colorimetric, other intents), PCS to device (the same), and the gamut
    tag. `exact` are those of each channel, device to PCS, where they are not alike (version 4).
    """

    forward: int = 17
    forward_rendered: int = 17
    backward: int = 41
    rendered: int = 25
    gamut: int = 18
    exact: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        for name in ("backward", "rendered", "gamut"):
            object.__setattr__(self, name, exact_side(getattr(self, name)))

    @classmethod
    def usual(cls, channels: int, version: int = 2) -> TableSizes:
        """Sizes that keep a file usable whatever the number of channels."""
        forward, rendered = _FORWARD[channels]
        made = cls(
            forward, rendered, *((33, 33, 10) if channels == 1 else (41, 35 if channels <= 4 else 31, 18))
        )
        if version < 4 or channels not in _EXACT:
            return made
        colour, black, further = _EXACT[channels]
        return replace(made, exact=(*[colour] * 3, black, *[further] * (channels - 4)))

    @classmethod
    def draft(cls, channels: int = 4) -> TableSizes:
        """Small tables for a quick look; not for production."""
        return cls(_DRAFT[channels], _DRAFT[channels], 19, 16, 10)


def exact_side(side: int) -> int:
    """The nearest number of nodes, `side` or more, on whose axis zero a* and b* can lie exactly.

    Nodes stand at codes of 16 bits; inside an axis only some of them are whole numbers. Near the middle there
    must be one, else paper white would fall beside its node and print a trace of ink.

    >>> [exact_side(n) for n in (9, 17, 25, 35, 41)]
    [11, 18, 26, 35, 41]
    """
    while not _whole_nodes(side):
        side += 1
    return side


def _whole_nodes(side: int) -> list[int]:
    """Nodes in the middle fifth of an axis of `side` nodes whose position is a whole number of 16 bits."""
    last = side - 1
    inside = range(-(-2 * last // 5), 3 * last // 5 + 1)
    return [k for k in inside if 65535 * k % last == 0]


@dataclass(frozen=True)
class PcsAxes:
    """Where the nodes of a B2A grid stand: most of them where the printer has colours.

    Attributes
    ----------
    low, high
        The a* and b* that the printer reaches, (2,) each; nodes stand close between, wide outside.
    """

    low: Array
    high: Array
    dark: float = 2.0

    def zero(self, side: int, axis: int) -> float:
        """Grid position 0..1 of zero a* (`axis` 0) or b* (1) on an axis of `side` nodes: that of the exact
        node which shares the nodes best between the two sides.
        """
        below, above = self._reach(axis)
        wanted = 0.5 + 0.5 * (below - above) / (below + above) * _LEAN
        nodes = np.array(_whole_nodes(side), dtype=float) / (side - 1)
        return float(nodes[np.argmin(np.abs(nodes - wanted))])

    def _reach(self, axis: int) -> tuple[float, float]:
        return (
            float(np.clip(6.0 - self.low[axis], 24.0, 110.0)),
            float(np.clip(6.0 + self.high[axis], 24.0, 110.0)),
        )

    def values(self, u: Array, axis: int, side: int) -> Array:
        """a* (`axis` 0) or b* (1) at grid positions `u` (n,) in 0..1 of an axis of `side` nodes."""
        zero = self.zero(side, axis)
        reach = self._reach(axis)
        below = -_side(np.maximum(zero - u, 0.0) / zero, reach[0])
        above = _side(np.maximum(u - zero, 0.0) / (1.0 - zero), reach[1])
        return np.where(u < zero, below, above)

    def nodes(self, side: int, count: int | None = None) -> Array:
        """PCS Lab (n, 3) at the nodes of a grid behind `curves`, n = `side`^3, lightness slowest.

        With `count` that many nodes a side, evenly over the same axes.
        """
        u = np.linspace(0.0, 1.0, count or side)
        axes = (_lightness(u, self.dark), self.values(u, 0, side), self.values(u, 1, side))
        return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)

    def curves(self, side: int) -> list[Array]:
        """Input curves of a B2A table of `side` nodes: lightness straight, a* and b* as `values` inverted.

        Zero a* and b* (code 0x8000) and the points of the curve on both sides of it fall exactly on a node.

        Three curves (n,), fractions.
        """
        code = np.linspace(0.0, 1.0, _PCS_CURVE)
        lightness = np.clip(code * 65535.0 / 65280.0, 0.0, 1.0)
        ab = code * 65535.0 / 256.0 - 128.0
        fine = np.linspace(0.0, 1.0, 16385)
        lightness = np.interp(100.0 * lightness, _lightness(fine, self.dark), fine)
        out = [lightness, *(np.interp(ab, self.values(fine, i, side), fine) for i in (0, 1))]
        beside = int(np.searchsorted(ab, 0.0))
        for i in (0, 1):
            out[i + 1][beside - 1 : beside + 1] = self.zero(side, i)
        return out


#: how dense nodes stand at the darkest print, as a share of an even spread
_DARK = 0.4
#: share of the nodes' axis of lightness that lies below what the printer reaches
_BELOW = 0.06


def _lightness(u: Array, dark: float) -> Array:
    """L* at grid positions `u` (n,) in 0..1: nodes stand wide below L* `dark` and close above it, where inks
    turn fastest.
    """
    t = np.clip((u - _BELOW) / (1.0 - _BELOW), 0.0, 1.0)
    return dark * np.minimum(u / _BELOW, 1.0) + (100.0 - dark) * t * (_DARK + (1.0 - _DARK) * t)


def _side(t: Array, reach: float) -> Array:
    """0..128 over `t` 0..1: close to zero dense, 80 % of the way within `reach`, the rest beyond it."""
    knee = 0.80
    inner = np.minimum(t, knee) / knee
    outer = np.maximum(t - knee, 0.0) / (1.0 - knee)
    return reach * (0.6 * inner + 0.4 * inner**2) + (128.0 - reach) * outer**1.2


def pcs_axes(model: ForwardModel, rendering: Rendering, inks: Array) -> PcsAxes:
    """Axes that fit the colours of surface `inks` (n, channels)."""
    if len(model.channels) == 1:
        return PcsAxes(np.full(2, -60.0), np.full(2, 60.0))
    lab = rendering.relative(model.lab(inks))
    return PcsAxes(lab[:, 1:].min(axis=0), lab[:, 1:].max(axis=0), max(float(lab[:, 0].min()) - 1.0, 2.0))


def stored(even: Array) -> Array:
    """Even coordinates (n, channels) as a B2A table stores them: with room below no ink and above all ink."""
    return np.asarray((_OUT_LOW + (_OUT_HIGH - _OUT_LOW) * even) / (_OUT_CURVE - 1))


def unstored(values: Array) -> Array:
    """Inverse of `stored`, held to 0..1: the inks that are printed."""
    even = (values * (_OUT_CURVE - 1) - _OUT_LOW) / (_OUT_HIGH - _OUT_LOW)
    return np.asarray(np.clip(even, 0.0, 1.0))


def even_curves(inverter: Inverter) -> list[Array]:
    """Stored even coordinate to device value, for the output side of B2A: a curve (n,) of fractions for each
    channel, held to the limit of its ink.
    """
    model = inverter.model
    grid = unstored(np.linspace(0.0, 1.0, _OUT_CURVE))
    inks = np.minimum(model.to_device(np.repeat(grid[:, None], len(model.channels), axis=1)), inverter.tops)
    out = as_inks(inks, picture_channels(model.channels))
    return [out[:, c] for c in range(out.shape[1])]


def picture_channels(channels: tuple[str, ...]) -> tuple[str, ...]:
    """Channels as a profile's device side counts them: one ink alone is a picture in grey, where 100 % is
    white.
    """
    return GREY if len(channels) == 1 else channels


@dataclass(frozen=True)
class DeviceAxes:
    """Where the nodes of the A2B grids stand on each channel's even coordinate: close where colours bend.

    Attributes
    ----------
    positions
        Grid position 0..1 at even coordinates evenly over 0..1, (channels, points), rising.
    """

    positions: Array

    def nodes(self, side: int) -> list[Array]:
        """Even coordinates (side,) of the nodes of each channel."""
        return self.nodes_of([side] * len(self.positions))

    def nodes_of(self, sides: Sequence[int]) -> list[Array]:
        """The same for a number of nodes for each channel."""
        even = np.linspace(0.0, 1.0, self.positions.shape[1])
        return [np.interp(np.linspace(0.0, 1.0, k), p, even) for k, p in zip(sides, self.positions)]

    def curves(self, model: ForwardModel) -> list[Array]:
        """Device value to grid position: a curve (n,) of fractions for each channel."""
        points = _CURVE if len(self.positions) <= 4 else _CURVE // 2
        device = np.repeat(np.linspace(0.0, 1.0, points)[:, None], len(self.positions), axis=1)
        even = model.to_even(as_inks(device, picture_channels(model.channels)))
        grid = np.linspace(0.0, 1.0, self.positions.shape[1])
        return [np.interp(even[:, c], grid, p) for c, p in enumerate(self.positions)]


def device_axes(inverter: Inverter) -> DeviceAxes:
    """Axes on which straight lines between nodes err least: nodes as dense as the root of the second
    derivative of colour along a channel, over prints of all kinds.
    """
    channels = inverter.channels
    places = prints(inverter.model, inverter.total, _BENDS_AT)
    even = np.linspace(0.0, 1.0, _BEND_POINTS)
    rows = []
    for c in range(channels):
        lines = np.repeat(places[:, None], _BEND_POINTS, axis=1)
        lines[:, :, c] = even
        lab = inverter.quick.lab(lines.reshape(-1, channels)).reshape(len(places), _BEND_POINTS, 3)
        bend = np.sqrt((np.diff(lab, 2, axis=1) ** 2).sum(axis=2).mean(axis=0))
        density = np.sqrt(np.pad(bend, 1, mode="edge") + _LEAST_BEND * bend.mean())
        path = np.concatenate([[0.0], np.cumsum(0.5 * (density[1:] + density[:-1]))])
        fine = PchipInterpolator(even, path / path[-1])(np.linspace(0.0, 1.0, 513))
        rows.append(np.clip(fine, 0.0, 1.0))
    return DeviceAxes(np.array(rows))


def forward_tables(inverter: Inverter, rendering: Rendering, sizes: TableSizes) -> dict[str, Lut]:
    """A2B0, A2B1 and A2B2."""
    model = inverter.model
    straight = [np.linspace(0.0, 1.0, 2)] * 3
    axes = device_axes(inverter)
    curves = axes.curves(model)

    def printed(*sides: int) -> Array:
        lab = model.lab_on_grid(axes.nodes_of(sides))
        relative = rendering.relative(_between(lab).reshape(-1, 3))
        if not rendering.tints:
            relative[0] = (100.0, 0.0, 0.0)  # the unprinted media is the white of the relative scale
        return relative

    def table(lab: Array, *sides: int, legacy: bool = True) -> Lut:
        return Lut(curves, encode_lab(lab, legacy).reshape(*sides, 3), straight)

    rendered = [sizes.forward_rendered] * len(curves)
    sides = list(sizes.exact) or [sizes.forward] * len(curves)
    exact = printed(*sides)
    coarse = exact if rendered == sides else printed(*rendered)
    return {
        "A2B0": table(rendering.out_of_printer(coarse, rendering.perceptual), *rendered),
        "A2B1": table(exact, *sides, legacy=not sizes.exact),
        "A2B2": table(rendering.out_of_printer(coarse, rendering.saturation), *rendered),
    }


def _between(lab: Array) -> Array:
    """Colours of a grid (k1, k2, .., 3) moved by what straight lines between nodes miss on average, so
    that nodes and the middles of cells err about alike. The ends of each channel stay.
    """
    out = lab.copy()
    for c in range(lab.ndim - 1):
        lines, moved = np.moveaxis(lab, c, 0), np.moveaxis(out, c, 0)
        moved[1:-1] -= (lines[2:] - 2.0 * lines[1:-1] + lines[:-2]) / 12.0
    return out


def backward_tables(
    inverter: Inverter, rendering: Rendering, sizes: TableSizes, axes: PcsAxes, progress: Progress
) -> tuple[dict[str, Lut], Lut]:
    """B2A0, B2A1, B2A2 and the gamut tag."""
    outs = even_curves(inverter)
    progress(0.0, f"table B2A1, {sizes.backward}³ nodes")
    even = _colorimetric(inverter, rendering, axes, sizes.backward)
    tables = {"B2A1": _table(even, axes, outs)}
    deep = replace(axes, dark=rendering.pcs_black)
    done = 0.5
    for name, intent in (("B2A0", rendering.perceptual), ("B2A2", rendering.saturation)):
        progress(done, f"table {name}, {sizes.rendered}³ nodes")
        nodes = deep.nodes(sizes.rendered)
        relative = rendering.into_printer(nodes, intent)
        start = _start_from(tables["B2A1"], relative)
        solved = inverter.solve(rendering.absolute(relative), start, rounds=2, settle=1)
        tables[name] = _table(_bare_white(solved.even, nodes, rendering), deep, outs)
        done += 0.22
    progress(done, "gamut tag")
    return tables, gamut_table(inverter, rendering, sizes.gamut, axes, tables["B2A1"])


def _table(even: Array, axes: PcsAxes, outs: list[Array]) -> Lut:
    side = round(len(even) ** (1.0 / 3.0))
    return Lut(axes.curves(side), stored(even).reshape(side, side, side, -1), outs)


def _bare_white(even: Array, nodes: Array, rendering: Rendering) -> Array:
    """PCS white is the bare media in every intent: no ink at all at the node, whatever colour it maps to;
    unless it is a tint.
    """
    if rendering.tints:
        return even
    white = (nodes[:, 0] >= 100.0 - 1e-6) & (np.hypot(nodes[:, 1], nodes[:, 2]) < 1e-2)
    even[white] = 0.0
    return even


def _colorimetric(
    inverter: Inverter, rendering: Rendering, axes: PcsAxes, side: int, count: int | None = None
) -> Array:
    """Even coordinates (count^3, channels) at the nodes of the colorimetric table of `side` nodes, or at
    `count` nodes over the same axes.

    Solved from coarse to fine, which is quicker and keeps neighbours alike. Nodes far outside the gamut,
    where only the direction matters, are solved on the coarse grid alone.
    """
    count = count or side
    nodes = axes.nodes(side, count)
    if count <= 15:
        relative, _ = rendering.clipped(nodes)
        return _bare_white(inverter.solve(rendering.absolute(relative)).even, nodes, rendering)
    half = (count + 1) // 2
    coarse = _colorimetric(inverter, rendering, axes, side, half).reshape(half, half, half, -1)
    axis = np.linspace(0.0, 1.0, count)
    even = interpolate_grid(
        coarse, np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1).reshape(-1, 3)
    )
    relative, ratio = rendering.clipped(nodes)
    near = ratio < _FAR
    solved = inverter.solve(rendering.absolute(relative[near]), even[near], rounds=3, settle=2)
    even[near] = solved.even
    if count == side:
        missed = np.linalg.norm(inverter.quick.lab(even) - rendering.absolute(nodes), axis=1)
        edge = _beside_gamut(inverter, rendering, axes, side) & (missed > _INSIDE)
        even[edge] = inverter.beyond(rendering.absolute(nodes[edge]), even[edge], _ROOM)
    return _bare_white(even, nodes, rendering)


def _beside_gamut(inverter: Inverter, rendering: Rendering, axes: PcsAxes, side: int) -> Array:
    """Which nodes (side^3,) belong to a cell that the gamut's surface runs through: a mask."""
    steps = _SURFACE_STEPS if inverter.channels <= 4 else _SURFACE_STEPS // 2
    inks = surface_inks(inverter.channels, inverter.total, inverter.tops, inverter.black, steps)
    inks = inverter.held(inks)
    lab = rendering.relative(inverter.quick.lab(inverter.model.to_even(inks)))
    low = np.minimum((_positions(axes.curves(side), lab) * (side - 1)).astype(int), side - 2)
    out = np.zeros((side, side, side), dtype=bool)
    for corner in product((0, 1), repeat=3):
        out[tuple((low + corner).T)] = True
    return out.ravel()


def _positions(curves: list[Array], relative: Array) -> Array:
    """Grid positions 0..1 (n, 3) of media-relative Lab (n, 3) behind the input `curves` of a B2A table."""
    code, grid = encode_lab(relative), np.linspace(0.0, 1.0, _PCS_CURVE)
    return np.column_stack([np.interp(code[:, i], grid, c) for i, c in enumerate(curves)])


def _start_from(table: Lut, relative: Array) -> Array:
    """Even coordinates (n, channels) that a finished table has for media-relative Lab (n, 3)."""
    return unstored(interpolate_grid(table.grid, _positions(table.inputs, relative)))


def gamut_table(inverter: Inverter, rendering: Rendering, side: int, axes: PcsAxes, colorimetric: Lut) -> Lut:
    """The `gamt` table: 0 in gamut, rising to 1 at a miss of ten colour units or more."""
    nodes = axes.nodes(side)
    even = _start_from(colorimetric, nodes)
    miss = np.linalg.norm(inverter.quick.lab(even) - rendering.absolute(nodes), axis=1)
    miss = np.clip((miss - 0.5) / 10.0, 0.0, 1.0)
    return Lut(axes.curves(side), miss.reshape(side, side, side, 1), [np.linspace(0.0, 1.0, 2)])
