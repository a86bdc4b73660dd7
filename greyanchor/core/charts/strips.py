"""Control strips: one for each purpose, and strips with spot colours."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.charts.layout import lay_out, lay_out_places
from greyanchor.core.charts.patches import control_strip, near_neutral
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

Spots = Sequence[tuple[str, Array]]
#: places across and along the sheet at which uniformity is looked at
NINE = 9


@dataclass(frozen=True)
class StripKind:
    """A strip of our own: what it is for, its CMYK patches (n, 4), and how often each is printed.

    Repeats of `copies` are averaged before they are judged; those of a uniformity strip are what is judged.
    """

    name: str
    title: str
    purpose: str
    patches: Callable[[], Array]
    copies: int = 1
    places: bool = False


def _tints(levels: Sequence[float]) -> Array:
    return np.vstack([level * np.eye(4) for level in levels])


def _short() -> Array:
    """Paper, solids, overprints, midtones and five greys: what a daily check needs."""
    pairs = np.array([(1, 1, 0, 0), (1, 0, 1, 0), (0, 1, 1, 0)], dtype=float)
    greys = np.hstack([near_neutral((0.25, 0.5, 0.6, 0.75, 1.0)), np.zeros((5, 1))])
    blacks = np.array([(0, 0, 0, 0.25), (0, 0, 0, 0.75)])
    skin = np.array([(0.10, 0.30, 0.35, 0.0), (0.15, 0.45, 0.50, 0.0)])
    return np.vstack([np.zeros((1, 4)), _tints((1.0, 0.5)), pairs, greys, blacks, skin])


def _grey() -> Array:
    """The two grey scales in 5 % steps at the ends and 10 % between, with paper and solids, for G7."""
    steps = np.array([0.05, 0.1, 0.2, 0.25, 0.3, 0.4, 0.5, 0.6, 0.7, 0.75, 0.8, 0.9, 0.95, 1.0])
    black = np.zeros((len(steps), 4))
    black[:, 3] = steps
    pairs = np.array([(1, 1, 0, 0), (1, 0, 1, 0), (0, 1, 1, 0)], dtype=float)
    return np.vstack(
        [
            np.zeros((1, 4)),
            np.eye(4)[:3],
            pairs,
            np.hstack([near_neutral(steps), np.zeros((len(steps), 1))]),
            black,
        ]
    )


def _even() -> Array:
    """Three colours and paper in nine places: a light, a middle and a dark tint, as ISO 12647-7 looks at."""
    return np.array([(0, 0, 0, 0), (0.1, 0.06, 0.06, 0), (0.4, 0.3, 0.3, 0.1), (0.65, 0.5, 0.5, 0.3)])


STRIPS = {
    s.name: s
    for s in (
        StripKind("full", "Control strip, full", "ISO 12647-7 and all G7 levels", control_strip),
        StripKind("short", "Control strip, short", "a daily check in one minute", _short),
        StripKind(
            "averaged",
            "Control strip, every patch twice",
            "contract proofs, repeats averaged",
            control_strip,
            2,
        ),
        StripKind("grey", "Grey scale strip", "verification of grey balance", _grey),
        StripKind("even", "Uniformity strip", "nine places over the sheet", _even, NINE, True),
    )
}


def from_chart(chart: ReadingSet) -> ReadingSet:
    """A strip described by a file: its CMYK values and names, whatever else it holds.

    Raises `BadInput` when there are no CMYK values or too many patches for a strip.
    """
    if chart.device is None or chart.channels != tuple("CMYK"):
        raise BadInput("a control strip needs CMYK values for every patch")
    if not 1 <= len(chart) <= 2500:
        raise BadInput(f"the file has {len(chart)} patches; a control strip has 1 to 2500")
    return replace(chart, spectra=None, measured_xyz=None, measured_lab=None)


def lay_out_strip(
    device: Array,
    page: str = "a4",
    method: str = "strip",
    names: Sequence[str] | None = None,
    averaged: bool = False,
    places: bool = False,
    meta: dict[str, str] | None = None,
) -> ReadingSet:
    """A control strip as a chart: CMYK (n, 4) with the `names` of spot colours, empty for process colours.

    Repeats of an `averaged` strip are averaged before they are judged; with `places` the patches stand in
    nine places of the sheet.
    """
    facts = {**(meta or {}), **({"REPEATS": "averaged"} if averaged else {})}
    if places:
        return lay_out_places(device, tuple("CMYK"), page, method, facts)[0]
    chart, _ = lay_out(device, tuple("CMYK"), page, method, None, facts)
    return replace(chart, names=tuple(names)) if names is not None and any(names) else chart


def of_kind(
    name: str, page: str = "a4", method: str = "strip", spots: Spots = (), meta: dict[str, str] | None = None
) -> ReadingSet:
    """One of `STRIPS` laid out, with patches for `spots`: name with its tint, and the CMYK (4,) that
    prints it.

    Raises `BadInput` for a strip that there is not, and for a page without room.
    """
    if name not in STRIPS:
        raise BadInput(f"no control strip {name!r}; use one of {', '.join(STRIPS)}")
    kind = STRIPS[name]
    if kind.places:
        return lay_out_strip(kind.patches(), page, method, places=True, meta=meta)
    device, names = with_spots(kind.patches(), spots)
    return lay_out_strip(
        np.tile(device, (kind.copies, 1)), page, method, names * kind.copies, kind.copies > 1, meta=meta
    )


def with_spots(device: Array, spots: Spots) -> tuple[Array, tuple[str, ...]]:
    """A strip (n, 4) with patches for spot colours: names with their tint, and the CMYK that prints them
    (4,).

    Gives device values and the name of each patch, empty for process colours.
    """
    if not spots:
        return device, ("",) * len(device)
    return np.vstack([device, *[np.asarray(cmyk)[None] for _, cmyk in spots]]), (
        *("" for _ in device),
        *(name for name, _ in spots),
    )
