"""Separation: how much of the grey component black takes over, and within which ink."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput


@dataclass(frozen=True)
class Separation:
    """Black generation and ink limits; all fractions.

    Attributes
    ----------
    total_ink
        Largest sum of channels (3.0 = 300 %).
    black_start
        Darkness along the neutral axis, from white 0 to black 1, at which black begins.
    black_strength
        How soon black takes over: 0 late and thin, 1 early and heavy.
    max_black
        Largest black.
    width
        CIELAB chroma over which black fades out away from the neutral axis, relative to 28.
    limits
        Largest amount of single channels, such as ``(("C", 0.9),)``; others may go to 1.
    handover
        How readily inks beyond C, M, Y and K take over from pairs of C, M and Y: 0 only where those
        cannot reach a colour, 1 wherever they can.
    handovers
        The same for single inks, such as ``(("O", 0.8),)``; others as `handover` has it.
    from_chroma
        CIELAB chroma from which on further inks join.
    overprints
        Largest sums of inks that print together, such as ``((("C", "M"), 1.7),)``.
    """

    total_ink: float = 3.0
    black_start: float = 0.25
    black_strength: float = 0.5
    max_black: float = 1.0
    width: float = 1.0
    limits: tuple[tuple[str, float], ...] = ()
    handover: float = 0.5
    handovers: tuple[tuple[str, float], ...] = ()
    from_chroma: float = 8.0
    overprints: tuple[tuple[tuple[str, ...], float], ...] = ()

    def __post_init__(self) -> None:
        for name, low, high in (
            ("total_ink", 1.0, 8.0),
            ("black_start", 0.0, 0.95),
            ("black_strength", 0.0, 1.0),
            ("max_black", 0.0, 1.0),
            ("width", 0.1, 3.0),
            ("handover", 0.0, 1.0),
        ):
            value = getattr(self, name)
            if not low <= value <= high:
                raise BadInput(
                    f"{name.replace('_', ' ')} {100 * value:g} % lies outside {100 * low:g}..{100 * high:g} %"
                )
        if not 0.0 <= self.from_chroma <= 60.0:
            raise BadInput(f"further inks join from a chroma of 0 to 60 on, not {self.from_chroma:g}")
        for channel, value in self.handovers:
            if not 0.0 <= value <= 1.0:
                raise BadInput(f"the handover to {channel}, {100 * value:g} %, lies outside 0..100 %")
        for inks, value in self.overprints:
            if len(inks) < 2 or not 1.0 <= value <= float(len(inks)):
                raise BadInput(
                    f"{'+'.join(inks)} print together up to 100 to {100 * len(inks)} %, not {100 * value:g} %"
                )
        for channel, value in self.limits:
            if not 0.05 <= value <= 1.0:
                raise BadInput(f"the limit of {channel}, {100 * value:g} %, lies outside 5..100 %")

    def tops(self, channels: tuple[str, ...]) -> Array:
        """Largest amount (channels,) of each ink. Raises `BadInput` for limits of inks that are not there."""
        facts = dict(self.limits)
        foreign = sorted(set(facts) - set(channels))
        if foreign:
            raise BadInput(
                f"there is a limit for {foreign[0]}, but the inks are {' '.join(channels)}: name one of these"
            )
        top = np.array([facts.get(c, 1.0) for c in channels])
        black = black_of(channels)
        if black is not None:
            top[black] = min(top[black], self.max_black)
        return top

    def sums(self, channels: tuple[str, ...]) -> tuple[Array, Array]:
        """Which inks (k, channels) are held to a sum, and the sums (k,): total ink first, then overprints
        that it does not hold already. Raises `BadInput` for inks that are not there.
        """
        top = self.tops(channels)
        masks, most = [np.ones(len(channels))], [min(self.total_ink, float(len(channels)))]
        for inks, value in self.overprints:
            foreign = sorted(set(inks) - set(channels))
            if foreign:
                raise BadInput(
                    f"there is a limit for {'+'.join(inks)}, but the inks are {' '.join(channels)}"
                )
            mask = np.array([float(c in inks) for c in channels])
            if value < min(float(mask @ top), self.total_ink):
                masks.append(mask)
                most.append(value)
        return np.array(masks), np.array(most)

    def handover_of(self, channels: tuple[str, ...]) -> Array:
        """How readily each of `channels` takes over (n,), fractions."""
        own = dict(self.handovers)
        return np.array([own.get(c, self.handover) for c in channels])

    def black_aim(self, lightness: Array, chroma: Array, white: float, darkest: float) -> Array:
        """Black (n,) to aim at for absolute lightness and chroma (n,); the solver is drawn gently to it.

        Along the neutral axis a smooth power of darkness past the start; fading with chroma as a bell.
        """
        darkness = np.clip((white - lightness) / max(white - darkest, 1.0), 0.0, 1.0)
        rise = np.clip((darkness - self.black_start) / (1.0 - self.black_start), 0.0, 1.0)
        power = 3.2 - 2.2 * self.black_strength
        fade = np.exp(-0.5 * (chroma / (28.0 * self.width)) ** 2)
        return np.asarray(self.max_black * rise**power * (0.12 + 0.88 * fade))


def black_of(channels: tuple[str, ...]) -> int | None:
    """Which channel is a black beside coloured inks; None when none is."""
    return channels.index("K") if "K" in channels and len(channels) > 1 else None


@dataclass(frozen=True)
class Preset:
    """A separation for a usual need: what it is for, and how it differs from the ordinary one."""

    name: str
    title: str
    purpose: str
    changes: dict[str, float]

    def apply(self, to: Separation) -> Separation:
        """`to` with its black generation changed; its ink limits stay."""
        return replace(to, **self.changes)  # type: ignore[arg-type]


PRESETS = tuple(
    Preset(name, title, purpose, dict(zip(("black_start", "black_strength", "max_black", "width"), values)))
    for name, title, purpose, values in (
        (
            "even",
            "Even hand",
            "black shares the shadows with colour; a start for anything",
            (0.25, 0.5, 1.0, 1.0),
        ),
        (
            "thrift",
            "Least ink",
            "black comes early and wide, so that less ink dries on the sheet",
            (0.08, 0.9, 1.0, 1.8),
        ),
        (
            "keel",
            "Most stable grey",
            "black carries the greys, so that they hold when C, M or Y drift",
            (0.05, 0.95, 1.0, 0.6),
        ),
        (
            "fog",
            "Smooth photographs",
            "black comes late and thin, so that no black dot shows in light tones",
            (0.45, 0.3, 0.95, 1.2),
        ),
    )
)


def preset(name: str) -> Preset:
    """The preset called `name`; `BadInput` lists what there is."""
    for found in PRESETS:
        if found.name == name:
            return found
    raise BadInput(f"no separation preset called {name!r}; there are {', '.join(p.name for p in PRESETS)}")
