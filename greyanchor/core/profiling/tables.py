"""The six tables and the gamut tag of an output profile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colorimetry import Array
from greyanchor.core.formats.icc_tables import Lut, encode_lab, interpolate_grid
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.rendering import PERCEPTUAL, SATURATION, Rendering

Progress = Callable[[float, str], None]
_CURVE = 2048
_PCS_CURVE = 4096


@dataclass(frozen=True)
class TableSizes:
    """Nodes a side: device to PCS, PCS to device (colorimetric), the other intents, and the gamut tag."""

    forward: int = 17
    backward: int = 33
    rendered: int = 23
    gamut: int = 17

    @classmethod
    def draft(cls) -> TableSizes:
        """Small tables for a quick look; not for production."""
        return cls(9, 19, 15, 9)


def device_curves(model: ForwardModel) -> list[Array]:
    """Device to even coordinate, for the input side of A2B."""
    grid = np.linspace(0.0, 1.0, _CURVE)
    even = model.to_even(np.repeat(grid[:, None], len(model.channels), axis=1))
    return [even[:, c] for c in range(even.shape[1])]


def even_curves(model: ForwardModel) -> list[Array]:
    """Even coordinate to device, for the output side of B2A."""
    grid = np.linspace(0.0, 1.0, _CURVE)
    device = model.to_device(np.repeat(grid[:, None], len(model.channels), axis=1))
    return [device[:, c] for c in range(device.shape[1])]


def pcs_curves() -> list[Array]:
    """Input curves of B2A: lightness straight, a* and b* with more nodes near neutral.

    Zero a* and b* (code 0x8000) fall exactly on the middle node of an odd grid.
    """
    code = np.linspace(0.0, 1.0, _PCS_CURVE)
    lightness = np.clip(code * 65535.0 / 65280.0, 0.0, 1.0)
    offset = (code * 65535.0 - 32768.0) / 32768.0
    bent = np.sign(offset) * _ab_code(np.abs(np.clip(offset, -1.0, 1.0)))
    return [lightness, 0.5 + 0.5 * bent, 0.5 + 0.5 * bent]


def _ab_code(t: Array) -> Array:
    """Where a share `t` of the 128 range of a* or b* lands on the grid; the inverse of `_ab_value`."""
    fine = np.linspace(0.0, 1.0, 8193)
    return np.interp(t, _ab_value(fine), fine)


def _ab_value(u: Array) -> Array:
    return 0.62 * u + 0.38 * u**2.6


def pcs_nodes(side: int) -> Array:
    """PCS Lab (side^3, 3) at the nodes of a B2A grid behind `pcs_curves`."""
    u = np.linspace(0.0, 1.0, side)
    signed = 2.0 * u - 1.0
    ab = 128.0 * np.sign(signed) * _ab_value(np.abs(signed))
    return np.stack(np.meshgrid(100.0 * u, ab, ab, indexing="ij"), axis=-1).reshape(-1, 3)


def forward_tables(model: ForwardModel, rendering: Rendering, sizes: TableSizes) -> dict[str, Lut]:
    """A2B0, A2B1 and A2B2."""
    side, n = sizes.forward, len(model.channels)
    axis = np.linspace(0.0, 1.0, side)
    even = np.stack(np.meshgrid(*[axis] * n, indexing="ij"), axis=-1).reshape(-1, n)
    relative = rendering.relative(model.lab(model.to_device(even)))
    relative[0] = (100.0, 0.0, 0.0)  # the unprinted media is the white of the relative scale
    straight = [np.linspace(0.0, 1.0, 2)] * 3
    shape = (*[side] * n, 3)
    curves = device_curves(model)

    def table(lab: Array) -> Lut:
        return Lut(curves, encode_lab(lab).reshape(shape), straight)

    return {
        "A2B0": table(rendering.out_of_printer(relative, PERCEPTUAL)),
        "A2B1": table(relative),
        "A2B2": table(rendering.out_of_printer(relative, SATURATION)),
    }


def backward_tables(
    inverter: Inverter, rendering: Rendering, sizes: TableSizes, progress: Progress
) -> tuple[dict[str, Lut], Lut]:
    """B2A0, B2A1, B2A2 and the gamut tag."""
    ins, outs = pcs_curves(), even_curves(inverter.model)
    progress(0.0, f"table B2A1, {sizes.backward}³ nodes")
    nodes = pcs_nodes(sizes.backward)
    tables = {
        "B2A1": _backward(
            inverter, rendering, nodes, _coarse_start(inverter, rendering, sizes.backward), ins, outs
        )
    }
    done = 0.5
    for name, knee in (("B2A0", PERCEPTUAL), ("B2A2", SATURATION)):
        progress(done, f"table {name}, {sizes.rendered}³ nodes")
        relative = rendering.into_printer(pcs_nodes(sizes.rendered), knee)
        tables[name] = _backward(
            inverter, rendering, relative, _start_from(tables["B2A1"], relative), ins, outs
        )
        done += 0.22
    progress(done, "gamut tag")
    return tables, gamut_table(inverter, rendering, sizes.gamut, tables["B2A1"])


def _backward(
    inverter: Inverter,
    rendering: Rendering,
    relative: Array,
    start: Array,
    ins: list[Array],
    outs: list[Array],
) -> Lut:
    """A table whose nodes print the media-relative Lab `relative` (side^3, 3), solved from `start`."""
    solved = inverter.solve(rendering.absolute(relative), start, rounds=9)
    even = inverter.model.to_even(solved.device)
    white = (relative[:, 0] >= 100.0 - 1e-9) & (np.hypot(relative[:, 1], relative[:, 2]) < 1e-9)
    even[white] = 0.0  # PCS white is the bare media: no ink at all
    side = round(len(even) ** (1.0 / 3.0))
    return Lut(ins, even.reshape(side, side, side, -1), outs)


def _coarse_start(inverter: Inverter, rendering: Rendering, side: int) -> Array:
    """Even coordinates (side^3, 4) to begin from: every other node solved, the rest interpolated."""
    half = (side + 1) // 2
    coarse = inverter.solve(rendering.absolute(pcs_nodes(half))).even.reshape(half, half, half, -1)
    axis = np.linspace(0.0, 1.0, side)
    places = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1).reshape(-1, 3)
    return interpolate_grid(coarse, places)


def _start_from(table: Lut, relative: Array) -> Array:
    """Even coordinates (n, 4) that a finished table has for media-relative Lab (n, 3)."""
    code = encode_lab(relative)
    shaped = np.column_stack(
        [np.interp(code[:, i], np.linspace(0.0, 1.0, _PCS_CURVE), c) for i, c in enumerate(table.inputs)]
    )
    return interpolate_grid(table.grid, shaped)


def gamut_table(inverter: Inverter, rendering: Rendering, side: int, colorimetric: Lut) -> Lut:
    """The `gamt` table: 0 in gamut, rising to 1 at a miss of ten colour units or more."""
    nodes = pcs_nodes(side)
    solved = inverter.solve(rendering.absolute(nodes), _start_from(colorimetric, nodes), rounds=6)
    miss = np.clip((solved.error - 0.5) / 10.0, 0.0, 1.0)
    return Lut(pcs_curves(), miss.reshape(side, side, side, 1), [np.linspace(0.0, 1.0, 2)])
