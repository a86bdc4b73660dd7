"""What pages call a profile's settings, as the core takes them. Percent here, fractions there."""

from __future__ import annotations

from typing import Any

from greyanchor.core.colour.illuminants import Light, MeasuredLight
from greyanchor.core.colour.rgb_spaces import USUAL
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.build import ProfileSettings
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.profiles.models import RoomLight

_SHARES = ("total_ink", "black_start", "black_strength", "max_black", "width", "handover")


def separation_from(options: dict[str, Any]) -> Separation:
    """The separation that `options` ask for; what is not said is as usual."""
    facts: dict[str, Any] = {name: options[name] / 100.0 for name in _SHARES if options.get(name) is not None}
    pairs = {
        name: tuple((c, v / 100.0) for c, v in (options.get(name) or {}).items())
        for name in ("limits", "handovers")
    }
    overprints = tuple((tuple(k.split("+")), v / 100.0) for k, v in (options.get("overprints") or {}).items())
    if options.get("from_chroma") is not None:
        facts["from_chroma"] = float(options["from_chroma"])
    return Separation(**facts, **pairs, overprints=overprints)


def options_of(separation: Separation) -> dict[str, Any]:
    """Inverse of `separation_from`."""
    facts: dict[str, Any] = {name: round(100.0 * getattr(separation, name), 2) for name in _SHARES}
    return facts | {
        "limits": {c: round(100.0 * v, 2) for c, v in separation.limits},
        "handovers": {c: round(100.0 * v, 2) for c, v in separation.handovers},
        "from_chroma": separation.from_chroma,
        "overprints": {"+".join(inks): round(100.0 * v, 2) for inks, v in separation.overprints},
    }


def light_from(name: str) -> Light:
    """A CIE light by name, or one measured in a room, ``room:7``."""
    kind, _, number = name.partition(":")
    if kind != "room":
        return name
    room = RoomLight.objects.filter(pk=number if number.isdecimal() else None).first()
    if room is None:
        raise BadInput("the measured light is not there any more; choose another")
    return MeasuredLight(room.name, tuple(float(v) for v in room.power))


def settings_from(options: dict[str, Any], title: str, channels: int = 4) -> ProfileSettings:
    """All settings of a profile from what its form gave."""
    return ProfileSettings(
        separation=separation_from(options),
        version=int(options.get("version", 4)),
        light=light_from(options.get("light") or "D50"),
        title=options.get("title") or title,
        sizes=TableSizes.draft(channels) if options.get("quality") == "draft" else None,
        source=options.get("source") or USUAL,
        noise=float(options.get("noise") or 0.0),
    )
