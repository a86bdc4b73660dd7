"""The gamut of a printer: its boundary as largest chroma by lightness and hue, slices and volume."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import map_coordinates

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import as_inks
from greyanchor.core.profiling.separation import black_of
from greyanchor.core.profiling.shell import shell_of, surface_inks, triangles

LEVELS = 51
HUES = 72
#: prints with less chroma everywhere have no gamut to speak of
LEAST_CHROMA = 6.0
#: colours that lie this near a plane (Lab, root of mean squares) have no volume
_FLAT = 0.3


@dataclass(frozen=True)
class Gamut:
    """Boundary of a set of colours.

    Attributes
    ----------
    boundary
        Largest CIELAB chroma (LEVELS, HUES) at lightness 0..100 and hue 0..360 degrees; 0 outside.
    lightest, darkest
        L* range.
    """

    boundary: Array
    lightest: float
    darkest: float

    @property
    def volume(self) -> float:
        """Volume in cubic CIELAB units: the sum of wedges C^2/2 dh dL."""
        dh = 2.0 * np.pi / HUES
        dl = 100.0 / (LEVELS - 1)
        return float((self.boundary**2 / 2.0).sum() * dh * dl)

    def chroma_at(self, lightness: Array, hue: Array) -> Array:
        """Largest chroma (n,) at lightness (n,) and hue in degrees (n,)."""
        rows = np.clip(lightness / 100.0 * (LEVELS - 1), 0, LEVELS - 1)
        columns = (np.asarray(hue) % 360.0) / 360.0 * HUES
        wrapped = np.hstack([self.boundary, self.boundary[:, :1]])
        return np.asarray(map_coordinates(wrapped, [rows, columns], order=1, mode="nearest"))

    def slice(self, lightness: float, points: int = 120) -> Array:
        """The cut at a lightness as a closed outline of a*, b* (points, 2)."""
        hue = np.linspace(0.0, 360.0, points, endpoint=False)
        chroma = self.chroma_at(np.full(points, lightness), hue)
        return np.column_stack([chroma * np.cos(np.radians(hue)), chroma * np.sin(np.radians(hue))])

    def area(self, lightness: float) -> float:
        """Area of the cut at a lightness in square CIELAB units."""
        x, y = self.slice(lightness).T
        return float(0.5 * abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))))

    def reach(self, hue: float) -> float:
        """Largest chroma at a hue in degrees, whatever the lightness."""
        return float(self.leaf(hue)[:, 0].max())

    def leaf(self, hue: float) -> Array:
        """The cut through the neutral axis at a hue in degrees: closed outline of chroma and L* (points, 2).

        Chroma is positive at `hue` and negative at the hue opposite.
        """
        levels = np.linspace(self.darkest, self.lightest, 81)
        right = self.chroma_at(levels, np.full(81, hue))
        left = self.chroma_at(levels, np.full(81, hue + 180.0))
        right[[0, -1]] = left[[0, -1]] = 0.0
        return np.vstack([np.column_stack([right, levels]), np.column_stack([-left, levels])[::-1]])

    def solid(self, hues: int = 48, levels: int = 25) -> tuple[Array, Array]:
        """The surface as Lab vertices (n, 3) and triangles (m, 3), for a view in space."""
        light = np.linspace(self.darkest, self.lightest, levels + 2)[1:-1]
        hue = np.arange(hues) * 360.0 / hues
        grid_l, grid_h = (g.ravel() for g in np.meshgrid(light, hue, indexing="ij"))
        chroma = self.chroma_at(grid_l, grid_h)
        around = np.column_stack(
            [grid_l, chroma * np.cos(np.radians(grid_h)), chroma * np.sin(np.radians(grid_h))]
        )
        ends = np.array([[self.darkest, 0.0, 0.0], [self.lightest, 0.0, 0.0]])
        return np.vstack([around, ends]), triangles(levels, hues)


def gamut_of(
    to_lab: Callable[[Array], Array], total_ink: float, channels: tuple[str, ...] = tuple("CMYK")
) -> Gamut:
    """Boundary of everything that `channels` print under `total_ink`, sampled on the faces of the device
    solid.

    `to_lab` maps device fractions (n, channels) to Lab (n, 3).
    """
    n = len(channels)
    inks = surface_inks(n, min(total_ink, float(n)), np.ones(n), black_of(channels))
    return gamut_from_lab(to_lab(as_inks(inks, channels)))


def gamut_from_lab(lab: Array) -> Gamut:
    """Boundary of Lab samples (n, 3) of a surface: its shell seen from the middle, cut at every lightness."""
    light, dark = float(lab[:, 0].max()), float(lab[:, 0].min())
    if np.hypot(lab[:, 1], lab[:, 2]).max() < LEAST_CHROMA or light - dark < 1.0:
        return Gamut(np.zeros((LEVELS, HUES)), light, dark)
    if np.linalg.svd(lab - lab.mean(axis=0), compute_uv=False)[-1] < _FLAT * np.sqrt(len(lab)):
        return Gamut(np.zeros((LEVELS, HUES)), light, dark)  # one ink, or two: a line or a sheet, no body
    # slightly beyond the ends, so that the whitest and the blackest sample are inside
    shell = shell_of(lab, np.array([0.55 * light + 0.45 * dark, 0.0, 0.0]), (dark - 1e-3, light + 1e-3))
    lights, chromas = shell.leaf(np.arange(HUES) * 360.0 / HUES)
    levels = np.linspace(0.0, 100.0, LEVELS)
    boundary = np.zeros((LEVELS, HUES))
    for h in range(HUES):
        rising = np.maximum.accumulate(lights[h]) + 1e-9 * np.arange(lights.shape[1])
        boundary[:, h] = np.interp(levels, rising, chromas[h], left=0.0, right=0.0)
    return Gamut(boundary, light, dark)


def share_inside(gamut: Gamut, aim: Gamut) -> float:
    """Share of the aim's volume that `gamut` covers, percent."""
    both = np.minimum(gamut.boundary, aim.boundary)
    whole = float((aim.boundary**2).sum())
    return 100.0 * float((both**2).sum()) / whole if whole else 0.0
