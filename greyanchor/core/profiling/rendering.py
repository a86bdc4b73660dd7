"""Where colours go in each rendering intent, between PCS Lab and the printer's own absolute Lab.

Colours are moved in JzAzBz with their hue held. Colorimetric intents leave printable colours alone and
bring the others to the nearest colour of the same hue. Perceptual and saturation first lay the ends of
the lightness scale onto paper white and darkest black, then make room for their source (`compression`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colour import jzazbz
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.parallel import in_parallel
from greyanchor.core.profiling.compression import Compression
from greyanchor.core.profiling.shell import Shell

#: lightness (L*) of the point that everything is seen from
CENTRE_L = 52.0
#: how far outside its nearest printable colour a node is left, so that the table's edge is not blunted
_SLACK = 1.02


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
    perceptual, saturation
        How these intents make room for their source; None for a printer that prints greys alone.
    tints
        Whether white is a colour that is printed on the media, rather than the bare media.
    """

    white: Array
    darkest: float
    pcs_black: float
    printer: Shell | None = None
    perceptual: Compression | None = None
    saturation: Compression | None = None
    tints: bool = False

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

    def into_printer(self, pcs: Array, intent: Compression | None) -> Array:
        """Media-relative Lab (n, 3) that PCS Lab (n, 3) is printed as by a perceptual or saturation
        intent.
        """

        def into(part: Array) -> Array:
            jab = self.lay_ends(jzazbz.from_lab(part))
            return jzazbz.to_lab(jab if intent is None else intent.into(jab))

        return np.concatenate(in_parallel(into, pcs, 8192))

    def out_of_printer(self, relative: Array, intent: Compression | None) -> Array:
        """Inverse of `into_printer` for printed colours, Lab (n, 3) to Lab (n, 3)."""

        def out_of(part: Array) -> Array:
            jab = jzazbz.from_lab(part)
            return jzazbz.to_lab(self._lift_ends(jab if intent is None else intent.out_of(jab)))

        return np.concatenate(in_parallel(out_of, relative, 8192))

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
