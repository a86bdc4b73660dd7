"""How a picture's colours come out on a mode: what share of its area, and which colours do not."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000, xyz_to_lab
from greyanchor.core.parallel import in_parallel
from greyanchor.core.separation.layers import AnyLink

#: colours this near one another (dE00) are one when the worst are named
_ALIKE = 3.0
_MOST_NAMED = 6
_MOST_PLACES = 8
#: left, top, width and height in shares of a picture
Rectangle = tuple[float, float, float, float]
#: a colour is named when it holds at least this share of the area
_LEAST_SHARE = 0.0005


@dataclass(frozen=True)
class WorstColour:
    """A colour that does not come out.

    Attributes
    ----------
    asked, printed
        Lab on this paper.
    difference
        dE00.
    share
        Of the area that asks for colours like it.
    places
        Where: rectangles in shares of the picture (left, top, width, height), the largest first.
    """

    asked: tuple[float, float, float]
    printed: tuple[float, float, float]
    difference: float
    share: float
    places: tuple[Rectangle, ...] = ()


@dataclass(frozen=True)
class ComingOut:
    """Shares of the area, and the worst colours, the worst first.

    Attributes
    ----------
    within_1, within_3, beyond_3
        Shares of the area whose difference is up to 1, up to 3 (with those), and more, dE00.
    mean
        Over the area, dE00.
    """

    within_1: float
    within_3: float
    beyond_3: float
    mean: float
    worst: tuple[WorstColour, ...]

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "area_within_1": round(self.within_1, 4),
            "area_within_3": round(self.within_3, 4),
            "area_beyond_3": round(self.beyond_3, 4),
            "mean": round(self.mean, 3),
            "worst": [
                {
                    "asked": [round(v, 1) for v in w.asked],
                    "printed": [round(v, 1) for v in w.printed],
                    "difference": round(w.difference, 2),
                    "share": round(w.share, 4),
                    "places": [[round(v, 4) for v in place] for place in w.places],
                }
                for w in self.worst
            ],
        }


def asked_and_printed(link: AnyLink, colours: Array) -> tuple[Array, Array]:
    """Media-relative Lab (n, 3) that source values (n, k) ask for, and that they are printed as.

    Asked is what the source says with its black laid where the job's settings lay it: a picture's black is
    never the paper's. Printed is what the mode's own profile says of the inks that its table gives.
    """

    def part(values: Array) -> Array:
        asked = link.asked_lab(values)
        printed = xyz_to_lab(100.0 * link.target.to_xyz(link.device(values), "relative"))
        return np.hstack([asked, printed])

    both = np.concatenate(in_parallel(part, colours, 1 << 14))
    return both[:, :3], both[:, 3:]


@dataclass(frozen=True)
class Judged:
    """A picture taken apart, once for all modes that it is judged on.

    Attributes
    ----------
    colours
        Each colour that there is (n, channels), fractions.
    where
        Which of them each pixel has (rows, columns).
    share
        Of the area (n,).
    """

    colours: Array
    where: np.ndarray[Any, Any]
    share: Array

    @classmethod
    def of(cls, pixels: np.ndarray[Any, Any]) -> Judged:
        """Of pixels (rows, columns, channels) of 8 or 16 bits."""
        flat = pixels.reshape(-1, pixels.shape[-1])
        colours, where, counts = np.unique(flat, axis=0, return_inverse=True, return_counts=True)
        values = colours / float(np.iinfo(flat.dtype).max)
        return cls(values, where.reshape(pixels.shape[:2]), counts / counts.sum())


def coming_out(link: AnyLink, judged: Judged, name_worst: bool = True) -> ComingOut:
    """Judge a picture on a mode; without `name_worst` no colours are named, which is quicker."""
    asked, printed = asked_and_printed(link, judged.colours)
    off = delta_e_2000(asked, printed)
    share = judged.share
    return ComingOut(
        within_1=float(share[off <= 1.0].sum()),
        within_3=float(share[off <= 3.0].sum()),
        beyond_3=float(share[off > 3.0].sum()),
        mean=float((share * off).sum()),
        worst=_named(asked, printed, off, share, judged.where) if name_worst else (),
    )


def _named(
    asked: Array, printed: Array, off: Array, share: Array, where: np.ndarray[Any, Any]
) -> tuple[WorstColour, ...]:
    """The worst colours, those alike taken together by what holds most of the area among them."""
    far = np.flatnonzero(off > _ALIKE)
    far = far[np.argsort(-(share * off)[far])][:4000]
    named: list[tuple[WorstColour, np.ndarray[Any, Any]]] = []
    while len(far) and len(named) < 4 * _MOST_NAMED:
        first = far[0]
        alike = delta_e_2000(np.repeat(asked[first][None], len(far), axis=0), asked[far]) <= _ALIKE
        area = float(share[far[alike]].sum())
        if area >= _LEAST_SHARE:
            found = WorstColour(
                tuple(float(v) for v in asked[first]),  # type: ignore[arg-type]
                tuple(float(v) for v in printed[first]),  # type: ignore[arg-type]
                float(off[first]),
                area,
            )
            named.append((found, far[alike]))
        far = far[~alike]
    worst = sorted(named, key=lambda pair: -pair[0].difference)[:_MOST_NAMED]
    return tuple(replace(found, places=rectangles(np.isin(where, members))) for found, members in worst)


def rectangles(inside: np.ndarray[Any, Any]) -> tuple[Rectangle, ...]:
    """Rectangles (shares of the picture) around connected places of a mask (rows, columns), the largest
    first; specks beside them are left out.
    """
    from scipy.ndimage import binary_dilation, find_objects, label  # takes long to load

    tall, wide = inside.shape
    labels, count = label(binary_dilation(inside, iterations=2))
    found = []
    for number, part in enumerate(find_objects(labels, count), 1):
        held = int((inside[part] & (labels[part] == number)).sum())
        rows, columns = part
        box = (
            columns.start / wide, rows.start / tall,
            (columns.stop - columns.start) / wide, (rows.stop - rows.start) / tall,
        )  # fmt: skip
        found.append((held, box))
    found.sort(reverse=True)
    least = 0.05 * found[0][0] if found else 0
    return tuple(box for held, box in found[:_MOST_PLACES] if held >= least)
