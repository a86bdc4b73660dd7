"""How a channel is shared between inks of one pigment: light, medium and full, or two blacks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput


@dataclass(frozen=True)
class LightSplit:
    """Shares a channel between a light ink and its parent.

    Attributes
    ----------
    parent, light
        Channel names, such as ``C`` and ``LC``.
    reach
        Raw input of the parent that looks like the light ink at its limit, fraction.
    limit
        Raw input of the light ink at its limit, fraction.
    start, end
        Raw parent inputs between which the full ink takes over; below `start` only the light ink prints,
        above `end` only the full ink.
    """

    parent: str
    light: str
    reach: float
    limit: float
    start: float
    end: float

    def __post_init__(self) -> None:
        if not 0.02 <= self.reach <= 0.95:
            raise BadInput(
                f"{self.light} at its limit equals {100 * self.reach:.0f} % of {self.parent}; a "
                "split needs "
                "2 to 95 %"
            )
        if not 0.0 <= self.start < self.end <= 1.0:
            raise BadInput(
                f"the crossover of {self.parent} must rise from its start to its end inside 0..100 %"
            )
        if self.start > self.reach + 1e-9:
            raise BadInput(
                f"{self.light} reaches {100 * self.reach:.0f} % of {self.parent} only: start the "
                "crossover "
                "there or before"
            )
        most = float(self._light_share(np.linspace(0.0, 1.0, 2001)).max())
        if most > self.reach * 1.003:  # rounding of a form
            raise BadInput(
                f"between {100 * self.start:.0f} and {100 * self.end:.0f} % the crossover asks "
                f"{100 * most / self.reach:.0f} % of {self.light}: "
                "end it earlier, or start it earlier"
            )

    def apply(self, parent: npt.ArrayLike) -> tuple[Array, Array]:
        """Raw inputs (n,) of the light and of the full ink for raw parent inputs (n,).

        light * reach / limit + full = parent everywhere, so that the tone does not jump; the full
        ink joins along a quintic, which has no corner in slope or curvature.
        """
        value = np.clip(np.asarray(parent, dtype=float), 0.0, 1.0)
        light = self._light_share(value)
        return np.minimum(light / self.reach, 1.0) * self.limit, value - light

    def _light_share(self, value: Array) -> Array:
        t = np.clip((value - self.start) / (self.end - self.start), 0.0, 1.0)
        return np.asarray(value * (1.0 - t**3 * (10.0 - 15.0 * t + 6.0 * t**2)))

    def as_dict(self) -> dict[str, str | float]:
        """Plain values for JSON; fractions."""
        return asdict(self)


@dataclass(frozen=True)
class SecondBlack:
    """A second ink of about the same strength that joins its parent in dark tones.

    Attributes
    ----------
    parent, second
        Channel names, such as ``K`` and ``MK``.
    parent_limit
        Raw input of the parent at its limit, fraction.
    limit
        Raw input of the second ink at its limit, fraction.
    start
        Share of the parent's own range from which the second ink joins, rising to its limit with no corner in
        slope or curvature.
    """

    parent: str
    second: str
    parent_limit: float
    limit: float
    start: float = 0.5

    def __post_init__(self) -> None:
        if not 0.0 <= self.start <= 0.9:
            raise BadInput(
                f"{self.second} joins {self.parent} at 0 to 90 %, not at {100.0 * self.start:.0f} %"
            )
        for name, value in ((self.parent, self.parent_limit), (self.second, self.limit)):
            if not 0.05 <= value <= 1.0:
                raise BadInput(f"the limit of {name}, {100.0 * value:.0f} %, lies outside 5..100 %")

    @property
    def light(self) -> str:
        """The channel that is added, as a `LightSplit` calls it."""
        return self.second

    def apply(self, parent: npt.ArrayLike) -> tuple[Array, Array]:
        """Raw inputs (n,) of the second ink and of the parent for raw parent inputs (n,)."""
        value = np.clip(np.asarray(parent, dtype=float), 0.0, 1.0)
        t = np.clip((value / self.parent_limit - self.start) / (1.0 - self.start), 0.0, 1.0)
        rise = self.limit * t**3 * (10.0 - 15.0 * t + 6.0 * t**2)
        return np.where(rise > 1e-9, rise, 0.0), value

    def as_dict(self) -> dict[str, str | float]:
        """Plain values for JSON; fractions."""
        return asdict(self)


@dataclass(frozen=True)
class Alongside:
    """An ink that prints together with its parent, always in one share of it: films are more opaque so.

    Attributes
    ----------
    parent, alongside
        Channel names, such as ``K`` and ``Y``.
    share
        Raw input of the ink for each of the parent's, fraction.
    """

    parent: str
    alongside: str
    share: float

    def __post_init__(self) -> None:
        if not 0.0 <= self.share <= 1.0:
            raise BadInput(
                f"{self.alongside} prints with 0 to 100 % of {self.parent}, not {100.0 * self.share:.0f} %"
            )

    @property
    def light(self) -> str:
        """The channel that is added, as a `LightSplit` calls it."""
        return self.alongside

    def apply(self, parent: npt.ArrayLike) -> tuple[Array, Array]:
        """Raw inputs (n,) of the ink and of the parent for raw parent inputs (n,)."""
        value = np.clip(np.asarray(parent, dtype=float), 0.0, 1.0)
        return self.share * value, value

    def as_dict(self) -> dict[str, str | float]:
        """Plain values for JSON; fractions."""
        return asdict(self)


Split = LightSplit | SecondBlack | Alongside


def split_from(facts: Mapping[str, Any]) -> Split:
    """The split that `as_dict` gave; `BadInput` for one that the inks cannot carry."""
    if "alongside" in facts:
        return Alongside(**facts)
    return SecondBlack(**facts) if "second" in facts else LightSplit(**facts)


def strengths(splits: Sequence[Split]) -> dict[str, tuple[str, float]]:
    """By ink that a split gives: the process channel it stands in for, and the raw input of that (fraction)
    which looks like the ink at its limit; 1 for a second black.
    """
    out: dict[str, tuple[str, float]] = {}
    for split in splits:
        if not isinstance(split, LightSplit):
            out[split.light] = (split.parent, 1.0)
            continue
        above = out.get(split.parent)
        full = next((s.limit for s in splits if isinstance(s, LightSplit) and s.light == split.parent), 1.0)
        out[split.light] = (
            (split.parent, split.reach) if above is None else (above[0], above[1] * split.reach / full)
        )
    return out


def split_channels(raw: Array, channels: tuple[str, ...], splits: Sequence[Split]) -> Array:
    """Raw values (n, channels) of the parents -> (n, channels + further weights), these after the parents.

    Splits go in order, so that a medium ink that one gives may be the parent of the next. Raises `BadInput`
    for a split of an ink that is not there.
    """
    out = {c: raw[:, i] for i, c in enumerate(channels)}
    whole: dict[str, tuple[Split, Array]] = {}
    for split in splits:
        if split.parent not in out:
            raise BadInput(f"{split.light} shares with {split.parent}, which is not printed here")
        before = out[split.parent]
        light, full = split.apply(before)
        if split.parent in whole:
            # a medium ink falls again where the full one takes over: the lightest is no part of that
            first, value = whole[split.parent]
            rising = value <= _top_of(first)
            light, full = np.where(rising, light, 0.0), np.where(rising, full, before)
        whole[split.light] = (split, before)
        out[split.light], out[split.parent] = light, full
    return np.column_stack(list(out.values()))


def _top_of(split: Split) -> float:
    """Raw input of a split's parent at which its lighter ink prints the most."""
    value = np.linspace(0.0, 1.0, 4001)
    return float(value[int(split.apply(value)[0].argmax())])
