"""Angles of plates by default, and words for screens that beat."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import combinations
from typing import TypeVar

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.halftone.clustered import Lattice
from greyanchor.core.separation.halftone.rosettes import beats

T = TypeVar("T")
#: from the angle of black: 30 degrees apart, and 15 for yellow, whose beats are not seen
_OFFSETS = {"K": 0.0, "C": -30.0, "M": 30.0, "Y": -45.0}
_LONG = {"Black": "K", "Cyan": "C", "Magenta": "M", "Yellow": "Y"}
_ORDER = (0.0, 30.0, -30.0, -45.0)


def default_angles(inks: Sequence[str], base: float, overlap: Array | None = None) -> dict[str, float]:
    """Angles (degrees, 0 to 90) by ink, from that of black.

    C, M, Y and K have the usual ones. Further inks get those that no ink has yet; where all are taken, each
    has the angle of the ink that it overlaps least, as screens of one angle do not beat. `overlap`
    (inks, inks) says how much each pair prints together.

    >>> default_angles(["C", "M", "Y", "K"], 45.0)
    {'C': 15.0, 'M': 75.0, 'Y': 0.0, 'K': 45.0}
    """
    offsets: dict[str, float] = {}
    for ink in inks:
        if _LONG.get(ink, ink) in _OFFSETS:
            offsets[ink] = _OFFSETS[_LONG.get(ink, ink)]
    for place, ink in enumerate(inks):
        if ink in offsets:
            continue
        free = [o for o in _ORDER if o not in offsets.values()]
        if free:
            offsets[ink] = free[0]
            continue

        def meets(offset: float, place: int = place) -> float:
            if overlap is None:
                return sum(v == offset for v in offsets.values())
            shared = [float(overlap[place, i]) for i, c in enumerate(inks) if offsets.get(c) == offset]
            return max(shared)

        offsets[ink] = min(_ORDER, key=meets)
    return {ink: (base + offsets[ink]) % 90.0 for ink in inks}


def parse_angles(text: str) -> dict[str, float]:
    """Angles by ink from ``C=15,M=75,Harbour Red=22.5``. Raises `BadInput` for what is no angle."""
    found: dict[str, float] = {}
    for part in filter(None, (p.strip() for p in text.split(","))):
        name, equals, value = (p.strip() for p in part.partition("="))
        if not equals or not name or name in found:
            raise BadInput(f"angles are written C=15,M=75,Y=0,K=45; {part!r} is not understood")
        found[name] = parse_number(value)
        if not -360.0 <= found[name] <= 360.0:
            raise BadInput(f"the angle of {name}, {found[name]:g}, lies outside -360..360 degrees")
    return found


def matched(values: Mapping[str, T], inks: Sequence[str]) -> dict[str, T]:
    """Values by the names that plates have, whatever their letters' case, short or long.

    Raises `BadInput` for an ink that there is no plate of.
    """
    known = {i.casefold(): i for i in inks}
    known |= {long.casefold(): short for long, short in _LONG.items() if short in inks}
    known |= {short.casefold(): long for long, short in _LONG.items() if long in inks}
    foreign = [name for name in values if name.casefold() not in known]
    if foreign:
        raise BadInput(f"there is no plate of {foreign[0]}; there are {', '.join(inks)}")
    return {known[name.casefold()]: value for name, value in values.items()}


def beat_words(
    inks: Sequence[str],
    made: Sequence[Lattice],
    resolution: float,
    apart: frozenset[frozenset[str]] = frozenset(),
) -> list[str]:
    """What is to be known of screens that beat with one another, the longest beats first; not of those of
    which two are `apart`, so that they never print together.
    """
    found = sorted(beats(made, resolution), key=lambda b: -b.length_mm)
    out = []
    for beat in found:
        names = [inks[i] for i in beat.places]
        if any(frozenset(pair) in apart for pair in combinations(names, 2)):
            continue
        who = " and ".join(names) if len(names) == 2 else f"{', '.join(names[:-1])} and {names[-1]}"
        out.append(
            f"{who} beat: a pattern of {beat.length_mm:.3g} mm will be seen where they overlap; set them 30 "
            "degrees apart (15 for a light ink), or alike"
        )
    return out
