"""Where colours go in each rendering intent, between PCS Lab and the printer's own absolute Lab.

Colours are moved in JzAzBz with their hue held. Colorimetric intents leave printable colours alone and
bring the others to the nearest colour of the same hue. Perceptual and saturation first lay the ends of
the lightness scale onto paper white and darkest black, then draw colours towards a point on the
neutral axis, by no more than it takes for the source gamut to fit.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter, maximum_filter

from greyanchor.core.colour import jzazbz
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.parallel import in_parallel
from greyanchor.core.profiling.shell import ELEVATIONS, Shell

#: lightness (L*) of the point that everything is seen from
CENTRE_L = 52.0
#: how far outside its nearest printable colour a node is left, so that the table's edge is not blunted
_SLACK = 1.02


@dataclass(frozen=True)
class Knee:
    """Compression towards the centre: straight up to `start` of the way to the surface, then bending.

    Where the source reaches `reach` times as far as the printer, its surface lands on the printer's.
    With `expands`, sources that reach less far are stretched to the printer's surface.
    """

    start: float
    expands: bool = False

    def _parts(self, reach: Array) -> tuple[Array, Array, Array]:
        reach = np.asarray(reach, dtype=float)
        reach = np.maximum(reach, 0.55) if self.expands else np.maximum(reach, 1.0)
        start = self.start * np.minimum(reach, 1.0)
        return reach, start, 1.0 / (1.0 - start) - 1.0 / (reach - start)

    def compress(self, ratio: Array, reach: Array) -> Array:
        """Share of the printer's radius (n,), before to after, no more than 1; `reach` (n,) is how far
        the source goes.
        """
        reach, start, bend = self._parts(reach)
        t = np.clip(ratio, start, np.maximum(reach, start)) - start
        return np.where(ratio <= start, ratio, np.minimum(start + t / (1.0 + t * bend), 1.0))

    def expand(self, ratio: Array, reach: Array) -> Array:
        """Inverse of `compress` on 0..1, (n,) to (n,)."""
        reach, start, bend = self._parts(reach)
        s = np.clip(ratio, start, 1.0) - start
        return np.where(ratio <= start, ratio, start + s / np.maximum(1.0 - s * bend, 1e-6))


PERCEPTUAL = Knee(0.60)
SATURATION = Knee(0.85, expands=True)


@dataclass(frozen=True)
class Rendering:
    """Maps of one printer.

    Attributes
    ----------
    white
        XYZ of the media (Y = 1).
    darkest, pcs_black
        Relative L* of the darkest print and of the PCS black.
    printer
        Gamut surface in JzAzBz, media-relative; None for a printer that prints greys alone.
    reach
        How far the source reaches, as a share of the printer's radius, for each direction of `printer`.
    """

    white: Array
    darkest: float
    pcs_black: float
    printer: Shell | None = None
    reach: Array | None = None

    def relative(self, absolute: Array) -> Array:
        """Media-relative Lab of absolute Lab (n, 3): XYZ scaled so that the media is white."""
        return xyz_to_lab(lab_to_xyz(absolute) * (PCS_WHITE / self.white))

    def absolute(self, relative: Array) -> Array:
        """Inverse of `relative`: media-relative Lab (n, 3) to absolute Lab (n, 3)."""
        return xyz_to_lab(lab_to_xyz(relative) * (self.white / PCS_WHITE))

    def lay_ends(self, jab: Array) -> Array:
        """JzAzBz (n, 3) with PCS white and black moved to paper white and darkest print."""
        low, high, black = self._ends()
        out = jab.copy()
        out[:, 0] = low + np.maximum(jab[:, 0] - black, 0.0) * (high - low) / (high - black)
        return out

    def _lift_ends(self, jab: Array) -> Array:
        low, high, black = self._ends()
        out = jab.copy()
        out[:, 0] = np.clip(black + (jab[:, 0] - low) * (high - black) / (high - low), 0.0, high)
        return out

    def _ends(self) -> tuple[float, float, float]:
        greys = np.array([[self.darkest, 0.0, 0.0], [100.0, 0.0, 0.0], [self.pcs_black, 0.0, 0.0]])
        low, high, black = jzazbz.from_lab(greys)[:, 0]
        return float(low), float(high), float(black)

    def into_printer(self, pcs: Array, knee: Knee) -> Array:
        """Media-relative Lab (n, 3) that PCS Lab (n, 3) is printed as by a perceptual or saturation
        intent.
        """
        return np.concatenate(in_parallel(lambda p: self._into(p, knee), pcs, 8192))

    def _into(self, pcs: Array, knee: Knee) -> Array:
        jab = self.lay_ends(jzazbz.from_lab(pcs))
        return jzazbz.to_lab(self._radially(jab, knee.compress))

    def out_of_printer(self, relative: Array, knee: Knee) -> Array:
        """Inverse of `into_printer` for printed colours, Lab (n, 3) to Lab (n, 3)."""
        return np.concatenate(in_parallel(lambda p: self._out(p, knee), relative, 8192))

    def _out(self, relative: Array, knee: Knee) -> Array:
        jab = self._radially(jzazbz.from_lab(relative), knee.expand)
        return jzazbz.to_lab(self._lift_ends(jab))

    def _radially(self, jab: Array, curve: object) -> Array:
        if self.printer is None or self.reach is None:
            return jab
        distance, edge = self.printer.along(jab)
        edge = np.maximum(edge, 1e-6)
        reach = self.printer.look_up(self.reach, jab - self.printer.centre)
        moved = curve(distance / edge, reach) * edge  # type: ignore[operator]
        factor = np.where(distance > 1e-9, moved / np.maximum(distance, 1e-9), 1.0)
        return np.asarray(self.printer.centre + (jab - self.printer.centre) * factor[:, None])

    def clipped(self, relative: Array) -> tuple[Array, Array]:
        """Media-relative Lab (n, 3) with what lies outside brought to just outside its nearest printable
        colour.

        Nearest is meant in the half plane of its JzAzBz hue: hue is held, lightness and chroma give way.
        Colours inside stay exactly as they are. Also the share of the gamut's radius (n,) each was at.
        """
        if self.printer is None:
            return relative, np.zeros(len(relative))
        parts = in_parallel(self._clip, relative, 4096)
        return np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])

    def _clip(self, relative: Array) -> tuple[Array, Array]:
        assert self.printer is not None
        jab = jzazbz.from_lab(relative)
        distance, edge = self.printer.along(jab)
        ratio = distance / np.maximum(edge, 1e-9)
        out = relative.copy()
        far = np.flatnonzero(ratio > _SLACK)
        if len(far):
            hue = np.arctan2(jab[far, 2], jab[far, 1])
            light, chroma = _nearest(
                self.printer, np.degrees(hue), jab[far, 0], np.hypot(jab[far, 1], jab[far, 2])
            )
            found = np.column_stack([light, chroma * np.cos(hue), chroma * np.sin(hue)])
            found[:, 1:] *= _SLACK
            out[far] = jzazbz.to_lab(found)
        return out, ratio


def reach_of(printer: Shell, source: Shell) -> Array:
    """How far `source` reaches as a share of `printer`'s radius, by direction, made even.

    A direction shares the compression of its neighbours: where it changed from one to the next, a shade
    running across would turn darker and lighter again. White and black stay where they are.

    Gives (n, m), the grid of both shells; 1 where they reach alike.
    """
    sharp = source.radius / np.maximum(printer.radius, 1e-6)
    wide = gaussian_filter(
        maximum_filter(sharp, (13, 9), mode=("nearest", "wrap")), (5, 4), mode=("nearest", "wrap")
    )
    elevation = np.abs(np.linspace(-90.0, 90.0, ELEVATIONS))
    share = np.clip((88.0 - elevation) / 22.0, 0.0, 1.0)[:, None]
    share = share * share * (3.0 - 2.0 * share)
    even = np.where(sharp < 1.0, np.minimum(sharp, 1.0), 1.0) * (1.0 - share) + wide * share
    return np.asarray(np.maximum(sharp, even))


def _nearest(shell: Shell, hue: Array, light: Array, chroma: Array) -> tuple[Array, Array]:
    """The point of the surface's half plane of `hue` nearest to (`light`, `chroma`), all (n,)."""
    lights, chromas = shell.leaf(hue)
    a = np.stack([lights[:, :-1], chromas[:, :-1]], axis=-1)
    along = np.stack([lights[:, 1:], chromas[:, 1:]], axis=-1) - a
    away = np.stack([light, chroma], axis=-1)[:, None] - a
    share = np.clip((away * along).sum(-1) / np.maximum((along**2).sum(-1), 1e-12), 0.0, 1.0)
    places = a + share[..., None] * along
    miss = (places[..., 0] - light[:, None]) ** 2 + (places[..., 1] - chroma[:, None]) ** 2
    best = miss.argmin(axis=1)
    found = places[np.arange(len(best)), best]
    return found[:, 0], found[:, 1]
