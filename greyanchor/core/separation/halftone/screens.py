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
#: what a mode's halftone is called in a print environment
OF_ENVIRONMENT = {"blue noise": "blue-noise", "error diffusion": "diffusion"}
#: how far the mask moves the decisions of error diffusion, as a share of one dot
_STRENGTH = 0.55
_STEP = 30.0
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
    """

    kind: str = "blue-noise"
    lines: float = _USUAL_LINES
    angle: float = _USUAL_ANGLE
    dot: str = "round"
    sizes: int = 1

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
        return f"{self.kind}:{','.join(parts)}" if parts else self.kind


def parse_screen(text: str) -> ScreenSpec:
    """A screen by its name.

    ``blue-noise``, ``diffusion``, ``am:lpi=60,angle=45,dot=round`` and ``hybrid:lpi=60,..`` are there. All
    may say ``drops=2`` or 3. Raises `BadInput` for what cannot be understood.

    >>> str(parse_screen("am:lpi=80,angle=15"))
    'am:lpi=80,angle=15,dot=round'
    """
    kind, _, rest = text.strip().partition(":")
    values: dict[str, Any] = {}
    allowed = {"drops": "sizes"}
    if kind in ("am", "hybrid"):
        allowed |= {"lpi": "lines", "angle": "angle", "dot": "dot"}
    for part in filter(None, rest.split(",")):
        name, equals, value = (p.strip() for p in part.partition("="))
        if not equals or name not in allowed:
            raise BadInput(
                f"the screen {text!r} says {part!r}, which is not understood; {kind or 'a screen'} takes "
                f"{', '.join(f'{n}=..' for n in allowed)}"
            )
        if name == "dot":
            values["dot"] = value
        elif name == "drops":
            values["sizes"] = int(value) if value.isdecimal() else 0
        else:
            values[allowed[name]] = parse_number(value)
    return ScreenSpec(kind, **values)


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
    """

    def __init__(
        self,
        spec: ScreenSpec,
        resolution: float,
        columns: int,
        place: int = 0,
        volumes: Sequence[float] | None = None,
    ) -> None:
        self.spec = spec
        self.columns = columns
        self.volumes = tuple(volumes or drops.usual(spec.sizes))
        self._shift = 0
        self._tile: Pixels | None = None
        if spec.kind == "blue-noise":
            self._tile = np.minimum(blue_noise.mask(place), 65534)
        elif spec.kind == "diffusion":
            self._mask = blue_noise.mask(place)
            self.errors = np.zeros((3, columns + 4), dtype=np.float32)
            start = blue_noise.mask(place + 3)[0].astype(np.float32) / 65535.0 - 0.5
            self.errors[0, 2 : columns + 2] = np.resize(start, columns)
        else:
            self._tile, made = clustered.thresholds(
                spec.lines, spec.angle, spec.dot, resolution, spec.kind == "hybrid"
            )
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
            kernels.threshold_bits(tones, self._tile, self._shift, top, 0, out)
        else:
            kernels.pack(self.levels(tones, top), self.spec.bits, out)
        return out
