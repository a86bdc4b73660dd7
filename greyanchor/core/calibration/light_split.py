"""How a channel is shared between its light and its full ink."""

from __future__ import annotations

from dataclasses import dataclass

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
        return {
            "parent": self.parent,
            "light": self.light,
            "reach": self.reach,
            "limit": self.limit,
            "start": self.start,
            "end": self.end,
        }


def split_channels(raw: Array, channels: tuple[str, ...], splits: list[LightSplit]) -> Array:
    """Raw values (n, channels) of the parents -> (n, channels + light inks), light inks after the parents."""
    out = [raw.copy()]
    for split in splits:
        i = channels.index(split.parent)
        light, full = split.apply(raw[:, i])
        out[0][:, i] = full
        out.append(light[:, None])
    return np.hstack(out)
