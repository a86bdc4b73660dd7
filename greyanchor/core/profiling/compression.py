"""Making room: how perceptual and saturation intents bring a source's colours into a printer's gamut.

Everything happens in JzAzBz, its ends already laid onto the printer's. Vivid colours first lean to the
lightness where the printer is vivid; then colours are drawn towards a point on the neutral axis, by no
more than it takes for the source gamut to fit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter, gaussian_filter1d, map_coordinates, maximum_filter

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.profiling.shell import ELEVATIONS, HUES, Shell, shell_of

#: hues (steps of a shell) that share a lean, and the most vivid colour (a share of the source's) that leans
_EVEN_HUES, _MOST_VIVID = 3.0, 1.2


@dataclass(frozen=True)
class Knee:
    """Compression towards the centre: straight up to `start` of the way to the surface, then bending.

    Where the source reaches `reach` times as far as the printer, its surface lands on the printer's.
    With `expands`, sources that reach less far are stretched to the printer's surface. Before that, vivid
    colours take `lean`, a share of the printer's `Lean`.
    """

    start: float
    lean: float = 0.0
    expands: bool = False

    def _parts(self, reach: Array) -> tuple[Array, Array, Array]:
        reach = np.asarray(reach, dtype=float)
        reach = np.maximum(reach, 0.55) if self.expands else np.maximum(reach, 1.0)
        start = self.start * np.minimum(reach, 1.0)
        return reach, start, 1.0 / (1.0 - start) - 1.0 / (reach - start)

    def compress(self, ratio: Array, reach: Array) -> Array:
        """Share of the printer's radius (n,), before to after, no more than 1; `reach` (n,) is how far
        the source goes.
        """
        reach, start, bend = self._parts(reach)
        t = np.clip(ratio, start, np.maximum(reach, start)) - start
        return np.where(ratio <= start, ratio, np.minimum(start + t / (1.0 + t * bend), 1.0))

    def expand(self, ratio: Array, reach: Array) -> Array:
        """Inverse of `compress` on 0..1, (n,) to (n,)."""
        reach, start, bend = self._parts(reach)
        s = np.clip(ratio, start, 1.0) - start
        return np.where(ratio <= start, ratio, start + s / np.maximum(1.0 - s * bend, 1e-6))


PERCEPTUAL = Knee(0.60, 0.8)
SATURATION = Knee(0.75, 1.0, expands=True)


@dataclass(frozen=True)
class Lean:
    """How vivid colours of a source are made darker or lighter, hue by hue.

    Where the source is most vivid in a lighter tone than the printer, as in greens and blues of a screen, its
    brightest colours would print paler than darker ones of the same hue. Leaned all the way, the most vivid
    colour of each hue lands at the lightness where the printer is most vivid; shades and tints go along,
    greys stay.

    Attributes
    ----------
    chroma
        JzAzBz chroma of the source's most vivid colour at hues evenly over 360 degrees, (HUES,).
    shift
        What is added to its lightness (HUES,).
    """

    chroma: Array
    shift: Array

    def applied(self, jab: Array, share: float) -> Array:
        """JzAzBz (n, 3) with `share` of the lean; a negative share takes it back."""
        at = np.degrees(np.arctan2(jab[:, 2], jab[:, 1])) % 360.0 / 360.0 * HUES
        chroma, shift = (
            map_coordinates(t, [at], order=3, mode="grid-wrap") for t in (self.chroma, self.shift)
        )
        vivid = np.minimum(np.hypot(jab[:, 1], jab[:, 2]) / chroma, _MOST_VIVID)
        out = jab.copy()
        out[:, 0] += share * shift * vivid**2
        return out


def _lean_of(printer: Shell, source: Shell) -> Lean:
    """The lean from the most vivid colours of `source` to those of `printer`, made even from hue to hue."""
    (light, _), (source_light, source_chroma) = printer.cusps(), source.cusps()
    shift, chroma = (
        gaussian_filter1d(row, _EVEN_HUES, mode="wrap") for row in (light - source_light, source_chroma)
    )
    return Lean(chroma, shift)


@dataclass(frozen=True)
class Compression:
    """One intent's way into the printer's gamut and back.

    Attributes
    ----------
    knee, lean
        How colours are drawn together, and how vivid ones lean before.
    room
        The printer's surface without its edges.
    reach
        How far the leaned source reaches, as a share of the room's radius, for each direction of `room`.
    """

    knee: Knee
    lean: Lean
    room: Shell
    reach: Array

    def into(self, jab: Array) -> Array:
        """What colours (n, 3) are printed as."""
        return self._radially(self.lean.applied(jab, self.knee.lean), self.knee.compress)

    def out_of(self, jab: Array) -> Array:
        """Inverse of `into` for printed colours (n, 3)."""
        return self.lean.applied(self._radially(jab, self.knee.expand), -self.knee.lean)

    def _radially(self, jab: Array, curve: Callable[[Array, Array], Array]) -> Array:
        distance, edge = self.room.along(jab)
        edge = np.maximum(edge, 1e-6)
        reach = self.room.look_up(self.reach, jab - self.room.centre)
        moved = curve(distance / edge, reach) * edge
        factor = np.where(distance > 1e-9, moved / np.maximum(distance, 1e-9), 1.0)
        return np.asarray(self.room.centre + (jab - self.room.centre) * factor[:, None])


def compression_of(knee: Knee, printer: Shell, points: Array, ends: tuple[float, float]) -> Compression:
    """The compression of a source, given by `points` (n, 3) of its surface, into a `printer`'s; `ends` are
    the lightnesses of black and white that both share.
    """
    room = printer.evened()
    lean = _lean_of(printer, shell_of(points, printer.centre, ends))
    leaned = shell_of(lean.applied(points, knee.lean), printer.centre, ends)
    return Compression(knee, lean, room, _reach_of(room, leaned))


def _reach_of(printer: Shell, source: Shell) -> Array:
    """How far `source` reaches as a share of `printer`'s radius, by direction, made even.

    A direction shares the compression of its neighbours: where it changed from one to the next, a shade
    running across would turn darker and lighter again. White and black stay where they are.

    Gives (n, m), the grid of both shells; 1 where they reach alike.
    """
    sharp = source.radius / np.maximum(printer.radius, 1e-6)
    wide = gaussian_filter(
        maximum_filter(sharp, (13, 9), mode=("nearest", "wrap")), (5, 4), mode=("nearest", "wrap")
    )
    elevation = np.abs(np.linspace(-90.0, 90.0, ELEVATIONS))
    share = np.clip((88.0 - elevation) / 22.0, 0.0, 1.0)[:, None]
    share = share * share * (3.0 - 2.0 * share)
    even = np.where(sharp < 1.0, np.minimum(sharp, 1.0), 1.0) * (1.0 - share) + wide * share
    return np.asarray(np.maximum(sharp, even))
