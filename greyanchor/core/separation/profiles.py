"""What separation asks of a profile: device values to PCS colour, and PCS colour to inks.

Curves, matrices and tables are followed stage by stage (ICC.1:2022, 10.10 to 10.13), tables in tetrahedra.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.icc import PCS_WHITE, IccProfile
from greyanchor.core.formats.icc_tables import (
    check_size,
    decode_lab,
    decode_lut,
    encode_lab,
    parametric,
)
from greyanchor.core.separation.blackpoint import NO_BLACK, PERCEPTUAL_BLACK, Tables, compensation
from greyanchor.core.separation.interpolation import apply_curves, interpolate

_INTENT = {"perceptual": 0, "relative": 1, "saturation": 2, "absolute": 1}
#: XYZ in a table of 16 bits ends here (ICC.1:2022, 6.3.4.2)
_XYZ_TOP = 1.0 + 32767.0 / 32768.0
#: a tone curve is read at every value of 16 bits
_CURVE_POINTS = 65536
#: nodes along a side of a table that stands in for stages of another kind
_SIDES = {1: 4096, 2: 257, 3: 65, 4: 25}


#: C M Y K of a black as presses print it, for a profile that cannot be asked for one
_DARKEST_PRINT = (0.80, 0.70, 0.70, 0.90)
_Three = tuple[float, float, float]


@dataclass(frozen=True)
class Walk:
    """A lookup table as curves, a grid and curves, with what turns PCS numbers into its own or back.

    From device values, Lab (or XYZ) is ``outward(...) * scale + shift``; to them, the grid is entered with
    ``Lab * scale + shift``.
    """

    inward: list[Array]
    grid: Array
    outward: list[Array]
    scale: _Three
    shift: _Three


@dataclass(frozen=True)
class ProfileColour:
    """A profile as a source of colours or as a printer of them."""

    profile: IccProfile

    @property
    def channels(self) -> int:
        """Number of device channels."""
        return self.profile.channels

    @property
    def is_matrix(self) -> bool:
        """Whether three tone curves and a matrix describe it, or one tone curve of a grey."""
        tags = self.profile.tags
        return "A2B0" not in tags and (
            all(f"{c}XYZ" in tags and f"{c}TRC" in tags for c in "rgb") or "kTRC" in tags
        )

    @property
    def white(self) -> Array:
        """Media white, XYZ (3,) with Y = 1; that of a version 2 display is the PCS white."""
        if self.profile.device_class == "mntr" and self.profile.version[0] < 4:
            return PCS_WHITE
        return self.profile.white

    def to_xyz(self, values: Array, intent: str = "relative") -> Array:
        """Media-relative XYZ (n, 3), Y = 1, of device values (n, channels) in 0..1.

        Raises `BadInput` for a profile without what that needs.
        """
        if self.is_matrix:
            return self._from_curves(values)
        return self._pcs_to_xyz(_run(self._forward(intent), values), f"A2B{_INTENT[intent]}")

    def from_lab(self, lab: Array, intent: str = "relative") -> Array:
        """Device values (n, channels) in 0..1 for media-relative Lab (n, 3)."""
        stages, name = self._backward(intent), self._table("B2A", intent)
        assert name is not None
        if self.profile.pcs == "XYZ":
            pcs = np.clip(lab_to_xyz(lab) / 100.0 / _XYZ_TOP, 0.0, 1.0)
        else:
            pcs = encode_lab(lab, self._legacy(name))
        return _run(stages, pcs)

    def _backward(self, intent: str) -> list[Stage]:
        name = self._table("B2A", intent)
        if name is None:
            raise BadInput(
                f"the profile {self.profile.description or 'without a name'} has no table from colour to "
                "inks: it cannot be printed through"
            )
        return self._stages(name)

    @cached_property
    def tables(self) -> Tables:
        """What black point compensation asks."""
        return Tables(
            version=self.profile.version[0],
            space=self.profile.space,
            device_class=self.profile.device_class,
            matrix=self.is_matrix,
            has_output_table=self._table("B2A", "perceptual") is not None,
            darkest=self._darkest,
            round_trip=self._round_trip,
        )

    def _darkest(self, intent: str) -> Array | None:
        ends = {"RGB": 0.0, "GRAY": 0.0, "CMYK": 1.0, "CMY": 1.0}
        if self.profile.space not in ends:
            return None
        value = np.full((1, self.channels), ends[self.profile.space])
        if self.profile.space == "CMYK" and self._table("B2A", "relative") is None:
            value = np.array([_DARKEST_PRINT])  # nobody prints 400 %, and this profile names no other black
        return xyz_to_lab(100.0 * self.to_xyz(value, intent))

    def _round_trip(self, lab: Array, intent: str) -> Array:
        if self.profile.version[0] >= 4 and intent in ("perceptual", "saturation"):
            factor, offset = compensation(NO_BLACK, PERCEPTUAL_BLACK)  # black is not at zero there
            lab = xyz_to_lab(lab_to_xyz(lab) * factor + 100.0 * offset)
        return xyz_to_lab(100.0 * self.to_xyz(self.from_lab(lab, intent), "relative"))

    def _from_curves(self, values: Array) -> Array:
        curves, matrix = self.curves_and_matrix
        return np.asarray(apply_curves(curves, values) @ matrix)

    @cached_property
    def curves_and_matrix(self) -> tuple[list[Array], Array]:
        """Tone curves (65536,) and the XYZ (k, 3) that each channel adds, of a profile that `is_matrix`."""
        tags = self.profile.tags
        if "kTRC" in tags and self.channels == 1:
            return [tone_curve(tags["kTRC"])], PCS_WHITE[None]
        try:
            matrix = np.array([struct.unpack_from(">3i", tags[f"{c}XYZ"], 8) for c in "rgb"]) / 65536.0
            return [tone_curve(tags[f"{c}TRC"]) for c in "rgb"], matrix
        except (KeyError, struct.error) as error:
            raise BadInput("the profile's tone curves or its matrix are damaged") from error

    def walk(self, direction: str, intent: str) -> Walk:
        """The table of `direction` (``A2B`` or ``B2A``) for `intent`, as pictures walk it.

        Stages of another kind than curves, grid, curves are sampled onto a grid of their own.
        """
        name = self._table(direction, intent)
        stages = self._forward(intent) if direction == "A2B" else self._backward(intent)
        assert name is not None
        kinds = [("curves" if s.curves is not None else "grid" if s.grid is not None else "") for s in stages]
        by_xyz = self.profile.pcs == "XYZ"
        if kinds == ["curves", "grid", "curves"] and not (by_xyz and direction == "B2A"):
            inward, grid, outward = stages[0].curves, stages[1].grid, stages[2].curves
            assert inward is not None and grid is not None and outward is not None
            return Walk(inward, grid, outward, *self._coding(direction, self._legacy(name), by_xyz))
        k = self.channels if direction == "A2B" else 3
        nodes = _lattice(k, _SIDES[k])
        if direction == "A2B":
            values = _run(stages, nodes)
            coding = self._coding(direction, self._legacy(name), by_xyz)
        else:
            values = self.from_lab(decode_lab(nodes, legacy=False), intent)
            coding = self._coding(direction, False, False)
        grid = values.reshape(*([_SIDES[k]] * k), values.shape[1])
        return Walk(_straight(k), grid, _straight(values.shape[1]), *coding)

    @staticmethod
    def _coding(direction: str, legacy: bool, by_xyz: bool) -> tuple[_Three, _Three]:
        if by_xyz and direction == "A2B":
            return (_XYZ_TOP,) * 3, (0.0,) * 3
        light, colour = (65535.0 / 652.8, 65535.0 / 256.0) if legacy else (100.0, 255.0)
        if direction == "A2B":
            return (light, colour, colour), (0.0, -128.0, -128.0)
        return (1.0 / light, 1.0 / colour, 1.0 / colour), (0.0, 128.0 / colour, 128.0 / colour)

    def _pcs_to_xyz(self, values: Array, name: str) -> Array:
        if self.profile.pcs == "XYZ":
            return values * _XYZ_TOP
        used = name if name in self.profile.tags else "A2B0"
        return np.asarray(lab_to_xyz(decode_lab(values, self._legacy(used))) / 100.0)

    def _table(self, direction: str, intent: str) -> str | None:
        name = f"{direction}{_INTENT[intent]}"
        if name in self.profile.tags:
            return name
        return f"{direction}0" if f"{direction}0" in self.profile.tags else None

    def _legacy(self, name: str) -> bool:
        return self.profile.tags[name][:4] == b"mft2"

    def _forward(self, intent: str) -> list[Stage]:
        name = self._table("A2B", intent)
        if name is None:
            raise BadInput(
                f"the profile {self.profile.description or 'without a name'} has neither a table from device "
                "values to colour nor tone curves with a matrix: choose another source profile"
            )
        return self._stages(name)

    @cached_property
    def _read(self) -> dict[str, list[Stage]]:
        return {}

    def _stages(self, name: str) -> list[Stage]:
        if name not in self._read:
            by_lab = name.startswith("B2A") and self.profile.pcs == "Lab"
            self._read[name] = read_stages(self.profile.tags[name], name, not by_lab)
        return self._read[name]


def _run(stages: list[Stage], values: Array) -> Array:
    for stage in stages:
        values = stage(values)
    return np.clip(values, 0.0, 1.0)


def tone_curve(data: bytes) -> Array:
    """A `curveType` or `parametricCurveType` as a table (65536,) (ICC.1:2022, 10.6 and 10.18)."""
    return _curve_at(data, 0)[0]


def _curve_at(data: bytes, at: int) -> tuple[Array, int]:
    """A curve that begins at byte `at`, and the bytes that it takes."""
    kind = data[at : at + 4]
    x = np.linspace(0.0, 1.0, _CURVE_POINTS)
    try:
        if kind == b"curv":
            (points,) = struct.unpack_from(">I", data, at + 8)
            if points > _CURVE_POINTS:
                raise BadInput(f"a tone curve of {points} points")
            raw = np.frombuffer(data, ">u2", points, at + 12).astype(float)
            if points == 0:
                table = x
            elif points == 1:
                table = x ** (raw[0] / 256.0)
            else:
                table = np.interp(x, np.linspace(0.0, 1.0, points), raw / 65535.0)
            return table, 12 + 2 * points
        if kind == b"para":
            (function,) = struct.unpack_from(">H", data, at + 8)
            number = (1, 3, 4, 5, 7)[function]
            values = [v / 65536.0 for v in struct.unpack_from(f">{number}i", data, at + 12)]
            return np.clip(parametric(function, values, x), 0.0, 1.0), 12 + 4 * number
    except (struct.error, ValueError, IndexError) as error:
        raise BadInput(f"a tone curve of the profile is damaged: {error}") from error
    raise BadInput(f"a tone curve of the profile has the type {kind!r}")


@dataclass(frozen=True)
class Stage:
    """One step of a table: curves, a grid, or a matrix with an offset; the others are None."""

    curves: list[Array] | None = None
    grid: Array | None = None
    matrix: Array | None = None
    offset: Array | None = None
    tetrahedral: bool = True

    def __call__(self, values: Array) -> Array:
        """Values (n, j) for values (n, k) in 0..1."""
        if self.curves is not None:
            return apply_curves(self.curves, values)
        if self.grid is not None:
            return interpolate(self.grid, values, self.tetrahedral)
        return np.asarray(values @ self.matrix + self.offset)


def read_stages(data: bytes, name: str, tetrahedral: bool = True) -> list[Stage]:
    """The stages of a lookup table, in the order that they are applied.

    `name` is for messages; a table that is entered with Lab is not `tetrahedral`. Raises `BadInput` for
    another type of tag and for damaged data.
    """
    try:
        kind = data[:4]
        if kind in (b"mft1", b"mft2"):
            lut, _ = decode_lut(data, name)
            grid = Stage(grid=lut.grid, tetrahedral=tetrahedral)
            return [Stage(curves=lut.inputs), grid, Stage(curves=lut.outputs)]
        if kind in (b"mAB ", b"mBA "):
            return _elements(data, kind == b"mAB ", tetrahedral)
    except (struct.error, ValueError, IndexError) as error:
        raise BadInput(f"the table {name} of the profile is damaged: {error}") from error
    raise BadInput(f"the table {name} of the profile has the type {kind!r}, which is not a lookup table")


def _elements(data: bytes, forward: bool, tetrahedral: bool) -> list[Stage]:
    channels, outputs = struct.unpack_from(">BB", data, 8)
    b_at, matrix_at, m_at, grid_at, a_at = struct.unpack_from(">5I", data, 12)
    ends = (channels, outputs) if forward else (outputs, channels)
    stages: list[Stage] = []
    if a_at:
        stages.append(Stage(curves=_read_many(data, a_at, ends[0])))
    if grid_at:
        sides = list(data[grid_at : grid_at + channels])
        check_size(channels, outputs, sides)
        form, full = (">u1", 255.0) if data[grid_at + 16] == 1 else (">u2", 65535.0)
        nodes = int(np.prod(sides)) * outputs
        grid = np.frombuffer(data, form, nodes, grid_at + 20).astype(float) / full
        stages.append(Stage(grid=grid.reshape(*sides, outputs), tetrahedral=tetrahedral))
    elif channels != outputs:
        raise ValueError("it has no grid")
    if m_at:
        stages.append(Stage(curves=_read_many(data, m_at, 3)))
    if matrix_at:
        e = np.array(struct.unpack_from(">12i", data, matrix_at)) / 65536.0
        stages.append(Stage(matrix=e[:9].reshape(3, 3).T, offset=e[9:]))
    stages.append(Stage(curves=_read_many(data, b_at, ends[1])))
    return stages if forward else stages[::-1]


def _read_many(data: bytes, at: int, count: int) -> list[Array]:
    curves = []
    for _ in range(count):
        curve, size = _curve_at(data, at)
        curves.append(curve)
        at += (size + 3) // 4 * 4
    return curves


def _straight(count: int) -> list[Array]:
    return [np.linspace(0.0, 1.0, 2)] * count


def _lattice(channels: int, side: int) -> Array:
    axis = np.linspace(0.0, 1.0, side)
    return np.stack(np.meshgrid(*([axis] * channels), indexing="ij"), axis=-1).reshape(-1, channels)
