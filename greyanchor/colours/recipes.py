"""Recipes of spot colours on print modes: found, chosen, learned from readings, and put into the mode."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.colours.models import LightPlace, SpotRecipe
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.colour.illuminants import Light, MeasuredLight
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.recipe_choices import Choice, choices
from greyanchor.core.profiling.recipe_learning import Rounds, next_recipes
from greyanchor.core.profiling.recipes import find_recipes
from greyanchor.core.profiling.separation import Separation
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.library.records.editions import keep_edition
from greyanchor.profiles.models import Profile, SpotRecord
from greyanchor.profiles.queries import model_of, separation_options
from greyanchor.profiles.settings import separation_from

#: readings of a mode that speak for recipes nearby
_READINGS = 400
#: dE00 within which two readings of one print differ
NOISE = 0.25
#: what the evidence of an edition names that only put recipes into its mode
RULE = "recipes"


def profile_of(mode: PrintMode) -> Profile:
    """The profile that recipes of a mode are found through; `BadInput` where it has none."""
    if mode.profile is None:
        raise BadInput(f"{mode.name} has no profile, so no recipe can be found on it")
    return mode.profile


def separation_of(profile: Profile) -> Separation:
    """Limits that recipes keep to."""
    return separation_from(separation_options(profile))


def newest(mode: PrintMode, colours: Iterable[SpotRecord]) -> dict[int, SpotRecipe]:
    """The recipe to print of each colour that has one, by the key of the colour."""
    found: dict[int, SpotRecipe] = {}
    for recipe in SpotRecipe.objects.filter(mode=mode, colour__in=[c.pk for c in colours]):
        found.setdefault(recipe.colour_id, recipe)
    return found


def holds(recipe: SpotRecipe, colour: SpotRecord, profile: Profile) -> bool:
    """Whether a recipe is still for this colour through this profile."""
    same = np.allclose(recipe.of, colour.colour.lab, atol=0.005)
    return bool(same) and recipe.profile == profile.sha256


@needs(MAKE)
@transaction.atomic
def find(mode: PrintMode, colours: Sequence[SpotRecord], user: User | None) -> dict[int, SpotRecipe]:
    """The recipe of each colour, by its key: the newest that still holds, else found through the profile."""
    profile = profile_of(mode)
    held = _holding(mode, colours, profile)
    missing = [c for c in colours if c.pk not in held]
    if missing:
        asked = np.array([c.colour.lab for c in missing], dtype=float)
        found = find_recipes(model_of(profile), separation_of(profile), asked)
        made = [
            SpotRecipe(
                colour=c,
                mode=mode,
                inks=_rounded(found.inks[i]),
                of=list(c.colour.lab),
                profile=profile.sha256,
                predicted=_lab(found.lab[i]),
                miss=float(found.misses[i]),
                made_by=user,
            )
            for i, c in enumerate(missing)
        ]
        SpotRecipe.objects.bulk_create(made)
        held |= {r.colour_id: r for r in made}
    return held


def _holding(mode: PrintMode, colours: Sequence[SpotRecord], profile: Profile) -> dict[int, SpotRecipe]:
    there = newest(mode, colours)
    return {c.pk: there[c.pk] for c in colours if c.pk in there and holds(there[c.pk], c, profile)}


def _rounded(inks: Array) -> list[float]:
    return [round(float(v), 5) for v in inks]


def _lab(lab: Array) -> list[float]:
    return [round(float(v), 3) for v in lab]


# --- learning ----------------------------------------------------------------------------------


def rounds_of(mode: PrintMode, profile: Profile) -> Rounds:
    """What was read of recipes of a mode through its profile, newest first."""
    rows = list(
        SpotRecipe.objects.filter(mode=mode, profile=profile.sha256)
        .exclude(read=None)
        .values_list("inks", "read")[:_READINGS]
    )
    channels = len(profile.channels or "CMYK")
    return Rounds(
        np.array([r[0] for r in rows], dtype=float).reshape(-1, channels),
        np.array([r[1] for r in rows], dtype=float).reshape(-1, 3),
    )


@dataclass(frozen=True)
class Learned:
    """What became of a learning: recipes that were made, and how many colours are as near as they can be, or
    are out of reach.
    """

    made: list[SpotRecipe]
    reached: int
    out_of_reach: int


@needs(MAKE)
@transaction.atomic
def learn(mode: PrintMode, recipes: Iterable[SpotRecipe], user: User | None) -> Learned:
    """The next recipe of each colour whose newest recipe was read, where another print is worth it.

    It stops where what was read is within the noise of a reading, and where no inks come nearer.
    """
    profile = profile_of(mode)
    last = [
        r
        for r in recipes
        if r.read is not None and r.profile == profile.sha256 and holds(r, r.colour, profile)
    ]
    if not last:
        raise BadInput("none of these recipes was read yet")
    found = next_recipes(
        model_of(profile),
        separation_of(profile),
        np.array([r.of for r in last], dtype=float),
        np.array([r.inks for r in last], dtype=float),
        np.array([r.read for r in last], dtype=float),
        rounds_of(mode, profile),
        NOISE,
    )
    made = [
        SpotRecipe(
            colour=r.colour,
            mode=mode,
            round=r.round + 1,
            inks=_rounded(found.recipes.inks[i]),
            of=r.of,
            profile=profile.sha256,
            predicted=_lab(found.recipes.lab[i]),
            miss=float(found.expected[i]),
            why=SpotRecipe.Why.LEARNED,
            note=f"read {r.read_miss:.2f} dE00 off",
            made_by=user,
        )
        for i, r in enumerate(last)
        if found.verdicts[i] == "better"
    ]
    SpotRecipe.objects.bulk_create(made)
    return Learned(made, found.verdicts.count("reached"), found.verdicts.count("out of reach"))


# --- choosing ----------------------------------------------------------------------------------


def shop_lights() -> list[Light]:
    """The newest light of each place, and two that customers have."""
    rooms: list[Light] = []
    for place in LightPlace.objects.all():
        last = place.newest
        if last is not None:
            rooms.append(MeasuredLight(place.name, last.spectrum.measured.power))
    return [*rooms, "LED-B3", "A"]


def choices_of(mode: PrintMode, colour: SpotRecord) -> list[Choice]:
    """Recipes that print a colour equally near, and what each is the best for."""
    profile = profile_of(mode)
    return choices(
        model_of(profile),
        separation_of(profile),
        np.array(colour.colour.lab),
        colour.colour.spectrum,
        shop_lights(),
    )


@needs(MAKE)
@transaction.atomic
def choose(
    mode: PrintMode, colour: SpotRecord, inks: Sequence[float], note: str, user: User | None
) -> SpotRecipe:
    """Print this colour with these inks (fractions) from now on; `BadInput` past the limits of the mode."""
    profile = profile_of(mode)
    model, separation = model_of(profile), separation_of(profile)
    values = np.array(inks, dtype=float)
    if values.shape != (len(model.channels),) or not np.isfinite(values).all():
        raise BadInput(f"a recipe has {len(model.channels)} amounts of ink")
    if (values < 0).any() or (values > separation.tops(model.channels) + 1e-6).any():
        raise BadInput("an ink of this recipe is past its limit")
    if values.sum() > separation.total_ink + 1e-6:
        raise BadInput(f"the recipe has {100 * values.sum():.0f} % ink, more than the mode may print")
    lab = model.lab(values[None])[0]
    last = newest(mode, [colour]).get(colour.pk)
    return SpotRecipe.objects.create(
        colour=colour,
        mode=mode,
        round=last.round if last else 1,
        inks=_rounded(values),
        of=list(colour.colour.lab),
        profile=profile.sha256,
        predicted=_lab(lab),
        miss=float(delta_e_2000(lab, np.array(colour.colour.lab))),
        why=SpotRecipe.Why.CHOSEN,
        note=note[:200],
        made_by=user,
    )


# --- in force --------------------------------------------------------------------------------


def as_fact(recipe: SpotRecipe) -> dict[str, Any]:
    """What a mode and its editions keep of a recipe."""
    return {
        "inks": recipe.inks,
        "of": recipe.of,
        "profile": recipe.profile,
        "round": recipe.round,
        "miss": round(recipe.miss, 3),
        "read_miss": None if recipe.read_miss is None else round(recipe.read_miss, 3),
    }


@needs(MAKE)
@transaction.atomic
def put_into_mode(mode: PrintMode, recipes: Iterable[SpotRecipe], user: User | None) -> PrintMode:
    """Jobs print these recipes from now on; a released mode gets its next edition."""
    held = PrintMode.objects.select_for_update(of=("self",)).get(pk=mode.pk)
    if held.profile_id != mode.profile_id:
        raise BadInput(f"the profile of {held.name} was changed meanwhile; find the recipes again")
    facts = {r.colour.name: as_fact(r) for r in recipes}
    if not facts:
        raise BadInput("there is no recipe to put into the mode")
    held.recipes = {**held.recipes, **facts}
    held.version += 1
    words = f"recipes of {len(facts)} spot colour{'s' if len(facts) > 1 else ''}"
    set_history_author(held, user, words).save()
    if held.state == PrintMode.State.RELEASED:
        keep_edition(held, [{"rule": RULE, "ok": True, "text": words}], user)
    return held
