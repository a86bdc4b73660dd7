"""Spot colours of artwork on a mode: the shop's own recipes for those that its library knows by name."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.checks.strip_prints import recipes_on
from greyanchor.core.artwork.pdf_inspection import CUTS
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.formats.icc import PCS_WHITE
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.separation.spots import SpotInk, spot_ink
from greyanchor.core.verification.spots import SpotColour
from greyanchor.library.models import PrintMode
from greyanchor.printroom.models import Artwork
from greyanchor.profiles.models import Profile
from greyanchor.profiles.spots import named


@dataclass(frozen=True)
class PageSpot:
    """A spot colour of a page.

    Attributes
    ----------
    name
        As the artwork calls it.
    instead
        What the file has in its place, in words.
    colour
        As the shop's library has it; None where it has none of this name.
    ink
        On the job's mode; None without a mode, or without a colour.
    """

    name: str
    instead: str
    colour: SpotColour | None
    ink: SpotInk | None = None


def spots_of(artwork: Artwork, page: int, mode: PrintMode | None = None) -> list[PageSpot]:
    """Spot colours of a page that are printed, each with its recipe on a mode where there is one."""
    pages = artwork.pages
    named = pages[page - 1].get("spots", {}) if 1 <= page <= len(pages) else {}
    names = sorted(n for n in named if n not in ("All", "None") and not CUTS.search(n))
    known = known_spots(names)
    inks = {i.name: i for i in inks_on(mode, known.values())} if mode is not None else {}
    return [PageSpot(n, str(named[n]), known.get(n), inks.get(n)) for n in names]


def spot_facts(artwork: Artwork, page: int, mode: PrintMode | None = None) -> list[Any]:
    """Plain values that change when the library knows a page's spot colours otherwise, or a mode prints other
    recipes of them.
    """
    known = [s for s in spots_of(artwork, page) if s.colour is not None]
    kept = {s.name: mode.recipe_of(s.name, s.colour.lab) for s in known if s.colour} if mode else {}
    return [(s.name, s.colour.as_dict() if s.colour else {}, kept.get(s.name)) for s in known]


def known_spots(names: Iterable[str]) -> dict[str, SpotColour]:
    """Spot colours of the shop's books, by the name that artwork gives them, whatever its capitals."""
    return {name: replace(record.colour, name=name) for name, record in named(names).items()}


def inks_on(mode: PrintMode, colours: Iterable[SpotColour]) -> tuple[SpotInk, ...]:
    """Spot colours on a mode, which has a profile."""
    if mode.profile_id is None:
        return ()
    return tuple(
        _ink(
            mode.profile_id,
            c.name,
            c.lab,
            tuple(sorted((t, tuple(v)) for t, v in c.tints.items())),
            tuple(mode.recipe_of(c.name, c.lab) or ()),
        )
        for c in colours
    )


@lru_cache(maxsize=512)
def _ink(
    profile: int,
    name: str,
    lab: tuple[float, float, float],
    tints: tuple[Any, ...],
    kept: tuple[float, ...],
) -> SpotInk:
    record = Profile.objects.get(pk=profile)
    target = ProfileColour(icc.loads(bytes(record.data), record.title))
    colour = SpotColour(name, lab, dict(tints))
    return spot_ink(colour, np.array(kept) if kept else _recipe(record, colour, target), target)


def _recipe(record: Profile, colour: SpotColour, target: ProfileColour) -> Array:
    """By the model of the profile's readings; by its own table where it came without them."""
    try:
        return np.asarray(recipes_on(record, [colour]).inks[0])
    except BadInput:
        lab = np.array([colour.lab], dtype=float)
        relative = xyz_to_lab(lab_to_xyz(lab) * (PCS_WHITE / target.white))
        return np.clip(target.from_lab(relative, "relative")[0], 0.0, 1.0)
