"""Cut paths: contours in their places, moved in or out, with weed lines, in the order they are cut.

Places are mm; x runs across the media, y along it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from shapely.geometry import LineString, MultiPolygon, Polygon

from greyanchor.core.errors import BadInput

Points = np.ndarray[Any, np.dtype[np.float64]]
#: what a path is for
KINDS = {"weed": "weed line", "cut": "cut", "double": "second cut"}
#: a contour is closed when its ends meet within so many mm
_MEET = 0.05
MOST = 20.0


@dataclass(frozen=True)
class CutPath:
    """A line that the blade follows: `points` (n, 2), mm; a closed one does not repeat its first point."""

    kind: str
    points: Points
    closed: bool = True

    @property
    def length(self) -> float:
        """mm that the blade goes."""
        around = np.vstack([self.points, self.points[:1]]) if self.closed else self.points
        return float(np.hypot(*np.diff(around, axis=0).T).sum())

    @property
    def followed(self) -> Points:
        """Points from start to end, the first again where it is closed."""
        return np.vstack([self.points, self.points[:1]]) if self.closed else self.points

    def moved(self, x: float, y: float) -> CutPath:
        """The same elsewhere."""
        return replace(self, points=self.points + np.array([x, y]))


@dataclass(frozen=True)
class CutRules:
    """How contours are cut.

    Attributes
    ----------
    bleed
        mm that the cut lies inside the contour, so that no bare edge shows.
    double
        mm outside the contour at which a second cut follows; 0 for none.
    weed
        mm around a contour at which a box lets the surplus be pulled off; 0 for none.
    """

    bleed: float = 0.0
    double: float = 0.0
    weed: float = 0.0

    def __post_init__(self) -> None:
        for name, value in (("bleed", self.bleed), ("second cut", self.double), ("weed line", self.weed)):
            if not 0.0 <= value <= MOST:
                raise BadInput(f"{name}: {value:g} mm is outside 0..{MOST:g}")

    @classmethod
    def of(cls, values: Mapping[str, Any]) -> CutRules:
        """From plain values; what is missing is 0."""
        return cls(**{k: float(values.get(k, 0.0)) for k in cls.__dataclass_fields__})


def contours_of(lines: Iterable[Iterable[Iterable[float]]]) -> list[CutPath]:
    """Contours out of lines of points; those whose ends meet are closed, dots are left out."""
    found = []
    for line in lines:
        points = np.array([list(p) for p in line], dtype=float).reshape(-1, 2)
        if len(points) < 2:
            continue
        apart = float(np.hypot(*(points[0] - points[-1])))
        closed = len(points) > 3 and apart <= _MEET
        if np.ptp(points, axis=0).max() > _MEET:
            found.append(CutPath("cut", points[:-1] if closed else points, closed))
    return found


def paths_for(contours: Iterable[CutPath], rules: CutRules) -> list[CutPath]:
    """What is cut for some contours of one piece: by kind weed lines, cuts, second cuts.

    Raises `BadInput` where the cut, moved inside, would leave nothing of a contour.
    """
    contours = list(contours)
    found: list[CutPath] = []
    for contour in contours:
        if not contour.closed:
            found.append(contour)
            continue
        shape = Polygon(contour.points).buffer(0)
        inner = list(_around(shape.buffer(-rules.bleed, join_style="mitre"), "cut")) if rules.bleed else None
        if inner is not None and not inner:
            raise BadInput(
                f"a contour of {shape.area:.1f} mm² has nothing left {rules.bleed:g} mm inside: choose less "
                "bleed"
            )
        found += [contour] if inner is None else inner
        if rules.double:
            found += _around(shape.buffer(rules.double, join_style="round", quad_segs=8), "double")
    if rules.weed and contours:
        low = np.min([c.points.min(axis=0) for c in contours], axis=0) - rules.weed - rules.double
        high = np.max([c.points.max(axis=0) for c in contours], axis=0) + rules.weed + rules.double
        corners = [(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1])]
        found.append(CutPath("weed", np.array(corners)))
    return found


def _around(shape: Any, kind: str) -> Iterator[CutPath]:
    parts = shape.geoms if isinstance(shape, MultiPolygon) else [shape]
    for part in parts:
        if part.is_empty:
            continue
        for ring in (part.exterior, *part.interiors):
            yield CutPath(kind, np.array(ring.coords)[:-1])


def in_order(paths: Iterable[CutPath]) -> list[CutPath]:
    """What lies inside first, so that nothing moves before it is cut; then always the nearest next."""
    waiting = list(paths)
    depth = _depths(waiting)
    found: list[CutPath] = []
    at = np.zeros(2)
    for level in sorted(set(depth), reverse=True):
        here = [p for p, d in zip(waiting, depth) if d == level]
        while here:
            best = min(range(len(here)), key=lambda i: _nearest(here[i], at)[0])
            path = _begun_near(here.pop(best), at)
            found.append(path)
            at = path.points[0] if path.closed else path.points[-1]
    return found


def _depths(paths: list[CutPath]) -> list[int]:
    """How many closed paths each lies in."""
    boxes = [(p.points.min(axis=0), p.points.max(axis=0)) for p in paths]
    shapes: dict[int, Polygon] = {}
    found = []
    for i, path in enumerate(paths):
        low, high = boxes[i]
        inside = 0
        for j, (other_low, other_high) in enumerate(boxes):
            if i == j or not paths[j].closed or (other_low > low).any() or (other_high < high).any():
                continue
            if j not in shapes:
                shapes[j] = Polygon(paths[j].points).buffer(0)
            inside += int(shapes[j].contains(LineString(path.followed)))
        found.append(inside)
    return found


def _nearest(path: CutPath, at: Points) -> tuple[float, int]:
    ends = path.points if path.closed else path.points[[0, -1]]
    far = np.hypot(*(ends - at).T)
    best = int(far.argmin())
    return float(far[best]), best


def _begun_near(path: CutPath, at: Points) -> CutPath:
    _, place = _nearest(path, at)
    if path.closed:
        return replace(path, points=np.roll(path.points, -place, axis=0))
    return replace(path, points=path.points[::-1] if place else path.points)
