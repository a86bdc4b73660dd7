"""Patches of a strip that are one ink alone: further inks by their own solids and tints, white over black.

A strip asks for an aim's colours, and a profile answers with the inks it likes; whether orange itself still
prints as it did is seen on orange alone. Tints are judged by SCTV (ISO 20654), solids by dE00 to what the
mode was characterized with.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.calibration.white import WhiteCheck, check_white
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

TINTS = (25, 50, 75, 100)
#: a solid may differ this much from what it was (dE00), and a tint from its tone value (percent)
SOLID_OFF, TONE_OFF = 3.0, 4.0
_NAME = re.compile(r"^(\S+) (\d+) % alone( on black)?$")


def names_of(channels: Sequence[str], white: str = "") -> list[str]:
    """Names of the patches: solids and tints of each ink beside C, M, Y and K, and of `white` over black."""
    out = [f"{c} {t} % alone" for c in channels if c not in "CMYK" for t in TINTS]
    if white and "K" in channels:
        over = [f"{white} {t} % alone on black" for t in (0, 50, 100)]
        out += [*over, f"{white} 0 % alone", f"{white} 100 % alone"]
    return out


def device_of(name: str, channels: Sequence[str]) -> Array:
    """Device values (channels,) of a patch by its name; `BadInput` for another name, or another ink."""
    found = _NAME.match(name)
    if not found or found[1] not in channels:
        raise BadInput(f"{name} is no patch of one ink of {' '.join(channels)}")
    device = np.zeros(len(channels))
    device[list(channels).index(found[1])] = int(found[2]) / 100.0
    if found[3]:
        device[list(channels).index("K")] = 1.0
    return device


def is_own(name: str) -> bool:
    """Whether a patch is one ink alone."""
    return bool(_NAME.match(name))


def apart(readings: ReadingSet) -> tuple[ReadingSet, ReadingSet | None]:
    """The strip without patches of single inks, and these; None where there are none."""
    own = np.array([is_own(n) for n in readings.names or ("",) * len(readings)], dtype=bool)
    if not own.any():
        return readings, None
    strip = readings.select(np.flatnonzero(~own))
    if strip.names is not None and not any(strip.names):
        strip = replace(strip, names=None)
    return strip, readings.select(np.flatnonzero(own))


def _tint(name: str) -> int:
    found = _NAME.match(name)
    return int(found[2]) if found else 0


@dataclass(frozen=True)
class OwnInk:
    """One further ink: dE00 of its solid, tone values less those asked for (percent, by tint), whether both
    hold, and `words`.
    """

    channel: str
    solid: float
    tones: dict[int, float]
    holds: bool
    words: str


@dataclass(frozen=True)
class OwnResult:
    """Further inks, and white where it was printed; `holds` is whether all of them do."""

    inks: tuple[OwnInk, ...]
    white: WhiteCheck | None

    @property
    def holds(self) -> bool:
        return all(i.holds for i in self.inks) and (self.white is None or self.white.holds)

    @property
    def failed(self) -> list[str]:
        """What does not hold, in words."""
        return [
            *(i.words for i in self.inks if not i.holds),
            *([self.white.words] if self.white is not None and not self.white.holds else []),
        ]


def check_own(
    own: ReadingSet,
    paper: Array,
    solids: dict[str, Array],
    white: tuple[str, float, Array] | None = None,
) -> OwnResult:
    """Hold patches of single inks to what they were.

    `paper` is XYZ (3,) of bare media on the same strip, `solids` Lab (3,) of each further ink as it was
    characterized, `white` the channel with opacity (percent) and Lab (3,) when it was accepted.
    """
    xyz, lab, names = own.xyz(), own.lab(), own.names or ()
    inks = []
    for channel, wanted in solids.items():
        at = {_tint(n): i for i, n in enumerate(names) if n.startswith(f"{channel} ")}
        if 100 not in at:
            continue
        solid = float(delta_e_2000(lab[at[100]][None], wanted[None])[0])
        # tints are judged on this paper, between it and the solid as it was
        end = lab_to_xyz(wanted[None])
        tones = {t: float(sctv(xyz[i][None], paper, end)[0]) - t for t, i in sorted(at.items()) if t < 100}
        worst = max(tones.values(), key=abs, default=0.0)
        holds = solid <= SOLID_OFF and abs(worst) <= TONE_OFF
        way = "heavier" if worst > 0 else "lighter"
        words = f"{channel} alone: solid {solid:.2f} dE00 off, tints up to {abs(worst):.1f} % {way}"
        inks.append(OwnInk(channel, solid, tones, holds, words))
    return OwnResult(tuple(inks), _white(own, white))


def _white(own: ReadingSet, white: tuple[str, float, Array] | None) -> WhiteCheck | None:
    if white is None:
        return None
    channel, opacity, lab = white
    mine = [i for i, n in enumerate(own.names or ()) if n.startswith(f"{channel} ")]
    if not mine:
        return None
    part = own.select(np.array(mine))
    device = np.array([device_of(n, ("K", channel)) for n in part.names or ()])
    return check_white(
        replace(part, channels=("K", channel), device=device, names=None), channel, opacity, lab
    )
