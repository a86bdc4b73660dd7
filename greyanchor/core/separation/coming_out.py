"""How a picture's colours come out on a mode: what share of its area, and which colours do not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.core.colour.colorimetry import Array, delta_e_2000, xyz_to_lab
from greyanchor.core.parallel import in_parallel
from greyanchor.core.separation.link import DeviceLink

#: colours this near one another (dE00) are one when the worst are named
_ALIKE = 3.0
_MOST_NAMED = 6
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
    """

    asked: tuple[float, float, float]
    printed: tuple[float, float, float]
    difference: float
    share: float


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
                }
                for w in self.worst
            ],
        }


def asked_and_printed(link: DeviceLink, colours: Array) -> tuple[Array, Array]:
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


def coming_out(link: DeviceLink, pixels: np.ndarray[Any, Any]) -> ComingOut:
    """Judge pixels (rows, columns, channels) of 8 or 16 bits."""
    flat = pixels.reshape(-1, pixels.shape[-1])
    colours, counts = np.unique(flat, axis=0, return_counts=True)
    asked, printed = asked_and_printed(link, colours / float(np.iinfo(flat.dtype).max))
    off = delta_e_2000(asked, printed)
    share = counts / counts.sum()
    return ComingOut(
        within_1=float(share[off <= 1.0].sum()),
        within_3=float(share[off <= 3.0].sum()),
        beyond_3=float(share[off > 3.0].sum()),
        mean=float((share * off).sum()),
        worst=_named(asked, printed, off, share),
    )


def _named(asked: Array, printed: Array, off: Array, share: Array) -> tuple[WorstColour, ...]:
    """The worst colours, those alike taken together by what holds most of the area among them."""
    far = np.flatnonzero(off > _ALIKE)
    far = far[np.argsort(-(share * off)[far])][:4000]
    named: list[WorstColour] = []
    while len(far) and len(named) < 4 * _MOST_NAMED:
        first = far[0]
        alike = delta_e_2000(np.repeat(asked[first][None], len(far), axis=0), asked[far]) <= _ALIKE
        area = float(share[far[alike]].sum())
        if area >= _LEAST_SHARE:
            named.append(
                WorstColour(
                    tuple(float(v) for v in asked[first]),  # type: ignore[arg-type]
                    tuple(float(v) for v in printed[first]),  # type: ignore[arg-type]
                    float(off[first]),
                    area,
                )
            )
        far = far[~alike]
    return tuple(sorted(named, key=lambda w: -w.difference)[:_MOST_NAMED])
