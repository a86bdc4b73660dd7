"""Screens by name, and what they make of the tones of an ink."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.halftone import blue_noise, clustered, drops, kernels

Pixels = np.ndarray[Any, Any]
KINDS = ("blue-noise", "diffusion", "am", "hybrid")
CENTRES = ("dot", "hole")
#: what a mode's halftone is called in a print environment
OF_ENVIRONMENT = {"blue noise": "blue-noise", "error diffusion": "diffusion"}
#: how far the mask moves the decisions of error diffusion, as a share of one dot
_STRENGTH = 0.55
#: largest side of the smallest dot of blue noise, and places that stay together in a hybrid at most
_LARGEST_DOT, _MOST_TOGETHER = 6, 32
#: screens of further inks: the angle of the ink that they take the place of
_ANGLES = {
    "K": 0.0,
    "C": -30.0,
    "M": 30.0,
    "Y": -45.0,
    "O": -30.0,
    "R": -30.0,
    "G": 30.0,
    "V": -45.0,
    "B": -45.0,
}
_USUAL_LINES, _USUAL_ANGLE = 60.0, 45.0


@dataclass(frozen=True)
class ScreenSpec:
    """A screen as it is asked for.

    Attributes
    ----------
    kind
        One of `KINDS`.
    lines, angle, dot
        Of a clustered screen: lines an inch, degrees, and the shape of its dots.
    sizes
        Drop sizes, one to three.
    centre
        What a clustered screen has where the sheet begins, and rosettes in their middles: ``dot`` or
        ``hole``.
    smallest
        Side of the smallest dot of blue noise, in places; for a hybrid, places of the smallest dot. 0 for
        what is usual.
    least, most
        Smallest tone that is printed and largest that is not solid, percent: what lies between them and bare
        film or a solid is held there.
    gone
        Tones lighter than this are left out, and ones darker than 100 less this are solid, percent.
    """

    kind: str = "blue-noise"
    lines: float = _USUAL_LINES
    angle: float = _USUAL_ANGLE
    dot: str = "round"
    sizes: int = 1
    centre: str = "dot"
    smallest: int = 0
    least: float = 0.0
    most: float = 100.0
    gone: float = 0.0

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise BadInput(f"no screen {self.kind!r}; use one of {', '.join(KINDS)}")
        if self.dot not in clustered.DOTS:
            raise BadInput(f"no dot shape {self.dot!r}; use one of {', '.join(clustered.DOTS)}")
        if not 1 <= self.sizes <= drops.MOST:
            raise BadInput(f"{self.sizes} drop sizes are not offered; use 1 to {drops.MOST}")
        if not 1.0 <= self.lines <= 2400.0 or not -360.0 <= self.angle <= 360.0:
            raise BadInput(
                f"a screen of {self.lines:g} lines an inch at {self.angle:g} degrees is not possible; "
                "1 to 2400 lines and -360 to 360 degrees are"
            )
        if self.centre not in CENTRES:
            raise BadInput(f"a rosette has a dot or a hole in its middle, not {self.centre!r}")
        most = {"blue-noise": _LARGEST_DOT, "hybrid": _MOST_TOGETHER}.get(self.kind, 0)
        if self.smallest and not 1 <= self.smallest <= most:
            raise BadInput(
                f"a smallest dot of {self.smallest} is not possible; "
                + (f"1 to {most} are with {self.kind}" if most else f"{self.kind} has none of its own")
            )
        if self.smallest and self.sizes > 1:
            raise BadInput("several drop sizes and a smallest dot do not go together")
        if not (0.0 <= self.gone <= 20.0 and 0.0 <= self.least <= 40.0 and 60.0 <= self.most <= 100.0):
            raise BadInput(
                f"smallest tone {self.least:g} %, highest shadow {self.most:g} %, left out {self.gone:g} %: "
                "0 to 40, 60 to 100 and 0 to 20 % are possible"
            )

    @property
    def bits(self) -> int:
        """Bits of a place in a plane."""
        return 1 if self.sizes == 1 else 2

    def of_ink(self, channel: str) -> ScreenSpec:
        """The same screen turned for one ink, so that inks do not beat with one another."""
        if self.kind not in ("am", "hybrid"):
            return self
        parent = channel[1:] if len(channel) == 2 and channel[0] == "L" else channel
        return replace(self, angle=self.angle + _ANGLES.get(parent, 0.0))

    def __str__(self) -> str:
        parts = []
        if self.kind in ("am", "hybrid"):
            parts = [f"lpi={self.lines:g}", f"angle={self.angle:g}", f"dot={self.dot}"]
        if self.sizes > 1:
            parts.append(f"drops={self.sizes}")
        if self.kind in ("am", "hybrid") and self.centre != "dot":
            parts.append(f"centre={self.centre}")
        if self.smallest:
            parts.append(f"smallest={self.smallest}")
        usual = (("least", self.least, 0.0), ("most", self.most, 100.0), ("break", self.gone, 0.0))
        parts += [f"{name}={value:g}" for name, value, bare in usual if value != bare]
        return f"{self.kind}:{','.join(parts)}" if parts else self.kind


def parse_screen(text: str) -> ScreenSpec:
    """A screen by its name.

    ``blue-noise``, ``diffusion``, ``am:lpi=60,angle=45,dot=round`` and ``hybrid:lpi=60,..`` are there. All
    may say ``drops=2`` or 3, and ``least=3,most=97,break=1`` for the smallest tone, the highest shadow and
    the tones left out; clustered ones ``centre=hole``, blue noise and the hybrid ``smallest=2``. Raises
    `BadInput` for what cannot be understood.

    >>> str(parse_screen("am:lpi=80,angle=15"))
    'am:lpi=80,angle=15,dot=round'
    """
    kind, _, rest = text.strip().partition(":")
    values: dict[str, Any] = {}
    allowed = {"drops": "sizes", "least": "least", "most": "most", "break": "gone"}
    if kind in ("am", "hybrid"):
        allowed |= {"lpi": "lines", "angle": "angle", "dot": "dot", "centre": "centre"}
    if kind in ("blue-noise", "hybrid"):
        allowed |= {"smallest": "smallest"}
    for part in filter(None, rest.split(",")):
        name, equals, value = (p.strip() for p in part.partition("="))
        if not equals or name not in allowed:
            raise BadInput(
                f"the screen {text!r} says {part!r}, which is not understood; {kind or 'a screen'} takes "
                f"{', '.join(f'{n}=..' for n in allowed)}"
            )
        if name in ("dot", "centre"):
            values[name] = value
        elif name in ("drops", "smallest"):
            values[allowed[name]] = int(value) if value.isdecimal() else -1
        else:
            values[allowed[name]] = parse_number(value)
    return ScreenSpec(kind, **values)


def held_tones(spec: ScreenSpec) -> Pixels | None:
    """For each tone of 16 bits the one that is printed (65536,): left out, held, or as it is; None where all
    are as they are.
    """
    if (spec.least, spec.most, spec.gone) == (0.0, 100.0, 0.0):
        return None
    tone = np.linspace(0.0, 100.0, 65536)
    held = np.clip(tone, spec.least, spec.most)
    held[tone < max(spec.gone, 1e-9)] = 0.0
    held[tone > 100.0 - max(spec.gone, 1e-9)] = 100.0
    return np.round(held * 655.35).astype(np.uint16)


class Screen:
    """A screen at work on one ink of one sheet, band after band from the top.

    Parameters
    ----------
    spec
        What is asked for; `place` is the ink's place in printing order, which chooses its mask.
    resolution
        Dots an inch.
    columns
        Width of the sheet in dots.
    volumes
        Volumes of the drop sizes, shares of the largest; the usual ones where None.
    lattice
        Supercell of a clustered screen where it is chosen together with others; the nearest where None.
    """

    def __init__(
        self,
        spec: ScreenSpec,
        resolution: float,
        columns: int,
        place: int = 0,
        volumes: Sequence[float] | None = None,
        lattice: clustered.Lattice | None = None,
    ) -> None:
        self.spec = spec
        self.columns = columns
        self.volumes = tuple(volumes or drops.usual(spec.sizes))
        self._shift = 0
        self._tile: Pixels | None = None
        self._held = held_tones(spec)
        if spec.kind == "blue-noise":
            side = max(spec.smallest, 1)
            self._tile = np.minimum(blue_noise.mask(place), 65534).repeat(side, 0).repeat(side, 1)
        elif spec.kind == "diffusion":
            self._mask = blue_noise.mask(place)
            self.errors = np.zeros((3, columns + 4), dtype=np.float32)
            start = blue_noise.mask(place + 3)[0].astype(np.float32) / 65535.0 - 0.5
            self.errors[0, 2 : columns + 2] = np.resize(start, columns)
        else:
            made = lattice or clustered.lattice(spec.lines, spec.angle, resolution)
            together = (spec.smallest or clustered.SMALLEST) if spec.kind == "hybrid" else 0
            self._tile = clustered.tile(made, spec.dot, together, spec.centre == "hole")
            self._shift = made.shift
            self.lattice = made

    @property
    def row_bytes(self) -> int:
        """Bytes of a row of packed places."""
        return -(-self.columns * self.spec.bits // 8)

    def levels(self, tones: Pixels, top: int = 0, left: int = 0) -> Pixels:
        """Drop sizes (rows, columns), 0 for none, of 16-bit tones (rows, columns) from row `top` on.

        Error diffusion needs bands in order, each once.
        """
        out = np.empty(tones.shape, dtype=np.uint8)
        if self._held is not None:
            tones = self._held[tones]
        if self._tile is None:
            sizes = np.array(self.volumes, dtype=np.float32)
            kernels.diffuse(tones, self.errors, top, left, self._mask, np.float32(_STRENGTH), sizes, out)
        else:
            kernels.threshold_levels(tones, self._tile, self._shift, top, left, drops.cuts(self.volumes), out)
        return out

    def packed(self, tones: Pixels, top: int = 0) -> Pixels:
        """The same in bytes (rows, row_bytes): one bit a place, two where there are several drop sizes."""
        out = np.empty((len(tones), self.row_bytes), dtype=np.uint8)
        if self._tile is not None and self.spec.sizes == 1:
            tones = tones if self._held is None else self._held[tones]
            kernels.threshold_bits(tones, self._tile, self._shift, top, 0, out)
        else:
            kernels.pack(self.levels(tones, top), self.spec.bits, out)
        return out
