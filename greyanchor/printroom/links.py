"""The conversion of a job: its artwork, its mode and its choices, made one, and kept for a while."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

from django.db.models import BinaryField
from django.db.models.functions import Substr

from greyanchor.core.artwork.pictures import Picture
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.formats.icc import IccProfile
from greyanchor.core.printing.inks import VARNISH, WHITE
from greyanchor.core.separation.from_pack import mode_inks
from greyanchor.core.separation.layers import AnyLink
from greyanchor.core.separation.link import ModeInks, PlaneInk
from greyanchor.core.separation.printing import Order, link_for, screen_of
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom.models import Job
from greyanchor.printroom.recipes import spots_of
from greyanchor.profiles.models import AimRecord

#: pixels an inch of a picture for a printer that takes R G B
PICTURE_DPI = 360.0


def fingerprint(*parts: Any) -> str:
    """A short hash of plain values."""
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()[:16]


def inks_of(mode: PrintMode) -> ModeInks:
    """What a mode prints. Raises `BadInput` for one without a profile."""
    if mode.ink_set.is_film:
        raise BadInput(f"{mode.name} prints films: plates go on it as they were made")
    if mode.profile_id is None:
        raise BadInput(f"{mode.name} has no profile yet, so nothing can be printed through it")
    return _inks(mode.pk, mode.version, mode.profile_id, mode.curve_set_id)


@lru_cache(maxsize=48)
def _inks(pk: int, version: int, profile: int, curves: int | None) -> ModeInks:
    mode = PrintMode.objects.select_related("profile", "curve_set").get(pk=pk)
    assert mode.profile is not None
    read = icc.loads(bytes(mode.profile.data), mode.profile.title)
    made = CurveSet.from_csv(mode.curves) if mode.curves else None
    return mode_inks(read, made, list(mode.splits), mode.limits, mode.total_ink)


def press_of(choices: Mapping[str, Any]) -> AimRecord | None:
    """The press that a job is printed as on."""
    return AimRecord.objects.filter(pk=choices["press"]).first() if choices["press"] else None


def source_of_choice(choices: Mapping[str, Any]) -> IccProfile | None:
    """The profile that a job takes its untagged colours for; None for the usual one of their kind."""
    record = AimRecord.objects.filter(pk=choices["source"]).first() if choices["source"] else None
    return None if record is None else chosen.press_profile(record)


def sources_for(kind: str) -> list[AimRecord]:
    """Profiles of the shop that untagged colours of a kind may be taken for."""
    space = {"cmyk": b"CMYK", "rgb": b"RGB ", "grey": b"GRAY"}[kind]
    profiles = AimRecord.objects.filter(kind=AimRecord.Kind.PROFILE).defer("data", "filled")
    # the colour space stands at byte 16 of a profile (ICC.1:2022, 7.2)
    spaces = profiles.annotate(space=Substr("data", 17, 4, output_field=BinaryField()))
    return [p for p in spaces if bytes(p.space) == space]


def order_of(job: Job, mode: PrintMode, choices: Mapping[str, Any]) -> Order:
    """Everything the core needs to print a job."""
    settings = chosen.settings_of(choices, press_of(choices))
    resolution = float(mode.environment.get("resolution", 600))
    drives = mode.ink_set.parts_itself  # takes a picture and makes dots of it itself
    return Order(
        replace(inks_of(mode), planes=planes_of(mode, choices)),
        chosen.shape_of(choices, job.page),
        settings,
        source_of_choice(choices),
        resolution=min(resolution, PICTURE_DPI) if drives else resolution,
        screen=None if drives else screen_of(str(mode.environment.get("halftone", ""))),
        pictures=chosen.of_pictures(choices, settings),
        spots=tuple(s.ink for s in spots_of(job.artwork, job.page, mode) if s.ink is not None),
    )


def planes_of(mode: PrintMode, choices: Mapping[str, Any]) -> tuple[PlaneInk, ...]:
    """White and varnish that a job prints. Raises `BadInput` for those that its printer has not."""
    found = []
    for role in (WHITE, VARNISH):
        place = choices.get(role) or ""
        if not place:
            continue
        ink = next((i for i in mode.ink_set.planes if i.role == role), None)
        if ink is None:
            raise BadInput(f"{mode.ink_set.name} has no {role}: print {mode.name} without it")
        limit = float(mode.planes.get(ink.channel, {}).get("limit", 100.0))
        found.append(PlaneInk(ink.channel, limit / 100.0, place == "page"))
    return tuple(found)


def link_of(picture: Picture, job: Job, mode: PrintMode, choices: Mapping[str, Any]) -> AnyLink:
    """The conversion of a picture of a job's page through a mode with a job's choices."""
    return link_for(picture, order_of(job, mode, choices))
