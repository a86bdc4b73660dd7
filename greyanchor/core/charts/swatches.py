"""Swatch books: spot colours and their neighbours as charts whose patches carry names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: what stands under the patches of a book, in the meta data of its chart
CAPTIONS = "CAPTIONS"
#: in the meta data as well: lines around every patch, to cut along
CUTS = "CUT_LINES"
#: share of a patch's height that is colour where a name stands under it
COLOURED = 0.68
#: usual width of a patch, mm, by kind of book
WIDTHS = {"table": 20.0, "chips": 36.0, "near": 20.0}


@dataclass(frozen=True)
class Steps:
    """How far neighbours lie apart: steps of L*, of chroma and of hue, and how many to each side."""

    lightness: float = 3.0
    chroma: float = 5.0
    hue: float = 6.0
    count: int = 2

    def __post_init__(self) -> None:
        if not (0 < self.lightness <= 20 and 0 < self.chroma <= 30 and 0 < self.hue <= 45):
            raise BadInput("steps: lightness up to 20, chroma up to 30, hue up to 45 degrees, each above 0")
        if not 1 <= self.count <= 4:
            raise BadInput("steps: 1 to 4 to each side")


def neighbours(lab: Array, steps: Steps = Steps()) -> tuple[list[str], Array]:
    """Names and Lab (n, 3) of a colour's surroundings: planes of lightness from light to dark, in each rows
    of chroma from dull to strong, in each row hues. Chroma never falls below 0, L* stays within 0 and 100.

    >>> names, labs = neighbours(np.array([50.0, 20.0, 0.0]), Steps(count=1))
    >>> len(names), names[13], labs[13].round(6).tolist()
    (27, 'L 0 C 0 h 0', [50.0, 20.0, 0.0])
    """
    lightness, a, b = (float(v) for v in lab)
    chroma, hue = float(np.hypot(a, b)), float(np.degrees(np.arctan2(b, a)))
    offsets = range(-steps.count, steps.count + 1)
    names, labs = [], []
    for up in reversed(offsets):
        for strong in offsets:
            for turn in offsets:
                c = max(chroma + strong * steps.chroma, 0.0)
                h = np.radians(hue + turn * steps.hue)
                level = float(np.clip(lightness + up * steps.lightness, 0.0, 100.0))
                names.append(
                    f"L {_signed(up * steps.lightness)} C {_signed(strong * steps.chroma)} "
                    f"h {_signed(turn * steps.hue)}"
                )
                labs.append([level, c * float(np.cos(h)), c * float(np.sin(h))])
    return names, np.array(labs)


def _signed(value: float) -> str:
    return "0" if value == 0 else f"{value:+g}"


def book_chart(
    device: Array,
    channels: tuple[str, ...],
    names: Sequence[str],
    page: str = "a4",
    method: str = "strip",
    patch: float | None = None,
    meta: dict[str, str] | None = None,
) -> ReadingSet:
    """A chart of named patches (n, channels), in the order they are given, whose sheets show the names.

    Raises `BadInput` where the page holds no row of them.
    """
    facts = {CAPTIONS: "names", **(meta or {})}
    chart, _ = lay_out(device, channels, page, method, meta=facts, patch=patch)
    return replace(chart, names=tuple(names))
