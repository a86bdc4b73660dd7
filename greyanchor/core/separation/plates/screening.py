"""The screens of a set of plates, from what is asked for: one screen, angles, and what is usual."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.separation.halftone.screens import ScreenSpec
from greyanchor.core.separation.plates.angles import default_angles, matched
from greyanchor.core.separation.plates.separations import Art, open_separations

#: dots an inch by which it is judged what inks print together
_COARSE = 30.0
#: share of the art that inks print together which only touch
_HARDLY = 0.002


def overlap_of(art: Art, inks: Sequence[str]) -> Array:
    """`overlap` of inks from a coarse look at the art."""
    coarse = replace(art, shape=replace(art.shape, margin_mm=0.0))
    with open_separations(coarse, _COARSE) as found:
        planes = found.planes(0, found.frame.window[3]) / 65535.0
    return overlap(inks, found.inks, planes)


def overlap(inks: Sequence[str], there: Sequence[str], planes: Array) -> Array:
    """How much each pair of inks prints together (inks, inks), 0 to 1; nothing for inks that are not there.

    `planes` (there, rows, columns) are amounts of the inks `there`, 0 to 1.
    """
    flat = dict(zip(there, planes.reshape(len(there), -1)))
    bare = np.zeros(planes[0].size)
    wanted = [flat.get(ink, bare) for ink in inks]
    return np.array([[float(np.minimum(a, b).mean()) for b in wanted] for a in wanted])


def never_meeting(inks: Sequence[str], together: Array) -> frozenset[frozenset[str]]:
    """Pairs of inks that hardly print together, by their `overlap`."""
    places = range(len(inks))
    found = [(i, j) for i in places for j in places if i < j and together[i, j] < _HARDLY]
    return frozenset(frozenset((inks[i], inks[j])) for i, j in found)


def screens_of(
    inks: Sequence[str],
    screen: ScreenSpec,
    angles: Mapping[str, float] | None = None,
    together: Array | None = None,
    own: Mapping[str, ScreenSpec] | None = None,
) -> dict[str, ScreenSpec]:
    """A screen for each ink.

    Parameters
    ----------
    screen
        For all of them, at the angle of black.
    angles
        By ink, where the usual ones are not to be taken.
    together
        `overlap` of the inks. Where there are more of them than angles, it says which share one; inks that
        print nothing take none. Without it they share evenly.
    own
        Screens of single inks that differ from the others'; they are turned as the others are.

    Raises `BadInput` for an angle of an ink that there is no plate of.
    """
    printed = list(inks)
    if together is not None:
        places = [k for k in range(len(inks)) if together[k, k] > 0.0]
        printed, together = [inks[k] for k in places], together[np.ix_(places, places)]
    absent = [default_angles([ink], screen.angle) for ink in inks if ink not in printed]
    usual = default_angles(printed, screen.angle, together)
    if len(inks) == 1:
        usual = {inks[0]: screen.angle}
    chosen = {ink: angle for made in (*absent, usual) for ink, angle in made.items()}
    chosen |= matched(angles or {}, inks)
    differs = matched(own or {}, inks)
    return {ink: replace(differs.get(ink, screen), angle=chosen[ink]) for ink in inks}
