"""The surface of a gamut as seen from a point inside it: one radius for each direction.

Surface points are flipped outwards by a power of their radius and wrapped in a convex hull, which
keeps hollows that a plain hull would bridge (Balasubramanian & Dalal, "A method for quantifying the
color gamut of an output device", Proc. SPIE 3018 (1997)); the hull answers for any direction.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import combinations, product

import numpy as np
from scipy.ndimage import gaussian_filter, map_coordinates
from scipy.spatial import ConvexHull

from greyanchor.core.colour.colorimetry import Array

ELEVATIONS, HUES = 91, 120
_FLIP = 0.35
#: how far edges are evened, in steps of elevation and hue
_EVENED = (1.2, 1.0)
_BLOCK = 512


@dataclass(frozen=True)
class Shell:
    """A surface around `centre` (3,), lightness first.

    Attributes
    ----------
    centre
        The point that everything is seen from, on the neutral axis.
    radius
        Shape (ELEVATIONS, HUES): from straight down (-90 degrees) to straight up, and round from hue 0.
    """

    centre: Array
    radius: Array

    def along(self, points: Array) -> tuple[Array, Array]:
        """Distance of points (n, 3) from the centre, and the surface's in the same directions, each (n,)."""
        away = points - self.centre
        return np.linalg.norm(away, axis=1), self.radius_at(away)

    def radius_at(self, directions: Array) -> Array:
        """Radius (n,) in directions (n, 3) of any length."""
        return self.look_up(self.radius, directions)

    @staticmethod
    def look_up(table: Array, directions: Array) -> Array:
        """Values (n,) of a `table` laid out like `radius` in directions (n, 3)."""
        chroma = np.hypot(directions[:, 1], directions[:, 2])
        elevation = np.degrees(np.arctan2(directions[:, 0], chroma))
        hue = np.degrees(np.arctan2(directions[:, 2], directions[:, 1])) % 360.0
        rows = (elevation + 90.0) / 180.0 * (ELEVATIONS - 1)
        wrapped = np.hstack([table, table[:, :1]])
        return np.asarray(map_coordinates(wrapped, [rows, hue / 360.0 * HUES], order=1, mode="nearest"))

    def evened(self) -> Shell:
        """The same surface without its edges, which a shade running across would show; the poles stay."""
        soft = gaussian_filter(self.radius, _EVENED, mode=("nearest", "wrap"))
        elevation = np.abs(np.linspace(-90.0, 90.0, ELEVATIONS))
        share = np.clip((88.0 - elevation) / 10.0, 0.0, 1.0)[:, None]
        return replace(self, radius=soft * share + self.radius * (1.0 - share))

    def cusps(self) -> tuple[Array, Array]:
        """Lightness and chroma (HUES,) of the most vivid colour of each hue."""
        lights, chromas = self.leaf(np.arange(HUES) * 360.0 / HUES)
        best = chromas.argmax(axis=1)
        return lights[np.arange(HUES), best], chromas.max(axis=1)

    def leaf(self, hue: Array) -> tuple[Array, Array]:
        """The half plane of each hue in degrees (n,): lightness and chroma (n, ELEVATIONS) of the surface."""
        elevation = np.radians(np.linspace(-90.0, 90.0, ELEVATIONS))
        columns = np.repeat((np.asarray(hue) % 360.0)[:, None] / 360.0 * HUES, ELEVATIONS, axis=1)
        rows = np.repeat(np.arange(ELEVATIONS)[None], len(columns), axis=0)
        wrapped = np.hstack([self.radius, self.radius[:, :1]])
        radius = map_coordinates(wrapped, [rows, columns], order=1, mode="nearest")
        return self.centre[0] + radius * np.sin(elevation), radius * np.cos(elevation)


def triangles(rows: int, columns: int) -> Array:
    """Indices (n, 3) of the triangles of a grid of vertices wound around an axis, its bottom and top
    vertices last.
    """
    index = np.arange(rows * columns).reshape(rows, columns)
    right = np.roll(index, -1, axis=1)
    quads = [index[:-1], right[:-1], right[1:], index[1:]]
    a, b, c, d = (q.ravel() for q in quads)
    bottom, top = rows * columns, rows * columns + 1
    return np.vstack(
        [
            np.column_stack([a, b, c]),
            np.column_stack([a, c, d]),
            np.column_stack([right[0], index[0], np.full(columns, bottom)]),
            np.column_stack([index[-1], right[-1], np.full(columns, top)]),
        ]
    )


def shell_of(points: Array, centre: Array, ends: tuple[float, float]) -> Shell:
    """The surface around sample points (n, 3); `ends` are the lightnesses of its black and white on the axis.

    Points outside the lightness of the ends are left out, so that the poles are the axis itself.
    """
    black, white = ends
    poles = np.array([[black, 0.0, 0.0], [white, 0.0, 0.0]])
    inside = points[(points[:, 0] > black) & (points[:, 0] < white)]
    away = np.vstack([inside, poles]) - centre
    distance = np.linalg.norm(away, axis=1)
    keep = distance > 1e-6 * distance.max()
    away, distance = away[keep] / distance[keep, None], distance[keep]
    scale = distance.max()
    hull = ConvexHull(away * ((distance / scale) ** _FLIP)[:, None])
    normals, offsets = hull.equations[:, :3], -hull.equations[:, 3]
    ways = directions().reshape(-1, 3)
    planes = (normals / offsets[:, None]).T
    parts = range(0, len(ways), _BLOCK)
    slope = np.concatenate([(ways[i : i + _BLOCK] @ planes).max(axis=1) for i in parts])
    radius = scale * (1.0 / np.maximum(slope, 1e-9)) ** (1.0 / _FLIP)
    radius = radius.reshape(ELEVATIONS, HUES)
    radius[0], radius[-1] = centre[0] - black, white - centre[0]
    return Shell(np.asarray(centre, dtype=float), radius)


def directions() -> Array:
    """Unit vectors (ELEVATIONS, HUES, 3) of a shell's radii."""
    elevation = np.radians(np.linspace(-90.0, 90.0, ELEVATIONS))[:, None]
    hue = np.radians(360.0 * np.arange(HUES) / HUES)[None]
    flat = np.cos(elevation)
    return np.stack(
        [np.broadcast_to(np.sin(elevation), (ELEVATIONS, HUES)), flat * np.cos(hue), flat * np.sin(hue)],
        axis=-1,
    )


def surface_inks(
    channels: int, total_ink: float, tops: Array, black: int | None = None, steps: int = 13
) -> Array:
    """Ink amounts (n, channels) whose colours cover the surface of a gamut.

    All faces of the cube of inks on which two channels vary and the others are none or full, within
    `tops` (channels,); what exceeds `total_ink` (sum) is taken down evenly. With `black`, the index of
    a black ink, colours of two inks darkened by every amount of it are added.
    """
    steps = max(5, steps - 2 * max(0, channels - 4))
    t = np.linspace(0.0, 1.0, steps)
    a, b = (m.ravel() for m in np.meshgrid(t, t))
    faces = []
    for pair in combinations(range(channels), min(2, channels)):
        others = [i for i in range(channels) if i not in pair]
        for state in product((0.0, 1.0), repeat=len(others)):
            if sum(state) > 4:
                continue
            face = np.zeros((len(a), channels))
            face[:, pair[0]] = a
            if len(pair) > 1:
                face[:, pair[1]] = b
            face[:, others] = state
            faces.append(face)
            if black is not None and black in others and sum(state) == state[others.index(black)] == 0:
                for amount in t[1:-1]:
                    dark = face.copy()
                    dark[:, black] = amount
                    faces.append(dark)
    inks = np.unique(np.vstack(faces), axis=0) * tops
    sums = inks.sum(axis=1)
    return np.asarray(inks * np.minimum(total_ink / np.maximum(sums, 1e-9), 1.0)[:, None])
