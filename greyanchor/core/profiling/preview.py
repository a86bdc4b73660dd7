"""What a separation does, at once: the inks along the neutral axis and through colours that show its
faults.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d

from greyanchor.core.characterization.compact import CompactModel
from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.parallel import one_thread
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.separation import Separation

STEPS = 49
#: second differences are reported for steps as long as those of a neutral axis of this many
_REPORTED_STEPS = 120
#: named paths through colour, Lab from light to dark (media-relative L* is scaled to what the printer has)
_PATHS: dict[str, tuple[str, tuple[tuple[int, int, int], ...]]] = {
    "neutral": ("Neutral axis", ((100, 0, 0), (0, 0, 0))),
    "skin": ("Skin", ((94, 4, 8), (66, 18, 20), (38, 17, 18), (6, 3, 3))),
    "deep blue": ("Deep blue", ((78, -4, -20), (42, 10, -46), (14, 12, -28), (4, 3, -7))),
    "dark red": ("Dark reds", ((72, 32, 20), (44, 56, 36), (24, 38, 24), (7, 10, 6))),
}


@dataclass(frozen=True)
class Path:
    """One path through colour.

    Attributes
    ----------
    name, title
        Key and heading.
    lab
        Absolute Lab asked for (STEPS, 3), from light to dark.
    inks
        Ink amounts (STEPS, channels), fractions.
    printed
        Lab (STEPS, 3) they print.
    roughness
        Largest second difference of any ink, percent per step squared at the pitch of a 120-step axis.
    """

    name: str
    title: str
    lab: Array
    inks: Array
    printed: Array
    roughness: float


@dataclass(frozen=True)
class Preview:
    """All paths of a separation, and its figures over them: largest sum of inks and mean sum of the neutral
    axis.
    """

    paths: tuple[Path, ...]
    largest_total: float
    neutral_mean: float
    darkest: float

    @property
    def roughness(self) -> float:
        """The roughest path's figure."""
        return max(p.roughness for p in self.paths)


@one_thread
def preview(model: ForwardModel, separation: Separation, quick: CompactModel | None = None) -> Preview:
    """Inks along all paths for `separation`; `quick` is `compact(model, ...)` where it is at hand."""
    inverter = Inverter(model, separation, quick=quick)
    white, darkest = inverter.white, inverter.darkest
    known = {**_PATHS, **_towards_further(model)}
    labs = [_path(points, white, darkest) for _, points in known.values()]
    # a point that settled elsewhere than its neighbours is begun again from between them
    first = inverter.solve(np.vstack(labs)).even.reshape(len(labs), STEPS, -1)
    between = uniform_filter1d(first, 7, axis=1, mode="nearest").reshape(len(labs) * STEPS, -1)
    solved = inverter.solve(np.vstack(labs), between, rounds=4, settle=3)
    printed = model.lab(solved.device)
    parts = [slice(i * STEPS, (i + 1) * STEPS) for i in range(len(labs))]
    paths = tuple(
        Path(name, title, lab, solved.device[part], printed[part], roughness(solved.device[part]))
        for (name, (title, _)), lab, part in zip(known.items(), labs, parts)
    )
    sums = solved.device.sum(axis=1)
    return Preview(paths, float(sums.max()), float(sums[parts[0]].mean()), darkest)


def _towards_further(model: ForwardModel) -> dict[str, tuple[str, tuple[tuple[int, int, int], ...]]]:
    """A path for each ink beside C, M, Y and K: from paper through its own hue to the dark."""
    out: dict[str, tuple[str, tuple[tuple[int, int, int], ...]]] = {}
    solids = model.lab(np.eye(len(model.channels)))
    for name, lab in zip(model.channels[4:], solids[4:]):
        lightness, a, b = (round(float(v)) for v in lab)
        full = (lightness, round(0.85 * a), round(0.85 * b))  # within the gamut, where tables are smooth
        dark = (max(round(0.45 * lightness), 8), round(0.35 * a), round(0.35 * b))
        light = (round(0.5 * (100 + lightness)), round(0.42 * a), round(0.42 * b))
        out[f"towards {name}"] = (f"Towards {name}", (light, full, dark))
    return out


def _path(points: tuple[tuple[int, int, int], ...], white: Array, darkest: float) -> Array:
    """A path from its corners, evenly in distance, its lightness laid between the print's black and paper."""
    corners = np.array(points, dtype=float)
    share = corners[:, 0] / 100.0
    corners[:, 0] = darkest + share * (white[0] - darkest)
    corners[:, 1:] += share[:, None] * white[1:]
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(corners, axis=0), axis=1))])
    at = np.linspace(0.0, along[-1], STEPS)
    return np.column_stack([np.interp(at, along, corners[:, i]) for i in range(3)])


def roughness(inks: Array) -> float:
    """Largest second difference of ink amounts (n, channels), percent, at the pitch of a 120-step axis."""
    pitch = ((len(inks) - 1) / (_REPORTED_STEPS - 1)) ** 2
    return float(100.0 * np.abs(np.diff(inks, 2, axis=0)).max() * pitch)
