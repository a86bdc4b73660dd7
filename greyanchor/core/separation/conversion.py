"""A device link compiled into one pass over the pixels: what whole pictures go through.

Nothing is folded into a table of its own: source curves, matrix or table, black point, the mode's table and
its curves follow one another for blocks of pixels, so that a picture costs one pass and comes out as the
chain of them does, wherever a table bends. Neighbouring curves are folded into one.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import Any

import numpy as np

from greyanchor.core.calibration.light_split import split_channels, strengths
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each, in_parallel
from greyanchor.core.separation.folding import Folding
from greyanchor.core.separation.kernels import BRIGHTEST, POINTS, ROOTS, Chain, folded, keep_pure
from greyanchor.core.separation.link import DeviceLink, ModeInks
from greyanchor.core.separation.profiles import Walk

Pixels = np.ndarray[Any, Any]
#: pixels that a thread takes at a time
_PART = 1 << 17
#: a table of the source may hold what the printer is asked for when that is so near (Lab) between its nodes
_NEAR = 0.05


class Conversion:
    """Pixels to raw amounts of ink.

    Parameters
    ----------
    link
        What is done to a colour.

    Raises `BadInput` for a picture with another number of channels than 1, 3 or 4 to 8.
    """

    def __init__(self, link: DeviceLink) -> None:
        self.link = link
        self._plans: dict[int, Chain] = {}
        self._fold: Folding | None = None
        self._lock = threading.Lock()
        self._splits = share_tables(link.mode)
        self._kept = _pure_tables(link.pure_ramps(), link.source_channels, len(link.mode.channels))

    @property
    def channels(self) -> int:
        """Channels of the pictures that it takes."""
        return self.link.source_channels

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each."""
        return self.link.inks

    def convert(self, pixels: Pixels) -> Pixels:
        """Raw amounts (..., inks), 16 bits, for pixels (..., channels) of 8 or 16 bits; on all cores."""
        k = self.channels
        if pixels.dtype not in (np.uint8, np.uint16) or pixels.shape[-1] != k:
            raise BadInput(f"{pixels.shape[-1]} channels of {pixels.dtype} came; {k} of 8 or 16 bits go in")
        flat = np.ascontiguousarray(pixels).reshape(-1, k)
        if k not in (3, 4):
            return self._by_colour(flat).reshape(*pixels.shape[:-1], len(self.inks))
        out = np.empty((len(flat), len(self.inks)), dtype=np.uint16)
        spans = [slice(i, i + _PART) for i in range(0, len(flat), _PART)]
        each(lambda span: self._part(flat[span], out[span]), spans or [slice(0, 0)])
        return out.reshape(*pixels.shape[:-1], len(self.inks))

    def _by_colour(self, flat: Pixels) -> Pixels:
        """Grey, and pictures of many channels: each colour that there is, once."""
        colours, place = np.unique(flat, axis=0, return_inverse=True)
        full = float(np.iinfo(flat.dtype).max)
        made = np.concatenate(in_parallel(self.link.exact, colours / full))
        if len(self._kept) and not colours[0].any():
            made[0] = self.link.pure_ramps()[-1][0]
        return _sixteen(made)[place.reshape(-1)]

    def _part(self, flat: Pixels, out: Pixels) -> None:
        plan = self._plan(flat.dtype)
        m = len(self.link.mode.channels)
        raw = out[:, :m] if not self._splits else np.empty((len(flat), m), dtype=np.uint16)
        full = float(np.iinfo(flat.dtype).max)
        if self.channels == 3:
            fold = self._folding()
            rows = np.empty(len(flat) + 1, dtype=np.uint64)
            left = int(folded(m)(flat, fold.arrays(full), raw, rows))
            plan.some(flat, rows[:left], raw)
            fold.learn()
        else:
            plan.all(flat, raw)
        if len(self._kept):
            keep_pure(flat, self._kept, full, raw)
        if self._splits:
            out[:, :m] = raw
            share_out(out, self._splits)

    def _folding(self) -> Folding:
        with self._lock:
            if self._fold is None:
                plan, m = self._plan(np.dtype(np.uint16)), len(self.link.mode.channels)

                def amounts(pixels: Pixels) -> Pixels:
                    found = np.empty((len(pixels), m), dtype=np.uint16)
                    plan.all(pixels, found)
                    return found

                self._fold = Folding(amounts, m)
            return self._fold

    def _plan(self, kind: np.dtype[Any]) -> Chain:
        bits = 8 * kind.itemsize
        made = self._plans.get(bits)
        if made is None:
            made = self._plans[bits] = _planned(self.link, bits)
        return made


def _planned(link: DeviceLink, bits: int) -> Chain:
    steps = np.linspace(0.0, 1.0, 2**bits)
    source = link.source
    if link.settings.press is not None:
        walk: Walk | None = _through_press(link)
    else:
        walk = None if source.is_matrix else source.walk("A2B", link.settings.intent)
    inward = source.curves_and_matrix[0] if walk is None else walk.inward
    entry = np.array([np.interp(steps, np.linspace(0, 1, len(c)), c) for c in inward], dtype=np.float32)
    direct = False
    if walk is None:
        first: tuple[Pixels, ...] = (entry, source.curves_and_matrix[1].astype(np.float32))
    else:
        asked_for = _asked_for(walk, *link.last_step)
        direct = asked_for is not None
        walk = asked_for or walk
        sides = np.array(walk.grid.shape[:-1], dtype=np.int64)
        entry *= (sides - 1).astype(np.float32)[:, None]
        coding = np.array([walk.scale, walk.shift], dtype=np.float32) * (not direct)
        first = (entry, _grid(walk.grid), sides, _even(walk.outward), coding)
    into = link.target.walk("B2A", link.settings.intent)
    mode, most = link.mode, link.mode.total
    limited = most is not None and mode.channels != tuple("RGB") and _reach(into) > most
    ramp = np.linspace(0.0, 1.0, POINTS + 1)
    asked = np.column_stack([np.interp(ramp, np.linspace(0, 1, len(c)), c) for c in into.outward])
    asked = np.clip(link.settings.nudge.of_inks(asked, mode.channels), 0.0, 1.0)
    limited = limited or (most is not None and bool(link.settings.nudge.inks))
    straight = ramp[:, None].repeat(len(mode.channels), axis=1)
    last = straight if limited else asked
    curves = last if mode.curves is None else mode.curves.apply(last)
    black = mode.channels.index("K") if "K" in mode.channels else -1
    target = (
        _even(into.inward),
        np.array([into.scale, into.shift], dtype=np.float32),
        _grid(into.grid),
        np.array(into.grid.shape[:-1], dtype=np.int64),
        _rows(asked),
        np.array([most or 0.0, black], dtype=np.float32),
        _rows(curves),
    )
    t = np.linspace(0.0, BRIGHTEST, ROOTS + 1)
    roots = np.where(t > 216.0 / 24389.0, np.cbrt(t), (24389.0 / 27.0 * t + 16.0) / 116.0)
    colour = (
        np.array(link.last_step, dtype=np.float32),
        _ended(roots[None])[0],
        _ended(_lightness(link, into)[None])[0],
    )
    kind = "matrix" if walk is None else f"table{source.channels}"
    return Chain(kind, len(mode.channels), limited, direct, (first, colour, target))


def _asked_for(walk: Walk, factor: Array, offset: Array) -> Walk | None:
    """A source's table whose nodes hold L* / 100, a* and b* as the printer is asked for them, where that says
    the middle of each cell as well as the way through XYZ does; else None.
    """
    if walk.scale[0] < 10.0:
        return None
    moved = _moved(_of_nodes(walk.grid, walk), factor, offset)
    k = walk.grid.ndim - 1
    middle, moved_middle = walk.grid, moved.reshape(walk.grid.shape)
    for axis in range(k):
        near, far = (np.take(middle, range(i, middle.shape[axis] - 1 + i), axis) for i in (0, 1))
        middle = 0.5 * (near + far)
        near, far = (np.take(moved_middle, range(i, moved_middle.shape[axis] - 1 + i), axis) for i in (0, 1))
        moved_middle = 0.5 * (near + far)
    off = _moved(_of_nodes(middle, walk), factor, offset) - moved_middle.reshape(-1, 3)
    if np.abs(off).max() > _NEAR:
        return None
    grid = (moved * [0.01, 1.0, 1.0]).reshape(walk.grid.shape)
    return Walk(walk.inward, grid, walk.outward, walk.scale, walk.shift)


def _of_nodes(grid: Array, walk: Walk) -> Array:
    nodes = grid.reshape(-1, 3)
    ends = [np.interp(nodes[:, i], np.linspace(0, 1, len(c)), c) for i, c in enumerate(walk.outward)]
    return np.column_stack(ends) * np.array(walk.scale) + np.array(walk.shift)


def _moved(lab: Array, factor: Array, offset: Array) -> Array:
    """Lab after its XYZ (Y = 1) was scaled and moved."""
    return xyz_to_lab(lab_to_xyz(lab) * factor + 100.0 * offset)


def _lightness(link: DeviceLink, into: Walk) -> Array:
    """From L* / 100 to where the mode's table is entered: the nudge, the coding and the entry curve."""
    lab = np.zeros((POINTS + 1, 3))
    lab[:, 0] = np.linspace(0.0, 100.0, POINTS + 1)
    light = link.settings.nudge.of_lab(lab)[:, 0] * into.scale[0] + into.shift[0]
    curve = into.inward[0]
    return np.interp(light, np.linspace(0.0, 1.0, len(curve)), curve)


def _reach(into: Walk) -> float:
    """The largest sum of inks that a table holds."""
    nodes = into.grid.reshape(-1, into.grid.shape[-1])
    ends = [np.interp(nodes[:, i], np.linspace(0, 1, len(c)), c) for i, c in enumerate(into.outward)]
    return float(np.sum(ends, axis=0).max())


def _through_press(link: DeviceLink) -> Walk:
    """The source and the press it is printed as on, as one table: the press's own shape is what shows."""
    k = link.source_channels
    side = {1: 4096, 3: 65, 4: 23}[k]
    axis = np.linspace(0.0, 1.0, side)
    nodes = np.stack(np.meshgrid(*([axis] * k), indexing="ij"), axis=-1).reshape(-1, k)
    lab = link.press_lab(nodes)
    coded = np.column_stack([lab[:, 0] / 100.0, (lab[:, 1:] + 128.0) / 255.0])
    straight = [np.linspace(0.0, 1.0, 2)] * 3
    scale, shift = (100.0, 255.0, 255.0), (0.0, -128.0, -128.0)
    return Walk([np.linspace(0, 1, 2)] * k, coded.reshape(*([side] * k), 3), straight, scale, shift)


def _grid(grid: Array) -> Pixels:
    return np.ascontiguousarray(grid.reshape(-1), dtype=np.float32)


def _ended(curves: Array) -> Pixels:
    """Curves (count, points) with their last point once more, so that the end needs no question."""
    return np.concatenate([curves, curves[:, -1:]], axis=1).astype(np.float32)


def _even(curves: Sequence[Array]) -> Pixels:
    """Curves (count, points + 1) sampled alike."""
    x = np.linspace(0.0, 1.0, POINTS + 1)
    return _ended(np.array([np.interp(x, np.linspace(0, 1, len(c)), c) for c in curves]))


def _rows(curves: Array) -> Pixels:
    """Curves (count, points) of curves (points, count)."""
    return _ended(np.ascontiguousarray(curves.T))


Shares = list[tuple[int, list[tuple[int, Pixels]]]]


def share_out(out: Pixels, shares: Shares) -> None:
    """Share amounts (n, inks) of channels with inks of other weights, in place."""
    for parent, tables in shares:
        whole = out[:, parent].copy()
        for place, table in tables:
            out[:, place] = table[whole]


def share_tables(mode: ModeInks) -> Shares:
    """For each channel of `mode` that shares: its place among the inks, and place and amounts, 16 bits for
    each of 65,536, of every ink that prints for it.
    """
    shares: Shares = []
    stands_for = strengths(mode.splits)
    for channel in mode.channels:
        mine = [s for s in mode.splits if stands_for[s.light][0] == channel]
        if mine:
            amounts = split_channels(np.linspace(0.0, 1.0, 65536)[:, None], (channel,), mine)
            names = (channel, *(s.light for s in mine))
            tables = [(mode.inks.index(n), _sixteen(v)) for n, v in zip(names, amounts.T)]
            shares.append((mode.inks.index(channel), tables))
    return shares


def _sixteen(values: Array) -> Pixels:
    return np.round(np.clip(values, 0.0, 1.0) * 65535.0).astype(np.uint16)


def _pure_tables(ramps: dict[int, Array], channels: int, inks: int) -> Pixels:
    """Ramps of channels that are kept pure, 16 bits (channels, 256, inks), -1 in place of the others;
    nothing at all where none is kept. Pure black of R G B or grey stands at the first place of channel 0.
    """
    if not ramps:
        return np.zeros((0, 256, inks), dtype=np.int32)
    out = np.full((channels, 256, inks), -1, dtype=np.int32)
    for channel, ramp in ramps.items():
        if channel < 0:
            out[0, 0] = _sixteen(ramp)[0]
        else:
            out[channel] = _sixteen(ramp)
    return out
