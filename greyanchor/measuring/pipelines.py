"""What a print mode does to device values before they reach the printer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.light_split import split_channels, split_from
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.library.models import InkSet, Media, PrintMode

CMYK = tuple("CMYK")


def channels_of(ink_set: InkSet) -> tuple[str, ...]:
    """Inks that a mode of this ink set separates into, in printing order: light inks share theirs."""
    return tuple(ink_set.channels)


def to_raw(splits: list[dict[str, Any]], channels: tuple[str, ...] = CMYK) -> Callable[[Array], Array]:
    """From raw values of the inks to what is sent: light inks share with their parents."""
    if not splits:
        return lambda device: device
    made = [split_from(s) for s in splits]
    return lambda device: split_channels(device, channels, made)


def sent_channels(ink_set: InkSet, splits: list[dict[str, Any]]) -> tuple[str, ...]:
    """The channels that `to_raw` gives."""
    return (*channels_of(ink_set), *(s.get("light") or s.get("second") or s["alongside"] for s in splits))


def dry_minutes(ink_set: InkSet, media: Media) -> float:
    """How long a print lies before it is read: nothing for inks that lamps cure."""
    return 0.0 if ink_set.dries_at_once else float(media.dry_minutes)


def mode_curves(mode: PrintMode) -> CurveSet:
    """The curves a mode prints through; `BadInput` when it has none yet."""
    if not mode.curves:
        raise BadInput(f"{mode.name} has no curves yet, so nothing can be printed through them")
    return CurveSet.from_csv(mode.curves, f"curves of {mode.name}")


def mode_pipeline(mode: PrintMode) -> Callable[[Array], Array]:
    """From linearized C M Y K of a mode to what is sent to its printer."""
    curves, share = mode_curves(mode), to_raw(mode.splits, channels_of(mode.ink_set))
    return lambda device: share(curves.apply(device))
