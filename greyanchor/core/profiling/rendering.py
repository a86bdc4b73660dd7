"""Where colours go in each rendering intent, between PCS Lab and the printer's own absolute Lab."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from greyanchor.core.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.profiling.gamut import Gamut


@dataclass(frozen=True)
class Knee:
    """Chroma compression: straight up to `start` of the gamut's chroma, then bending so that `reach` meets its edge."""

    start: float
    reach: float

    def compress(self, ratio: Array) -> Array:
        """Chroma over gamut chroma, before -> after."""
        t = np.maximum(ratio - self.start, 0.0)
        bent = self.start + t / (1.0 + t * self._bend)
        return np.minimum(np.where(ratio <= self.start, ratio, bent), 1.0)

    def expand(self, ratio: Array) -> Array:
        """Inverse of `compress` on 0..1."""
        s = np.clip(ratio, 0.0, 1.0) - self.start
        return np.where(s <= 0, ratio, self.start + s / np.maximum(1.0 - s * self._bend, 1e-6))

    @property
    def _bend(self) -> float:
        return 1.0 / (1.0 - self.start) - 1.0 / (self.reach - self.start)


PERCEPTUAL = Knee(0.70, 1.40)
SATURATION = Knee(0.92, 1.25)


@dataclass(frozen=True)
class Rendering:
    """Maps of one printer: media white XYZ (Y = 1), relative gamut, darkest relative L*, PCS black L*."""

    white: Array
    gamut: Gamut
    darkest: float
    pcs_black: float

    def relative(self, absolute: Array) -> Array:
        """Media-relative Lab of absolute Lab (n, 3): XYZ scaled so that the media is white."""
        return xyz_to_lab(lab_to_xyz(absolute) * (PCS_WHITE / self.white))

    def absolute(self, relative: Array) -> Array:
        """Inverse of `relative`."""
        return xyz_to_lab(lab_to_xyz(relative) * (self.white / PCS_WHITE))

    def into_printer(self, pcs: Array, knee: Knee) -> Array:
        """Media-relative Lab (n, 3) that PCS Lab (n, 3) is printed as: ends of the lightness scale meet, hue is held."""
        span = (100.0 - self.darkest) / (100.0 - self.pcs_black)
        lightness = self.darkest + np.maximum(pcs[:, 0] - self.pcs_black, 0.0) * span
        return self._chroma(pcs, lightness, lightness, knee.compress)

    def out_of_printer(self, relative: Array, knee: Knee) -> Array:
        """Inverse of `into_printer` for printed colours."""
        span = (100.0 - self.pcs_black) / (100.0 - self.darkest)
        lightness = np.clip(self.pcs_black + (relative[:, 0] - self.darkest) * span, 0.0, 100.0)
        return self._chroma(relative, lightness, relative[:, 0], knee.expand)

    def _chroma(self, lab: Array, lightness: Array, gamut_lightness: Array, curve: object) -> Array:
        chroma = np.hypot(lab[:, 1], lab[:, 2])
        hue = np.degrees(np.arctan2(lab[:, 2], lab[:, 1])) % 360.0
        edge = np.maximum(self.gamut.chroma_at(gamut_lightness, hue), 4.0)
        factor = np.where(chroma > 1e-9, curve(chroma / edge) * edge / np.maximum(chroma, 1e-9), 1.0)  # type: ignore[operator]
        return np.column_stack([lightness, lab[:, 1] * factor, lab[:, 2] * factor])
