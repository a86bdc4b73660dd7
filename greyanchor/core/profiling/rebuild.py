"""A profile made again from what it carries: characterization data and the settings it was built with."""

from __future__ import annotations

import json
from dataclasses import asdict, replace

import numpy as np

from greyanchor.core.charts.patches import profile_patches
from greyanchor.core.colour.illuminants import Light, MeasuredLight
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.measurement.readings import GREY, ReadingSet, as_inks
from greyanchor.core.profiling.separation import Separation

#: name under which the characterization data inside a profile say how it was built
SETTINGS = "PROFILE_SETTINGS"
#: and the names of other media that it was learned with
LIKE = "LEARNED_WITH"
#: patches read off the table of a profile that carries no characterization data
_SAMPLED = {1: 64, 3: 900, 4: 1500}


def with_settings(readings: ReadingSet, separation: Separation, light: Light) -> ReadingSet:
    """`readings` with the separation and the viewing light among their facts, as they go into a profile."""
    found = (
        light if isinstance(light, str) else [light.name.replace("'", ""), [round(p, 3) for p in light.power]]
    )
    facts = {"separation": asdict(separation), "light": found}
    return replace(readings, meta={**readings.meta, SETTINGS: json.dumps(facts, sort_keys=True)})


def settings_inside(readings: ReadingSet) -> tuple[Separation, Light] | None:
    """The separation and light that `with_settings` wrote; None where there are none. `BadInput` when
    damaged.
    """
    text = readings.meta.get(SETTINGS)
    if not text:
        return None
    try:
        facts = json.loads(text.replace("'", '"'))
        separation = facts["separation"]
        for pairs in ("limits", "handovers"):
            separation[pairs] = tuple((str(c), float(v)) for c, v in separation.get(pairs, ()))
        separation["overprints"] = tuple(
            (tuple(map(str, inks)), float(v)) for inks, v in separation.get("overprints", ())
        )
        light = facts["light"]
        if not isinstance(light, str):
            light = MeasuredLight(str(light[0]), tuple(float(p) for p in light[1]))
        return Separation(**separation), light
    except (ValueError, TypeError, KeyError, IndexError) as error:
        raise BadInput(f"the settings inside the profile are damaged: {error}") from error


def characterization_inside(profile: icc.IccProfile) -> ReadingSet | None:
    """The readings in the tag `targ`; None when there are none that could be read."""
    text = icc.tag_text(profile.tags.get("targ", b""))
    if not text.strip():
        return None
    try:
        readings = cgats.loads(text.encode(), "characterization data inside the profile")
    except BadInput:
        return None
    return readings if readings.is_measured and readings.device is not None else None


def characterization_of(profile: icc.IccProfile) -> tuple[ReadingSet, str]:
    """Readings to build again from, and where they come from in words.

    The characterization data inside where there are any, else colours read off the profile's own table.
    """
    inside = characterization_inside(profile)
    if inside is not None:
        return inside, f"{len(inside)} patches of characterization data inside the profile"
    readings = sampled(profile)
    return readings, f"{len(readings)} colours read off the profile's own table, as it carries no readings"


def sampled(profile: icc.IccProfile) -> ReadingSet:
    """Colours of a profile chart as the profile's own table gives them, Lab alone.

    Raises `BadInput` where the table gives no colours.
    """
    channels = ("K",) if profile.inks == GREY else profile.inks
    count = _SAMPLED.get(len(channels), 3000)
    inks = profile_patches(count, min(3.0, float(len(channels))), len(channels))
    lab = profile.device_to_lab(as_inks(inks, profile.inks))
    if not np.isfinite(lab).all():
        raise BadInput("the profile's table gives no colours")
    device = as_inks(inks, channels)
    ids = tuple(str(i + 1) for i in range(len(inks)))
    return ReadingSet(ids=ids, channels=channels, device=device, measured_lab=lab)
