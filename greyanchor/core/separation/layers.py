"""Pages whose pixels say more than a colour: spot colours of their own, and what is part of a picture.

A spot colour's ink is added to what lies under it, as a press would, in the device values of the mode's
profile: total ink, curves and light inks come after. Where it knocks out, that is its recipe alone.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numba import njit

from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each
from greyanchor.core.separation.conversion import Conversion, share_out, share_tables
from greyanchor.core.separation.link import DeviceLink, LinkSettings, ModeInks
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.separation.spots import SpotInk, nudged

Pixels = np.ndarray[Any, Any]
_PART = 1 << 17


@dataclass(frozen=True)
class LayeredLink:
    """From source values, tints of spot colours and a tag to raw amounts of ink.

    Attributes
    ----------
    base
        For all that is no picture, and for everything where nothing is tagged.
    spots
        In the order of their channels.
    pictures
        How the colours of pictures are converted; None where pixels carry no tag.
    """

    base: DeviceLink
    spots: tuple[SpotInk, ...] = ()
    pictures: LinkSettings | None = None

    @property
    def source_channels(self) -> int:
        """Channels of the page: process colours, spot colours, tag."""
        return self.base.source_channels + len(self.spots) + (self.pictures is not None)

    @property
    def mode(self) -> ModeInks:
        """What it is printed with."""
        return self.base.mode

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each."""
        return self.base.inks

    @property
    def settings(self) -> LinkSettings:
        """How colours are converted that are no part of a picture."""
        return self.base.settings

    @property
    def target(self) -> ProfileColour:
        """The mode's profile."""
        return self.base.target

    @cached_property
    def of_pictures(self) -> DeviceLink:
        """The conversion of pictures."""
        return self.base if self.pictures is None else replace(self.base, settings=self.pictures)

    @cached_property
    def printed_spots(self) -> tuple[SpotInk, ...]:
        """The spot colours with the job's nudge."""
        nudge = self.settings.nudge
        return tuple(nudged(ink, nudge, self.target, self.mode.channels) for ink in self.spots)

    def exact(self, values: Array) -> Array:
        """Raw amounts of ink (n, inks), fractions, for values (n, channels), fractions."""
        return self.mode.printed(self.device(values))

    def device(self, values: Array) -> Array:
        """What the mode's profile is asked for (n, channels), within its total ink, before curves."""
        made = self._chosen(values, DeviceLink.device)
        for ink, tint in self._tints(values):
            made = made + ink.device_of(tint)
        return self.mode.limited(made)

    def asked_lab(self, values: Array) -> Array:
        """Lab (n, 3) relative to the paper that is asked for; spot colours let through what is under them."""
        made = self._chosen(values, DeviceLink.asked_lab)
        for ink, tint in self._tints(values):
            inked = tint > 0
            if inked.any():
                made[inked] = xyz_to_lab(lab_to_xyz(made[inked]) * ink.through(tint[inked]))
        return made

    def _tints(self, values: Array) -> list[tuple[SpotInk, Array]]:
        k = self.base.source_channels
        return [(ink, values[:, k + i]) for i, ink in enumerate(self.printed_spots)]

    def _chosen(self, values: Array, act: Any) -> Array:
        base = values[:, : self.base.source_channels]
        if self.pictures is None or self.pictures == self.base.settings:
            return np.asarray(act(self.base, base))
        inside = values[:, -1] >= 0.5
        parts = [(link, chosen) for link, chosen in ((self.base, ~inside), (self.of_pictures, inside))]
        made = [(chosen, act(link, base[chosen])) for link, chosen in parts if chosen.any()]
        if len(made) == 1:
            return np.asarray(made[0][1])
        out = np.empty((len(base), made[0][1].shape[1]))
        for chosen, found in made:
            out[chosen] = found
        return out


AnyLink = DeviceLink | LayeredLink


def conversion_of(link: AnyLink) -> AnyConversion:
    """Whole pictures through a link."""
    plain = LayeredConversion(link) if isinstance(link, LayeredLink) else Conversion(link)
    return WithPlanes(plain) if link.mode.planes else plain


class LayeredConversion:
    """Pixels with spot colours and a tag to raw amounts of ink."""

    def __init__(self, link: LayeredLink) -> None:
        self.link = link
        mode = link.mode
        bare = ModeInks(mode.profile, None, (), mode.total) if link.spots else mode
        self._base = Conversion(replace(link.base, mode=bare))
        self._pictures = (
            Conversion(replace(link.of_pictures, mode=bare)) if link.pictures is not None else None
        )
        self._splits = share_tables(mode)
        steps = np.linspace(0.0, 1.0, 65536)[:, None].repeat(len(mode.channels), axis=1)
        curved = steps if mode.curves is None else mode.curves.apply(steps)
        self._curves = np.ascontiguousarray(np.round(curved.T * 65535.0).astype(np.uint16))
        black = mode.channels.index("K") if "K" in mode.channels else -1
        limited = mode.total is not None and mode.channels != tuple("RGB")
        self._total = (float(mode.total or 0.0) * 65535.0 if limited else np.inf, black)
        self._ramps = np.array([s.device * 65535.0 for s in link.printed_spots], dtype=np.float32)

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each."""
        return self.link.inks

    def convert(self, pixels: Pixels) -> Pixels:
        """Raw amounts (..., inks), 16 bits, for pixels (..., channels) of 8 or 16 bits; on all cores."""
        k, all_of = self.link.base.source_channels, self.link.source_channels
        if pixels.dtype not in (np.uint8, np.uint16) or pixels.shape[-1] != all_of:
            raise BadInput(
                f"{pixels.shape[-1]} channels of {pixels.dtype} came; {all_of} of 8 or 16 bits go in"
            )
        flat = pixels.reshape(-1, all_of)
        colours = np.ascontiguousarray(flat[:, :k])
        made = self._base.convert(colours)
        if self._pictures is not None:
            inside = flat[:, -1] > np.iinfo(flat.dtype).max // 2
            if inside.any():
                made[inside] = self._pictures.convert(colours[inside])
        if self.link.spots:
            made = self._with_spots(made, np.ascontiguousarray(flat[:, k : k + len(self.link.spots)]))
        return made.reshape(*pixels.shape[:-1], len(self.inks))

    def _with_spots(self, device: Pixels, tints: Pixels) -> Pixels:
        m = len(self.link.mode.channels)
        out = np.empty((len(device), len(self.inks)), dtype=np.uint16)
        step = np.float32((self._ramps.shape[1] - 1) / float(np.iinfo(tints.dtype).max))

        def part(start: int) -> None:
            span = slice(start, start + _PART)
            add_spots(device[span], tints[span], step, self._ramps, *self._total, self._curves, out[span, :m])
            share_out(out[span], self._splits)

        each(part, range(0, len(device), _PART))
        return out


@njit(cache=True, nogil=True)
def add_spots(device, tints, step, ramps, most, black, curves, out):  # type: ignore[no-untyped-def]
    """Device values (n, m) with the ink of tints (n, s), held to a sum, through curves (m, 65536)."""
    n, m = device.shape
    s = tints.shape[1]
    amounts = np.empty(m, dtype=np.float32)
    for row in range(n):
        inked = False
        for c in range(m):
            amounts[c] = np.float32(device[row, c])
        for i in range(s):
            if tints[row, i] > 0:
                inked = True
                at = np.float32(tints[row, i]) * step
                low = min(np.int32(at), np.int32(ramps.shape[1] - 2))
                share = at - np.float32(low)
                for c in range(m):
                    amounts[c] += ramps[i, low, c] + share * (ramps[i, low + 1, c] - ramps[i, low, c])
        if inked:
            total = np.float32(0.0)
            for c in range(m):
                amounts[c] = min(amounts[c], np.float32(65535.0))
                total += amounts[c]
            if total > most:
                held = min(amounts[black], np.float32(most)) if black >= 0 else np.float32(0.0)
                rest = total - (amounts[black] if black >= 0 else np.float32(0.0))
                less = (np.float32(most) - held) / max(rest, np.float32(1e-6))
                for c in range(m):
                    amounts[c] = held if c == black else amounts[c] * less
        for c in range(m):
            out[row, c] = curves[c, np.int32(amounts[c] + np.float32(0.5))]


class WithPlanes:
    """Pixels to raw amounts of ink, and of the inks that are planes of their own."""

    def __init__(self, colours: Conversion | LayeredConversion) -> None:
        self._colours, self.link = colours, colours.link

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each; planes of their own after the colours."""
        return (*self._colours.inks, *(p.channel for p in self.link.mode.planes))

    def convert(self, pixels: Pixels) -> Pixels:
        """Raw amounts (..., inks), 16 bits, for pixels (..., channels) of 8 or 16 bits."""
        made = self._colours.convert(pixels)
        inked = made.max(axis=-1) > 0
        more = [
            np.where(inked | plane.whole, round(65535.0 * plane.amount), 0).astype(np.uint16)
            for plane in self.link.mode.planes
        ]
        return np.concatenate([made, np.stack(more, axis=-1)], axis=-1)


AnyConversion = Conversion | LayeredConversion | WithPlanes
